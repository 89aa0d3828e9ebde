"""How sure an answer is: many runs with inputs drawn by chance, and what they say together."""

from inkhorn.ensemble.asked import Carry, Follow, Outcome
from inkhorn.ensemble.crews import Crew, DaskCluster, Executors, Here, LocalProcesses
from inkhorn.ensemble.distributions import Distribution, LogNormal, Normal, Triangular, Uniform
from inkhorn.ensemble.maps import MapStatistics, WatchMap
from inkhorn.ensemble.moments import first_order
from inkhorn.ensemble.monte_carlo import Settle, vary
from inkhorn.ensemble.result import Ensemble
from inkhorn.ensemble.sampling import SAMPLINGS, Shares
from inkhorn.ensemble.state import EnsembleState
from inkhorn.ensemble.statistics import QUANTILES, STATISTICS, statistics_of
from inkhorn.ensemble.varied import Fitted, Varied, VariedSet
from inkhorn.ensemble.watched import Watch

__all__ = [
    "QUANTILES",
    "SAMPLINGS",
    "STATISTICS",
    "Carry",
    "Crew",
    "DaskCluster",
    "Distribution",
    "Ensemble",
    "EnsembleState",
    "Executors",
    "Fitted",
    "Follow",
    "Here",
    "LocalProcesses",
    "LogNormal",
    "MapStatistics",
    "Normal",
    "Outcome",
    "Settle",
    "Shares",
    "Triangular",
    "Uniform",
    "Varied",
    "VariedSet",
    "Watch",
    "WatchMap",
    "first_order",
    "statistics_of",
    "vary",
]
