"""Machines that share a ledger: which servers each of them has, and what the file must say for it."""

import re
import socket
from collections.abc import Sequence
from fnmatch import fnmatchcase
from pathlib import Path

import msgspec

from inkstamp.config.ledger_settings import LedgerSettings, MachineSettings
from inkstamp.config.model import Certificate, Configuration, Server
from inkstamp.config.server_rules import Fault
from inkstamp.errors import UsageError

_NAME = re.compile(r"[a-z0-9]([a-z0-9.-]{0,251}[a-z0-9])?")
_PATTERN = re.compile(r"[a-z0-9*]([a-z0-9.*-]{0,251}[a-z0-9*])?")
_MOST_MINUTES = 7 * 24 * 60
_FILE_METHODS = frozenset({"http-01", "file"})


def not_shared(config_file: Path) -> UsageError:
    """Return the error for what only machines can do that share a ledger."""
    return UsageError(
        "the ledger is a file of this machine alone", where=str(config_file),
        advice='to share one, write there: [ledger] database = "postgresql://…" (docs/fleet.md)',
    )  # fmt: skip


def machine_name(config: Configuration) -> str:
    """Return this machine's name, as the others know it."""
    return config.machine.name or socket.gethostname().lower()


def is_local(entry: Server) -> bool:
    """Tell whether a server is on the machines that have it, and not reached from any of them."""
    return not entry.reach and entry.kind != "balancer"


def is_here(config: Configuration, server: str) -> bool:
    """Tell whether a server is on this machine, so that no other changes it: by its name."""
    entry = config.server.get(server)
    if entry is None or not is_local(entry):
        return False
    return not config.ledger.database or has_server(entry, machine_name(config))


def has_server(entry: Server, machine: str) -> bool:
    """Tell whether a machine has a server that is on the machines of its entry."""
    return any(fnmatchcase(machine, each) for each in entry.machines)


def servers_on(config: Configuration, install: Sequence[str], machine: str) -> tuple[str, ...]:
    """Return those of the servers in an `install` that are on a machine."""
    known = config.server
    return tuple(
        each for each in install if each in known and is_local(known[each]) and has_server(known[each], machine)
    )


def is_worker(config: Configuration) -> bool:
    """Tell whether this machine orders certificates."""
    workers = config.ledger.workers
    return not workers or any(fnmatchcase(machine_name(config), each) for each in workers)


def for_this_machine(config: Configuration) -> Configuration:
    """Return what a configuration that is shared means here: certificates are installed on what this machine changes.

    Those are the servers on it and, where it orders, those that are reached from anywhere.
    """
    if not config.ledger.database:
        return config
    config = msgspec.structs.replace(config, orders=is_worker(config))
    return msgspec.structs.replace(
        config,
        certificate={name: installed_here(config, each) for name, each in config.certificate.items()},
        group={name: installed_here(config, each) for name, each in config.group.items()},
    )


def installed_here(config: Configuration, entry: Certificate) -> Certificate:
    """Return an entry whose `install` has what this machine changes."""
    if not config.ledger.database:
        return entry
    known = config.server
    local = {each for each in entry.install if each in known and is_local(known[each])}
    machine = machine_name(config)
    kept = tuple(
        each for each in entry.install
        if (each in local and has_server(known[each], machine)) or (each not in local and config.orders)
    )  # fmt: skip
    return entry if kept == entry.install else msgspec.structs.replace(entry, install=kept)


