"""Sparse linear systems; knows no physics."""

from inkhorn.linear.balances import Balances as Balances
from inkhorn.linear.columns import Columns as Columns
from inkhorn.linear.condensed import CondensedSystem as CondensedSystem
from inkhorn.linear.condensed import linear_system as linear_system
from inkhorn.linear.system import LinearSystem as LinearSystem

__all__ = ["Balances", "Columns", "CondensedSystem", "LinearSystem", "linear_system"]
