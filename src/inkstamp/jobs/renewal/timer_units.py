"""What a timer is told: systemd units and cron entries as text."""

import shlex
from collections.abc import Iterable

from msgspec import Struct

from inkstamp.errors import ConfigurationError
from inkstamp.printable import one_line, printable

SERVICE, TIMER = "inkstamp-renew.service", "inkstamp-renew.timer"
CRON = "inkstamp-renew"
_HOURS = "03,15"
"""Twice a day: a failure in the morning is tried again in the evening."""
_SPREAD_HOURS = 3
_RUN_HOURS = 5
"""Longer than `jobs.renew.RUN_SECONDS` and what may follow it, shorter than the pause to the next run."""
_NEEDS_QUOTES = set(" \t\"'\\;")
_CAPABILITIES = (
    "CAP_CHOWN", "CAP_DAC_OVERRIDE", "CAP_DAC_READ_SEARCH", "CAP_FOWNER",  # copies, with owner and mode
    "CAP_KILL",  # a server is told to reload by a signal
    "CAP_NET_BIND_SERVICE",  # a listener on port 80 or 443
    "CAP_SETGID", "CAP_SETUID",  # servers' own programs give up rights while they test
)  # fmt: skip


class Errand(Struct, frozen=True, kw_only=True):
    """What is to be run, and what it may write to."""

    command: tuple[str, ...]
    writable: tuple[str, ...]
    """Folders; one that is not there does no harm."""
    as_root: bool
    sudo: bool = False
    """Whether it gives commands to sudo, which nothing may keep from gaining rights."""


def service_text(errand: Errand) -> str:
    """Write the service unit (systemd.service(5), systemd.exec(5))."""
    expect_plain((*errand.command, *errand.writable))
    lines = [
        "[Unit]",
        "Description=Renew certificates that are due (Ink Stamp)",
        "Wants=network-online.target",
        "After=network-online.target",
        "",
        "[Service]",
        "Type=oneshot",
        f"ExecStart={' '.join(map(quote, errand.command))}",
        "# 3: some wait for a person, nothing failed",
        "SuccessExitStatus=3",
        # A run gives up by itself before that; what is ended here is told by the next one.
        f"TimeoutStartSec={_RUN_HOURS}h",
        "TimeoutStopSec=5min",
        "KillMode=mixed",
        "MemoryMax=2G",
        "TasksMax=512",
        "LimitCORE=0",
        "Nice=10",
        "UMask=0077",
        "PrivateTmp=yes",
        "ProtectSystem=strict",
        "ProtectHome=read-only",
        *(f"ReadWritePaths=-{quote(each)}" for each in errand.writable),
        "ProtectControlGroups=yes",
    ]
    if not errand.sudo:  # each of these keeps what is started from gaining rights, in a user's own units
        lines += [
            "NoNewPrivileges=yes",
            "ProtectKernelModules=yes",
            "ProtectKernelTunables=yes",
            "RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK",
            "RestrictRealtime=yes",
            "LockPersonality=yes",
        ]
    if errand.as_root:
        lines += ["PrivateDevices=yes", f"CapabilityBoundingSet={' '.join(_CAPABILITIES)}"]
    return "\n".join([*lines, ""])


def timer_text() -> str:
    """Write the timer unit (systemd.timer(5)): twice a day, spread, and soon after the machine was off."""
    return "\n".join(
        [
            "[Unit]",
            "Description=Renew certificates in time (Ink Stamp)",
            "",
            "[Timer]",
            f"OnCalendar=*-*-* {_HOURS}:00:00",
            f"RandomizedDelaySec={_SPREAD_HOURS}h",
            "Persistent=true",
            "",
            "[Install]",
            "WantedBy=timers.target",
            "",
        ]
    )


def expect_plain(words: Iterable[str]) -> None:
    """Refuse words that would be more than a word in a unit or a crontab: with line ends, controls, broken characters.

    Raises:
        ConfigurationError: One is such; says which.

    """
    for word in words:
        if not word.isprintable():
            raise ConfigurationError(
                f"the path “{printable(word)}” holds a character that no timer's file can hold",
                where=one_line(word), advice="rename it, or leave it out of the configuration",
            )  # fmt: skip


def quote(word: str) -> str:
    """Write one word of a unit so that systemd reads it back the same (systemd.service(5), systemd.syntax(7))."""
    word = word.replace("%", "%%").replace("$", "$$")
    if not set(word) & _NEEDS_QUOTES:
        return word
    return '"' + word.replace("\\", "\\\\").replace('"', '\\"') + '"'


def cron_text(errand: Errand, seed: int, *, user: str) -> str:
    """Write an entry for cron: twice a day, at a minute that `seed` chooses, so that machines differ.

    Args:
        errand: What is run.
        seed: Any number, of the machine and the data directory.
        user: Whom it runs as, for a file in /etc/cron.d; empty for a user's own crontab, which names none.

    """
    expect_plain(errand.command)
    minute, first = seed % 60, seed // 60 % 12
    words = " ".join(map(_shell_word, ("timeout", f"{_RUN_HOURS}h", *errand.command)))
    return (
        "# Renews certificates that are due; put here by `inkstamp schedule put --cron`.\n"
        f"{minute} {first},{first + 12} * * * {f'{user} ' if user else ''}{words} >/dev/null\n"
    )


def _shell_word(word: str) -> str:
    return shlex.quote(word).replace("%", "\\%")  # crontab(5): a bare % ends the command
