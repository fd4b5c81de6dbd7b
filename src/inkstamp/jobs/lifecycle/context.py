"""What the room needs of a run."""

from typing import Protocol

from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.portal.context import PortalContext


class LifecycleContext(PortalContext, DeploymentContext, ChecksContext, Protocol):
    """The parts of a run that a certificate's whole life needs: those of orders, deployment and checks."""
