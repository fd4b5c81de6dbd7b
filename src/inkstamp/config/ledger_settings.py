"""What `inkstamp.toml` can say of a ledger that machines share, and of the machine that reads it."""

from typing import Literal

from inkstamp.config.section import Section


class LedgerSettings(Section, frozen=True):
    """`[ledger]`: a ledger that several machines share; left out, it is a file in the data directory."""

    database: str = ""
    """URL of the PostgreSQL database, as libpq has it, without a password; empty for the file."""
    password_file: str = ""
    """File with the password; empty where there is none, as with a client certificate in the URL."""
    seal_key_file: str = ""
    """File with the keys that private files are sealed with before they reach the database."""
    seal_program: tuple[str, ...] = ()
    """A program that wraps such keys (docs/fleet.md)."""
    seal_with: Literal["program", "file"] = "program"
    """Which of them seals, where both are named; what was sealed with the other is opened with that."""
    workers: tuple[str, ...] = ()
    """The machines that order certificates, each by a name in which `*` stands for anything; empty for all. The others
    are nodes: they install on their own servers alone."""
    lease_seconds: float = 60.0
    """How long what a machine was at is left to it when it gives no sign of life: one that died, or was cut off."""
    away_hours: float = 26.0
    """After how many hours without a sign of life a machine counts as away."""


class MachineSettings(Section, frozen=True):
    """`[machine]`: this machine, where several share a ledger."""

    name: str = ""
    """Its name; empty for the host's."""
