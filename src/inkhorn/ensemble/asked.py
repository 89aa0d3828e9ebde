"""What each run is followed by: what is dissolved, and paths."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from inkhorn.errors import InputError
from inkhorn.flow import FlowResult
from inkhorn.paths import PathResult, trace
from inkhorn.site import Species
from inkhorn.transport import TransportResult, solve_transport

__all__ = ["Carry", "Follow", "Outcome"]


@dataclass(frozen=True, eq=False)
class Carry:
    """Species that the flow of each run carries.

    Parameters
    ----------
    species : Species or sequence of Species
    options : mapping
        What `solve_transport` takes beside flow and species: ``{"duration": 3650.0, "dispersion": Dispersion(10, 1)}``.
    """

    species: Any
    options: Mapping[str, Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        given = (self.species,) if isinstance(self.species, Species) else tuple(self.species)
        object.__setattr__(self, "species", given)
        beyond = {"store", "go_on_from", "progress"} & set(self.options)
        if beyond:
            raise InputError(f"{sorted(beyond)} are not of what many runs carry. Leave them out.")

    def solved(self, flow: FlowResult) -> dict[str, TransportResult]:
        """Return the results by species."""
        found: dict[str, TransportResult] = solve_transport(flow, self.species, **self.options)
        return found


@dataclass(frozen=True, eq=False)
class Follow:
    """Paths that are followed in the flow of each run.

    Parameters
    ----------
    start : any
        As of `trace`; or a function of the flow that returns it, if `of_flow`.
    options : mapping
        What `trace` takes beside flow and start: ``{"backward": True, "max_time": 3650.0}``.
    name : str
        What they are called, of several.
    of_flow : bool
        Whether `start` is a function of the flow, as of starts in an area.
    """

    start: Any
    options: Mapping[str, Any] = field(default_factory=dict)
    name: str = ""
    of_flow: bool = False

    def solved(self, flow: FlowResult) -> PathResult:
        """Return the paths."""
        return trace(flow, self.start(flow) if self.of_flow else self.start, **self.options)


@dataclass(frozen=True, eq=False)
class Outcome:
    """What one run came to.

    Attributes
    ----------
    flow : FlowResult
    plumes : mapping of str to TransportResult
        By species.
    paths : mapping of str to PathResult
        By name.
    """

    flow: FlowResult
    plumes: Mapping[str, TransportResult]
    paths: Mapping[str, PathResult]
