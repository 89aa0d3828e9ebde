"""Sparse linear systems; knows no physics."""

from inkhorn.linear.apart import BALANCES as BALANCES
from inkhorn.linear.columns import Columns as Columns
from inkhorn.linear.condensed import CondensedSystem as CondensedSystem
from inkhorn.linear.condensed import linear_system as linear_system
from inkhorn.linear.system import LinearSystem as LinearSystem

__all__ = ["BALANCES", "Columns", "CondensedSystem", "LinearSystem", "linear_system"]
