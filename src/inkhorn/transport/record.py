"""What a transport leaves of each time that is kept, and where records go."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "DECAY",
    "EDGE",
    "JUMP",
    "OWN",
    "PRESSED",
    "PRODUCTION",
    "STORES",
    "PlumeRecord",
    "PlumeRecords",
    "PlumeStore",
]

Array = NDArray[np.float64]

STORES = ("dissolved", "sorbed", "held back above the water table", "in immobile water", "in conduits")
"""Where mass is, in the order of `PlumeRecord.stored`."""


PRESSED, JUMP, DECAY = ("water pressed together", ""), ("levels that jump", ""), ("decay", "")
PRODUCTION, EDGE = ("production", ""), ("edge of the transport", "")
OWN = (PRESSED, JUMP, DECAY, PRODUCTION, EDGE)
"""What brings mass in or takes it out that is no feature."""


@dataclass(frozen=True, eq=False)
class PlumeRecord:
    """A species at one time, and where its mass went since the beginning.

    Attributes
    ----------
    time : float
        Since the start [day].
    concentration : ndarray of float, (n_cells,)
        In the water [g/m³].
    retained : ndarray of float, (n_cells,)
        Mass held back above the water table, as water or sorbed [g]; empty where there is none.
    immobile : ndarray of float, (n_cells,)
        Mass in water that does not move [g]; empty where there is none.
    water : ndarray of float, (n_cells,)
        In the pores [m³].
    stored : ndarray of float, (5,)
        Mass in each of `STORES` [g].
    gained, lost : ndarray of float, (n_keys,)
        Mass since the beginning, by the keys of the result [g].
    across : ndarray of float, (n_faces,)
        Mean flow of mass across each face since the record before [g/day]; empty where not kept.
    rim : ndarray of float, (n_outer_faces,)
        The same into the grid through each outer face.
    first_above, last_above : ndarray of float, (n_cells,)
        When the limit was first passed, and when it was last fallen below again [day]; infinite for not yet. Empty where
        there is no limit.
    conduits : ndarray of float
        The parcels of water in conduits, as `inkhorn.conduits.PipeWater.packed` has them; empty where there are none.
    step_length : float
        Of the last step [day].
    watch_times : ndarray of float, (k,)
        Ends of the steps since the record before [day].
    watched : ndarray of float, (k, n_places)
        Concentrations at the places of the result at those [g/m³], NaN where there is no water.
    """

    time: float
    concentration: Array
    retained: Array
    immobile: Array
    water: Array
    stored: Array
    gained: Array
    lost: Array
    across: Array = field(repr=False, default_factory=lambda: np.empty(0))
    rim: Array = field(repr=False, default_factory=lambda: np.empty(0))
    first_above: Array = field(repr=False, default_factory=lambda: np.empty(0))
    last_above: Array = field(repr=False, default_factory=lambda: np.empty(0))
    conduits: Array = field(repr=False, default_factory=lambda: np.empty(0))
    step_length: float = 0.0
    watch_times: Array = field(repr=False, default_factory=lambda: np.empty(0))
    watched: Array = field(repr=False, default_factory=lambda: np.empty((0, 0)))

    def __repr__(self) -> str:
        return f"PlumeRecord(day {self.time:g}, {len(self.concentration)} cells)"


class PlumeRecords(Protocol):
    """Records, one after the other."""

    def __len__(self) -> int: ...

    def __getitem__(self, index: int, /) -> PlumeRecord: ...

    def __iter__(self) -> Iterator[PlumeRecord]: ...


class PlumeStore(PlumeRecords, Protocol):
    """Where records go as they are made.

    One with a method `begin` is told the keys, the places and the date of day 0 of the result before the first record.
    """

    def append(self, record: PlumeRecord, /) -> None:
        """Add a record after the last."""
