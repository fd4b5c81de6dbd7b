"""Put a timer in place that runs `renew`, show it, take it away."""

import os
import pwd
import zlib
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.request import getproxies

from msgspec import Struct

from inkstamp.config.carrying import is_away
from inkstamp.config.model import Configuration
from inkstamp.config.server_kinds import KINDS
from inkstamp.errors import ServerTrouble, UsageError
from inkstamp.files import file_trouble, read_bytes, write_bytes
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.home import Home
from inkstamp.jobs.renewal import user_crontab
from inkstamp.jobs.renewal.context import TimerContext
from inkstamp.jobs.renewal.timer_units import CRON, SERVICE, TIMER, Errand, cron_text, service_text, timer_text
from inkstamp.jobs.renewal.timers_present import home_in, next_start, other_timers, sets_proxy
from inkstamp.jobs.status.run_record import is_overdue
from inkstamp.ledger.run_summary import LastSweep, cut_off, last_sweep
from inkstamp.reach.local import LocalHost, find_program
from inkstamp.servers.escalation import sudoers_text
from inkstamp.servers.interface import Escalates
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.servers.pool import ServerPool

_CRON_FOLDER = Path("/etc/cron.d")
_CRON_DAEMONS = frozenset({"cron", "crond", "fcron", "busybox"})
_SYSTEM_UNITS = Path("/etc/systemd/system")
_RUNNING_SYSTEMD = Path("/run/systemd/system")
_LINGERING = Path("/var/lib/systemd/linger")
_SECONDS = 30.0


class Schedule(Struct, frozen=True, kw_only=True):
    """The timer's files, and what became of it."""

    files: tuple[tuple[str, str], ...]
    """Path and text, in the order in which they are put in place."""
    there: bool
    """Whether all of them stand in their places with just that text."""
    last: LastSweep | None
    """The last run of `renew` for all certificates, by the timer or by hand, and the ones before it."""
    next_at: datetime | None
    """When the timer runs again; aware, UTC; None where that is not known."""
    findings: tuple[Finding, ...]


def schedule(context: TimerContext, program: str, *, cron: bool, into: Path | None) -> Schedule:
    """Say what a timer here would consist of, and how the one that is there fares; changes nothing.

    Args:
        context: The parts of the run.
        program: Absolute path of `inkstamp`.
        cron: Whether cron is wanted where systemd is there.
        into: Another folder for the files, which nothing is started from.

    """
    files = _files(context, program, cron=cron, into=into)
    present = [_text_at(path) for path, _ in files]
    there = present == [text for _, text in files]
    last, now = last_sweep(context.home), context.clock.now()
    findings = [_state(files, present, there=there, into=into), _last(last, now, there=there)]
    findings += _without_proxy(files[0][0]) if there else []
    findings += [_second_timer(each) for each in other_timers(context.home, [path for path, _ in files])]
    begun = cut_off(context.home)
    if begun is not None:
        seen = f"the run that began {begun:%Y-%m-%d %H:%M} UTC was interrupted"
        findings.append(bad("cut off", "renew", seen, "see the journal of the timer's unit; the next run continues"))
    return Schedule(
        files=tuple((str(path), text) for path, text in files),
        there=there,
        last=last,
        next_at=next_start(files, now) if findings[0].severity is Severity.OK and into is None else None,
        findings=tuple(findings),
    )


def _second_timer(where: str) -> Finding:
    seen = "runs `renew` for the same data directory too: certificates are renewed once all the same"
    return warn("second timer", where, seen, f"remove one of the two: {where}")


def _without_proxy(timer: Path) -> list[Finding]:
    """Warn of a timer whose runs would not go by the proxy that the environment names here."""
    if not getproxies().get("https") or sets_proxy(timer):
        return []
    seen = "https_proxy is set here, but not for the timer's runs: they would connect to CAs directly"
    line = "https_proxy=http://HOST:PORT"
    if timer.name == SERVICE:
        user = " --user" if timer.is_relative_to(Path.home() / ".config") else ""
        fix = f"systemctl{user} edit {SERVICE}, with the lines: [Service], Environment={line}"
    elif timer == user_crontab.PLACE:
        fix = f"crontab -e, with the line above the entry: {line}"
    else:
        fix = f"add the line to /etc/environment, which cron reads by PAM: {line}"
    return [warn("proxy", str(timer), seen, fix)]


def put(context: TimerContext, program: str, *, cron: bool, into: Path | None) -> Schedule:
    """Put the timer's files in place and start it; doing so again brings them up to date.

    Raises:
        FileTrouble: A file cannot be written.
        ServerTrouble: systemd rejects the timer; the files stay for a look.
        UsageError: The timer that is there is for another data directory, whose certificates nobody would renew.

    """
    files = _files(context, program, cron=cron, into=into)
    for path, _ in files:
        _expect_ours(path, context.home)
    for path, text in files:
        if path == user_crontab.PLACE:
            user_crontab.write_entry(text)
            continue
        with file_trouble("create the folder", path.parent):
            path.parent.mkdir(parents=True, exist_ok=True)
        write_bytes(path, text.encode(), mode=0o644)
    if into is None and files[0][0].name == SERVICE:
        for arguments in (["daemon-reload"], ["enable", "--now", TIMER]):
            _systemctl(arguments)
    context.ledger.note("scheduled", ", ".join(str(path) for path, _ in files))
    return schedule(context, program, cron=cron, into=into)


