"""Put a timer in place that runs `renew`, show it, take it away."""

import os
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.config.carrying import is_away
from inkstamp.config.server_kinds import KINDS
from inkstamp.errors import ServerTrouble, UsageError
from inkstamp.files import file_trouble, read_bytes, write_bytes
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.renewal.timer_units import CRON, SERVICE, TIMER, Errand, cron_text, service_text, timer_text
from inkstamp.ledger.run_summary import LastSweep, cut_off, last_sweep
from inkstamp.reach.local import LocalHost, find_program

if TYPE_CHECKING:
    from inkstamp.runtime import Runtime

_CRON_FOLDER = Path("/etc/cron.d")
_CRON_DAEMONS = frozenset({"cron", "crond", "fcron", "busybox"})
_SYSTEM_UNITS = Path("/etc/systemd/system")
_RUNNING_SYSTEMD = Path("/run/systemd/system")
_SECONDS = 30.0
_OVERDUE = timedelta(hours=30)
"""It runs twice a day; after this something keeps it from running."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Schedule:
    """The timer's files, and what became of it."""

    files: tuple[tuple[str, str], ...]
    """Path and text, in the order in which they are put in place."""
    there: bool
    """Whether all of them stand in their places with just that text."""
    last: LastSweep | None
    """The last run of `renew` for all certificates, by the timer or by hand."""
    findings: tuple[Finding, ...]


def schedule(runtime: "Runtime", program: str, *, cron: bool, into: Path | None) -> Schedule:
    """Say what a timer here would consist of, and how the one that is there fares; changes nothing.

    Args:
        runtime: The parts of the run.
        program: Absolute path of `inkstamp`.
        cron: Whether cron is wanted where systemd is there.
        into: Another folder for the files, which nothing is started from.

    """
    files = _files(runtime, program, cron=cron, into=into)
    present = [_text_at(path) for path, _ in files]
    there = present == [text for _, text in files]
    last = last_sweep(runtime.home)
    findings = [_state(files, present, there=there), _last(last, runtime.clock.now(), there=there)]
    begun = cut_off(runtime.home)
    if begun is not None:
        seen = f"the run that began {begun:%Y-%m-%d %H:%M} UTC was interrupted"
        findings.append(bad("cut off", "renew", seen, "see the journal of the timer's unit; the next run continues"))
    return Schedule(files=tuple((str(path), text) for path, text in files), there=there, last=last,
                    findings=tuple(findings))  # fmt: skip


def put(runtime: "Runtime", program: str, *, cron: bool, into: Path | None) -> Schedule:
    """Put the timer's files in place and start it; doing so again brings them up to date.

    Raises:
        FileTrouble: A file cannot be written.
        ServerTrouble: systemd rejects the timer; the files stay for a look.
        UsageError: Cron's entries are root's alone.

    """
    if cron and into is None and os.geteuid() != 0:
        raise UsageError("an entry in /etc/cron.d is root's alone", advice="run this as root, or leave --cron out")
    files = _files(runtime, program, cron=cron, into=into)
    for path, text in files:
        with file_trouble("create the folder", path.parent):
            path.parent.mkdir(parents=True, exist_ok=True)
        write_bytes(path, text.encode(), mode=0o644)
    if into is None and files[0][0].name == SERVICE:
        for arguments in (["daemon-reload"], ["enable", "--now", TIMER]):
            _systemctl(arguments)
    runtime.ledger.note("scheduled", ", ".join(str(path) for path, _ in files))
    return schedule(runtime, program, cron=cron, into=into)


def remove(runtime: "Runtime", program: str, *, into: Path | None) -> tuple[str, ...]:
    """Stop the timer and take its files away, systemd's and cron's; returns those that were there."""
    found = []
    for cron in (False, True):
        for path, _ in _files(runtime, program, cron=cron, into=into):
            if path.is_file() and str(path) not in found:
                found.append(str(path))
    if into is None and any(path.endswith(TIMER) for path in found) and _RUNNING_SYSTEMD.is_dir():
        _systemctl(["disable", "--now", TIMER])
    for each in found:
        with file_trouble("remove", each):
            Path(each).unlink(missing_ok=True)
    if into is None and any(path.endswith(TIMER) for path in found) and _RUNNING_SYSTEMD.is_dir():
        _systemctl(["daemon-reload"])
    if found:
        runtime.ledger.note("unscheduled", ", ".join(found))
    return tuple(found)


