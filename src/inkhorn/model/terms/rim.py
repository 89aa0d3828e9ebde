"""What a larger model says at the rim of a smaller one."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from inkhorn.model.terms.base import entry_input
from inkhorn.model.terms.boundaries import FixedHeadTerm
from inkhorn.model.terms.sources import GivenFlowTerm

__all__ = ["RimFlowTerm", "RimHeadTerm"]


@dataclass(frozen=True, eq=False, kw_only=True)
class RimHeadTerm(FixedHeadTerm):
    """Heads on outer faces, as a region has them there; see `FixedHeadTerm`."""

    head: Any = entry_input("elevation")  # wherever the region's water stands
    kind: ClassVar[str] = "rim head"
    usual_crossing: ClassVar[str] = "side"


@dataclass(frozen=True, eq=False, kw_only=True)
class RimFlowTerm(GivenFlowTerm):
    """Flows through outer faces, as a region has them there; see `GivenFlowTerm`."""

    kind: ClassVar[str] = "rim flow"
