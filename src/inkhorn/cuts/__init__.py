"""Local models cut out of a region."""

from inkhorn.cuts.agreement import Agreement
from inkhorn.cuts.cut import Cut, cut
from inkhorn.cuts.rim import Stretch, propose_rim

__all__ = ["Agreement", "Cut", "Stretch", "cut", "propose_rim"]