def _files(runtime: "Runtime", program: str, *, cron: bool, into: Path | None) -> list[tuple[Path, str]]:
    as_root = os.geteuid() == 0
    command = (program, "--config", str(runtime.configuration.path), "--home", str(runtime.home), "renew")
    errand = Errand(command=command, writable=_writable(runtime), as_root=as_root)
    if cron or (into is None and not _RUNNING_SYSTEMD.is_dir()):
        seed = zlib.crc32(f"{os.uname().nodename}{runtime.home}".encode())
        return [((into or _CRON_FOLDER) / CRON, cron_text(errand, seed))]
    folder = into or (_SYSTEM_UNITS if as_root else Path.home() / ".config" / "systemd" / "user")
    return [(folder / SERVICE, service_text(errand)), (folder / TIMER, timer_text())]


def _writable(runtime: "Runtime") -> tuple[str, ...]:
    """Return the folders that a renewal may write to: ours, the servers' and the sites' on this machine.

    Servers' own programs open logs and the like when they test, so what varies is open to them.
    """
    folders: dict[str, None] = {str(runtime.home): None, "/run": None}
    metrics = runtime.configuration.current_or_empty().renewal.metrics
    folders |= {metrics.rpartition("/")[0]: None} if metrics else {}
    for name, entry in runtime.configuration.current_or_empty().server.items():
        if is_away(runtime.config, name):
            continue
        folders |= dict.fromkeys(KINDS[entry.kind].state_folders)
        folders |= dict.fromkeys(each.path.rpartition("/")[0] for each in entry.files)
        server = runtime.servers.get(name)
        for site in (each for each in server.sites() if (each.root + each.file).isprintable()):
            folders |= dict.fromkeys(each for each in (site.root, site.file.rpartition("/")[0]) if each)
    inside = [each for each in folders if each.startswith("/") and "{" not in each]
    # One that lies within another says nothing new.
    return tuple(sorted(each for each in inside if not any(each.startswith(f"{other}/") for other in inside)))


def _runs_cron() -> bool:
    """Tell whether a cron daemon runs on this machine, under one of the names that such have."""
    import psutil  # noqa: PLC0415  loaded for this one question

    return any(each.info["name"] in _CRON_DAEMONS for each in psutil.process_iter(["name"]))


def _text_at(path: Path) -> str | None:
    return read_bytes(path).decode("utf-8", "replace") if path.is_file() else None


def _state(files: Sequence[tuple[Path, str]], present: Sequence[str | None], *, there: bool) -> Finding:
    where = ", ".join(str(path) for path, _ in files)
    if there and str(files[0][0]).startswith(f"{_CRON_FOLDER}/") and not _runs_cron():
        return bad(
            "timer",
            where,
            "is installed, but neither systemd nor a cron daemon runs here: nothing starts it",
            "start cron; or run in the foreground, as in a container: inkstamp schedule --keep-running",
        )
    if there:
        return ok("timer", where, "is installed")
    if any(each is not None for each in present):
        seen = "is outdated: made by another version, or for other servers and sites"
        return warn("timer", where, seen, "inkstamp schedule put")
    return warn("timer", where, "is missing: nothing is renewed automatically", "inkstamp schedule put")


def _last(last: LastSweep | None, now: datetime, *, there: bool) -> Finding:
    if last is None:
        seen = "`renew` has not run yet"
        return note("last run", "renew", seen, "" if there else "inkstamp renew")
    told = f"{last.at:%Y-%m-%d %H:%M} UTC: {last.told}"
    if now - last.at > _OVERDUE and there:
        remedy = "see `systemctl status inkstamp-renew.timer`, or cron's log"
        return bad("last run", "renew", f"the timer is installed but has not run since {told}", remedy)
    return bad("last run", "renew", told, "inkstamp status") if last.failed else ok("last run", "renew", told)


def _systemctl(arguments: Sequence[str]) -> None:
    user = [] if os.geteuid() == 0 else ["--user"]
    program = find_program("systemctl")
    if program is None:
        raise ServerTrouble("there is no systemctl on this machine", where="systemctl", advice="use --cron")
    ran = LocalHost().run([program, *user, *arguments], _SECONDS)
    if ran.status != 0:
        raise ServerTrouble(
            "systemd rejects the timer", where=" ".join(ran.command), said=ran.output,
            advice="correct that, then run the command again",
        )  # fmt: skip
