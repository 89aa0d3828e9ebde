"""Species dissolved in the water, on a flow."""

from inkhorn.transport.dispersion import Dispersion, numerical_spreading
from inkhorn.transport.mixing import Mix, mixes_of
from inkhorn.transport.solve import (
    TransportResult,
    lacking_concentration,
    refuse_long_transport,
    solve_transport,
)

__all__ = [
    "Dispersion",
    "Mix",
    "TransportResult",
    "lacking_concentration",
    "mixes_of",
    "numerical_spreading",
    "refuse_long_transport",
    "solve_transport",
]
