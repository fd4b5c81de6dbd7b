"""What the room needs of a run, where it does not need all of it."""

from typing import Protocol

from inkstamp.parts import WithClock, WithConfiguration, WithHome, WithLedger, WithServers


class TimerContext(WithClock, WithConfiguration, WithHome, WithLedger, WithServers, Protocol):
    """The parts of a run that putting a timer in place works with."""
