"""Sparse linear systems; knows no physics."""

from inkhorn.linear.columns import Columns as Columns
from inkhorn.linear.system import LinearSystem as LinearSystem

__all__ = ["Columns", "LinearSystem"]
