"""What the room needs of a run."""

from typing import Protocol

from inkstamp.jobs.orders.context import OrdersContext


class PortalContext(OrdersContext, Protocol):
    """The parts of a run that orders at a portal work with: those of ACME orders, which are cancelled there."""