def _expect_ours(path: Path, home: Home) -> None:
    """Make sure that a timer's file is not the one of another data directory."""
    present = _text_at(path)
    other = home_in(present) if present is not None else ""
    if other and other != str(home):
        raise UsageError(
            f"the timer that is there renews the certificates of another data directory, {other}",
            where=str(path),
            advice=f"write the files elsewhere with --into, and name them otherwise; "
            f"or first: inkstamp --home {other} schedule remove",
        )


def remove(context: TimerContext, program: str, *, into: Path | None) -> tuple[str, ...]:
    """Stop the timer and take its files away, systemd's and cron's; returns those that were there."""
    found = []
    for cron in (False, True):
        for path, _ in _files(context, program, cron=cron, into=into):
            if _text_at(path) is not None and str(path) not in found:
                found.append(str(path))
    if into is None and any(path.endswith(TIMER) for path in found) and _RUNNING_SYSTEMD.is_dir():
        _systemctl(["disable", "--now", TIMER])
    for each in found:
        if Path(each) == user_crontab.PLACE:
            user_crontab.remove_entry()
            continue
        with file_trouble("remove", each):
            Path(each).unlink(missing_ok=True)
    if into is None and any(path.endswith(TIMER) for path in found) and _RUNNING_SYSTEMD.is_dir():
        _systemctl(["daemon-reload"])
    if found:
        context.ledger.note("unscheduled", ", ".join(found))
    return tuple(found)


def _files(context: TimerContext, program: str, *, cron: bool, into: Path | None) -> list[tuple[Path, str]]:
    as_root = os.geteuid() == 0
    command = (program, "--config", str(context.configuration.path), "--home", str(context.home), "renew")
    errand = Errand(
        command=command,
        writable=_writable(context),
        as_root=as_root,
        sudo=bool(_by_sudo(context.configuration.current_or_empty())),
    )
    if cron or (into is None and not _RUNNING_SYSTEMD.is_dir()):
        seed = zlib.crc32(os.fsencode(f"{os.uname().nodename}{context.home}"))
        if into is None and not as_root:
            return [(user_crontab.PLACE, cron_text(errand, seed, user=""))]
        return [((into or _CRON_FOLDER) / CRON, cron_text(errand, seed, user="root"))]
    folder = into or (_SYSTEM_UNITS if as_root else Path.home() / ".config" / "systemd" / "user")
    return [(folder / SERVICE, service_text(errand)), (folder / TIMER, timer_text())]


def _by_sudo(config: Configuration) -> list[str]:
    """Return the servers on this machine whose commands go through sudo."""
    return [name for name, each in config.server.items() if each.sudo and not each.reach]


def sudoers(config: Configuration, pool: "ServerPool") -> str:
    """Return what a file in /etc/sudoers.d has to say for this user, for the servers with `sudo`; empty for none."""
    servers = [pool.get(name) for name in _by_sudo(config)]
    commands = [each for server in servers if isinstance(server, Escalates) for each in server.privileged_commands()]
    return sudoers_text(pwd.getpwuid(os.geteuid()).pw_name, commands)


def _writable(context: TimerContext) -> tuple[str, ...]:
    """Return the folders that a renewal may write to: ours, the servers' and the sites' on this machine.

    Servers' own programs open logs and the like when they test, so what varies is open to them.
    """
    folders: dict[str, None] = {str(context.home): None, "/run": None}
    metrics = context.configuration.current_or_empty().renewal.metrics
    folders |= {metrics.rpartition("/")[0]: None} if metrics else {}
    for name, entry in context.configuration.current_or_empty().server.items():
        if is_away(context.config, name):
            continue
        folders |= dict.fromkeys(KINDS[entry.kind].state_folders)
        folders |= dict.fromkeys(each.path.rpartition("/")[0] for each in entry.files)
        server = context.servers.get(name)
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
    if path == user_crontab.PLACE:
        return user_crontab.read_entry()
    return read_bytes(path).decode("utf-8", "replace") if path.is_file() else None


def _state(
    files: Sequence[tuple[Path, str]], present: Sequence[str | None], *, there: bool, into: Path | None
) -> Finding:
    where = ", ".join(str(path) for path, _ in files)
    by_cron = into is None and files[0][0] in (_CRON_FOLDER / CRON, user_crontab.PLACE)
    if there and by_cron and not _runs_cron():
        return bad(
            "timer",
            where,
            "is installed, but neither systemd nor a cron daemon runs here: nothing starts it",
            "start cron; or run in the foreground, as in a container: inkstamp schedule --keep-running",
        )
    if there and into is None and not by_cron and os.geteuid() != 0 and not _lingers():
        seen = "is installed, but it runs only while this user is logged in"
        return bad("timer", where, seen, "loginctl enable-linger; then run this command again")
    if there:
        return ok("timer", where, "is installed")
    if any(each is not None for each in present):
        seen = "is outdated: made by another version, or for other servers and sites"
        return warn("timer", where, seen, "inkstamp schedule put")
    return warn("timer", where, "is missing: nothing is renewed automatically", "inkstamp schedule put")


def _lingers() -> bool:
    """Tell whether this user's services run without a login (loginctl(1), enable-linger)."""
    return (_LINGERING / pwd.getpwuid(os.geteuid()).pw_name).exists()


def _last(last: LastSweep | None, now: datetime, *, there: bool) -> Finding:
    if last is None:
        seen = "`renew` has not run yet"
        return note("last run", "renew", seen, "" if there else "inkstamp renew")
    told = f"{last.at:%Y-%m-%d %H:%M} UTC: {last.told}"
    if is_overdue(last, now) and there:
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
