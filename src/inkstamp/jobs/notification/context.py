"""What the room needs of a run."""

from typing import Protocol

from inkstamp.jobs.status.context import StatusContext
from inkstamp.parts import WithProgress


class NotificationContext(WithProgress, StatusContext, Protocol):
    """The parts of a run that notification works with: those that tell the state of certificates, and the progress."""
