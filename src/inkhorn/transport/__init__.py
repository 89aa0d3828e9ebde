"""Species dissolved in the water, on a flow."""

from inkhorn.transport.dispersion import Dispersion
from inkhorn.transport.solve import TransportResult, refuse_long_transport, solve_transport

__all__ = ["Dispersion", "TransportResult", "refuse_long_transport", "solve_transport"]