def ledger_fault(ledger: LedgerSettings) -> Fault | None:
    """Return what is wrong with `[ledger]`."""
    if not ledger.database:
        stray = next((each for each in ledger.given() if each not in {"away_hours", "lease_seconds"}), "")
        return Fault(f"“{stray}” goes with “database”", (stray,), 'add database = "postgresql://…"') if stray else None
    if not ledger.database.startswith(("postgresql://", "postgres://")):
        return Fault("“database” is no URL of a PostgreSQL database", ("database",),
                     'write database = "postgresql://inkstamp@db-a.example/inkstamp"')  # fmt: skip
    if not ledger.seal_key_file and not ledger.seal_program:
        return Fault(
            "[ledger] needs “seal_key_file” or “seal_program”", ("database",),
            "name a file of mode 0600 with a line “ID BASE64”; for the key: openssl rand -base64 32",
        )  # fmt: skip
    wrong = next((each for each in ledger.workers if not _PATTERN.fullmatch(each)), None)
    if wrong is not None:
        return Fault(f"“{wrong}” names no machines", ("workers",), 'write names, with * for anything: ["ops*"]')
    for key, least, most in (("lease_seconds", 5, 600), ("away_hours", 0.1, 24 * 366)):
        if not least <= getattr(ledger, key) <= most:
            return Fault(f"“{key}” cannot be that", (key,), f"write a number between {least} and {most}")
    return None


def machine_fault(machine: MachineSettings) -> Fault | None:
    """Return what is wrong with `[machine]`."""
    if machine.name and not _NAME.fullmatch(machine.name):
        return Fault(f"“{machine.name}” cannot be the name of a machine", ("name",),
                     "use lower-case letters, digits, hyphens and dots")  # fmt: skip
    return None


def server_machines_fault(name: str, entry: Server, ledger: LedgerSettings) -> Fault | None:
    """Return what is wrong with where a server is."""
    wrong = next((each for each in entry.machines if not _PATTERN.fullmatch(each)), None)
    if wrong is not None:
        return Fault(f"“{wrong}” names no machines", ("machines",), 'write names, with * for anything: ["web*"]')
    if entry.machines and not is_local(entry):
        return Fault(f"[server.{name}] is reached from other machines, and is on none of “machines”", ("machines",),
                     "remove that line")  # fmt: skip
    if entry.machines and not ledger.database:
        return Fault("“machines” goes with a shared ledger", ("machines",), "remove the line, or add [ledger]")
    if ledger.database and is_local(entry) and not entry.machines:
        return Fault(f"the ledger is shared, and [server.{name}] does not say on which machines it is", ("kind",),
                     'add machines = ["web*"], or the name of the one that has it')  # fmt: skip
    return None


def via_fault(entry: Certificate, whole: Configuration) -> Fault | None:
    """Return what is wrong with `via` where the machine that orders may be another than those that are asked."""
    if not whole.ledger.database or not _FILE_METHODS.intersection(entry.methods):
        return None
    for each in entry.carriers:
        server = whole.server.get(each)
        if server is not None and is_local(server) and not server.standing:
            return Fault(
                f"any machine may order this certificate, and files for “{each}” could be placed on its own alone",
                ("via",), f"run `inkstamp prove --standing {each}` on each of them and write standing = true under"
                f" [server.{each}]; or validate by dns-01",
            )  # fmt: skip
    return None


def rollout_fault(entry: Certificate, whole: Configuration) -> Fault | None:
    """Return what is wrong with the steps in which an edition is rolled out."""
    if not entry.rollout:
        return Fault("“rollout_wait_minutes” goes with “rollout”", ("rollout_wait_minutes",),
                     'remove it, or add rollout = ["web1", 10]') if entry.rollout_wait_minutes else None  # fmt: skip
    if not whole.ledger.database or not whole.ledger.workers:
        return Fault("“rollout” is for machines that install what others order", ("rollout",),
                     'say who orders: workers = ["ops*"] under [ledger]; or remove it')  # fmt: skip
    for each in entry.rollout:
        if isinstance(each, int) and each < 1:
            return Fault("a step of “rollout” has no machine", ("rollout",), "write how many machines are next")
        if isinstance(each, str) and not _PATTERN.fullmatch(each):
            return Fault(f"“{each}” names no machines", ("rollout",), 'write names, with * for anything: ["web1", 10]')
    if not 0 <= entry.rollout_wait_minutes <= _MOST_MINUTES:
        return Fault("“rollout_wait_minutes” cannot be that", ("rollout_wait_minutes",),
                     f"write minutes, from 0 to {_MOST_MINUTES} (a week)")  # fmt: skip
    return None
