"""What the room needs of a run."""

from typing import Protocol

from inkstamp.jobs.lifecycle.context import LifecycleContext


class EnrolmentContext(LifecycleContext, Protocol):
    """The parts of a run that enrolment works with: those of a certificate's whole life."""
