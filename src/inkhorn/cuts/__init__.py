"""Local models cut out of a region."""

from inkhorn.cuts.agreement import Agreement
from inkhorn.cuts.cut import Cut, cut, recut
from inkhorn.cuts.outline import outline_along_flow
from inkhorn.cuts.rim import Stretch, propose_rim

__all__ = ["Agreement", "Cut", "Stretch", "cut", "outline_along_flow", "propose_rim", "recut"]
