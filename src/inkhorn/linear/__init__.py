"""Sparse linear systems; knows no physics."""

from inkhorn.linear.system import LinearSystem

__all__ = ["LinearSystem"]
