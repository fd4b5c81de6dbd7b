"""Commands of servers on this machine by `sudo`, for a user that is not root: only those, and without a password."""

from collections.abc import Iterable, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host, Ran
from inkstamp.reach.local import find_program

SUDO = ("sudo", "-n")
"""It fails where it would ask for a password (sudo(8))."""
_ESCAPED = frozenset('\\,:=*?[]! "')
"""What sudoers(5) gives a meaning to in the arguments of a command."""


def by_sudo(command: Sequence[str]) -> tuple[str, ...]:
    """Return a command with the path of its program, as sudoers(5) has to name it."""
    program, *arguments = command
    return (find_program(program) or program, *arguments)


def run_by_sudo(host: Host, command: Sequence[str], seconds: float) -> Ran:
    """Run a command of a server on this machine as root.

    Raises:
        ServerTrouble: sudo does not let this user, or would ask for a password.

    """
    ran = host.run([*SUDO, *by_sudo(command)], seconds)
    if ran.status != 0 and ran.output.startswith("sudo: "):
        raise ServerTrouble(
            "sudo does not run a command of the server for this user", where=" ".join(ran.command), said=ran.output,
            advice="have root write what `inkstamp schedule print` shows for /etc/sudoers.d (docs/operating.md)",
        )  # fmt: skip
    return ran


def sudoers_text(user: str, commands: Iterable[Sequence[str]]) -> str:
    """Write a file for /etc/sudoers.d that lets a user run just these commands (sudoers(5)); empty for none."""
    lines = [
        f"{user} ALL=(root) NOPASSWD: {' '.join(map(_word, by_sudo(command)))}"
        for command in dict.fromkeys(map(tuple, commands))
    ]
    return "".join(f"{line}\n" for line in lines)


def _word(text: str) -> str:
    return "".join(f"\\{each}" if each in _ESCAPED else each for each in text)
