"""Species dissolved in the water, on a flow."""

from inkhorn.transport.dispersion import Dispersion, numerical_spreading
from inkhorn.transport.holding import ImmobileWater
from inkhorn.transport.inflow import lacking_concentration
from inkhorn.transport.mixing import Mix, mixes_of
from inkhorn.transport.record import STORES, PlumeRecord, PlumeStore
from inkhorn.transport.result import TransportResult
from inkhorn.transport.solve import METHODS, refuse_long_transport, refuse_what_lacks, solve_transport

__all__ = [
    "METHODS",
    "STORES",
    "Dispersion",
    "ImmobileWater",
    "Mix",
    "PlumeRecord",
    "PlumeStore",
    "TransportResult",
    "lacking_concentration",
    "mixes_of",
    "numerical_spreading",
    "refuse_long_transport",
    "refuse_what_lacks",
    "solve_transport",
]
