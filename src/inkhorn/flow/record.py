"""What a run leaves of each step, what it begins with, and where records go."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from inkhorn.flow.report import SolverReport

__all__ = ["HEADS_TO_BEGIN_WITH", "FlowStart", "FlowStep", "Records", "StepStore"]

HEADS_TO_BEGIN_WITH = "heads to begin with"  # as a part of a fingerprint


@dataclass(frozen=True, eq=False)
class FlowStart:
    """What a run begins with.

    Attributes
    ----------
    heads : ndarray of float, (n_cells,)
        Fixed ones as given [m].
    extra_unknowns : ndarray of float, (n_extra,)
        Own unknowns of the terms, which tell something only where the first period is not steady.
    state : tuple of ndarray of float, (n_state,)
        Of each term.
    made_of : mapping of str to str
        The fingerprint of the model, and of these heads where the first period is not steady.
    """

    heads: NDArray[np.float64]
    extra_unknowns: NDArray[np.float64]
    state: tuple[NDArray[np.float64], ...]
    made_of: Mapping[str, str] = field(repr=False, default_factory=dict)

    def __repr__(self) -> str:
        return f"FlowStart({len(self.heads)} cells, {len(self.extra_unknowns)} extra unknowns)"


@dataclass(frozen=True, eq=False)
class FlowStep:
    """One step: heads at its end, and mean flows over it that balance in every cell.

    Attributes
    ----------
    begin, end : float
        Since the beginning [day]; a steady period has its own, flow without a schedule has 0 for both.
    steady : bool
        Whether nothing is stored.
    heads : ndarray of float, (n_cells,)
        [m].
    extra_unknowns : ndarray of float, (n_extra,)
        Own unknowns of the terms, such as the levels in wells.
    face_flow : ndarray of float, (n_faces,)
        From first to second cell [m³/day].
    term_flow : tuple of ndarray of float, (n_entries,)
        Of each term, positive into the cell [m³/day].
    storage_change : ndarray of float, (n_cells,)
        Water taken into storage [m³/day].
    drainage : ndarray of float, (n_cells,)
        The part of it that fills pores at the water table, or drains them; the rest is stored by pressure.
    extra_storage : ndarray of float, (n_extra,)
        Water taken into storage by extra unknowns of the terms [m³/day].
    outside : tuple of ndarray of float, (n_names, n_extra)
        Of each term, what comes into its extra unknowns from outside, by its `outside_names` [m³/day].
    link_flow : tuple of ndarray of float, (n_links,)
        Of each term, from the first to the second extra unknown of each of its links [m³/day].
    state : tuple of ndarray of float, (n_state,)
        Of each term, at the step's end.
    period : int
        Of the schedule; the last, of several that a record joins.
    order : int
        Of the scheme that made the step.
    joins : int
        Steps that were taken; of several, flows are means.
    next_step : float
        How long a step is to be tried next [day], where the next is not one of the schedule; else 0.
    slope : ndarray of float, (n_cells,)
        How fast heads changed in the step [m/day], where the next is judged by it; else empty.
    report : SolverReport
        How it was solved.
    made_of : mapping of str to str
        The fingerprint of the model, as `inkhorn.model.fingerprint` makes it; empty where none was asked for.
    """

    begin: float
    end: float
    steady: bool
    heads: NDArray[np.float64]
    extra_unknowns: NDArray[np.float64]
    face_flow: NDArray[np.float64]
    term_flow: tuple[NDArray[np.float64], ...]
    storage_change: NDArray[np.float64]
    drainage: NDArray[np.float64]
    extra_storage: NDArray[np.float64]
    outside: tuple[NDArray[np.float64], ...]
    link_flow: tuple[NDArray[np.float64], ...]
    state: tuple[NDArray[np.float64], ...]
    period: int = 0
    order: int = 1
    joins: int = 1
    next_step: float = 0.0
    slope: NDArray[np.float64] = field(repr=False, default_factory=lambda: np.empty(0))
    report: SolverReport = field(repr=False, default_factory=SolverReport)
    made_of: Mapping[str, str] = field(repr=False, default_factory=dict)

    def __repr__(self) -> str:
        how = "steady" if self.steady else self.words or "one step"
        return f"FlowStep({self.begin:g} to {self.end:g} days, {how}, {len(self.heads)} cells)"

    @property
    def words(self) -> str:
        """Say what its flows are, where they are not those of one step."""
        return f"means over {self.joins} steps" if self.joins > 1 else ""


class Records(Protocol):
    """Records of steps, one after the other."""

    def __len__(self) -> int: ...

    def __getitem__(self, index: int, /) -> FlowStep: ...

    def __iter__(self) -> Iterator[FlowStep]: ...


class StepStore(Records, Protocol):
    """Where records of steps go as they are made.

    One with a method `begin` is given the `FlowStart` of the run before the first record; its `start` gives it back.
    """

    def append(self, record: FlowStep, /) -> None:
        """Add a record after the last."""
