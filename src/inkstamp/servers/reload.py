"""Having a server test its configuration and take it, with its own words where it refuses."""

import os

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Ran
from inkstamp.servers.interface import Reloadable

_NO_RIGHTS = ("permission denied", "operation not permitted")
"""What programs say of EACCES and EPERM, in small letters."""


def expect_success(ran: Ran, otherwise: str, advice: str = "") -> None:
    """Raise ServerTrouble with the program's own words when it did not end well."""
    if ran.status != 0:
        raise ServerTrouble(otherwise, where=" ".join(ran.command), said=ran.output, advice=advice)


def test_before(server: Reloadable) -> None:
    """Read the configuration anew and have it tested, before anything is changed; ServerTrouble when it is broken."""
    server.forget()
    ran = server.test()
    _expect_rights(ran, f"the configuration of server “{server.name}” cannot be tested by this user")
    expect_success(
        ran, f"the configuration of server “{server.name}” is broken already", "fix it first; nothing was changed"
    )


def _expect_rights(ran: Ran, what: str) -> None:
    """Tell a server's trouble from this user's: a key that may not be read, or a process that is root's."""
    said = ran.output.lower()
    if ran.status and os.geteuid() != 0 and any(each in said for each in _NO_RIGHTS):
        raise ServerTrouble(
            what, where=" ".join(ran.command), said=ran.output,
            advice="run it as root, or set sudo = true for this server (docs/operating.md#without-root)",
        )  # fmt: skip


def take_effect(server: Reloadable) -> None:
    """Have the changed configuration tested and taken; ServerTrouble when the server refuses it."""
    server.forget()
    expect_success(server.test(), f"server “{server.name}” refuses the new configuration")
    reload(server)


def reload(server: Reloadable) -> None:
    """Have the server take its configuration anew; ServerTrouble when it cannot."""
    ran = server.reload()
    _expect_rights(ran, f"server “{server.name}” cannot be reloaded by this user")
    expect_success(ran, f"server “{server.name}” could not be reloaded", "check that it is running")
