"""Species dissolved in the water, on a flow."""

from inkhorn.transport.solve import TransportResult, solve_transport
from inkhorn.transport.spreading import Spreading

__all__ = ["Spreading", "TransportResult", "solve_transport"]
