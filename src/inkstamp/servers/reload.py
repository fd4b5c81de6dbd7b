"""Having a server test its configuration and take it, with its own words where it refuses."""

import os

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Ran
from inkstamp.servers.interface import Reloadable


def expect_success(ran: Ran, otherwise: str, advice: str = "") -> None:
    """Raise ServerTrouble with the program's own words when it did not end well."""
    if ran.status != 0:
        raise ServerTrouble(otherwise, where=" ".join(ran.command), said=ran.output, advice=advice)


def test_before(server: Reloadable) -> None:
    """Read the configuration anew and have it tested, before anything is changed; ServerTrouble when it is broken."""
    server.forget()
    ran = server.test()
    if ran.status and os.geteuid() != 0 and "permission denied" in ran.output.lower():
        raise ServerTrouble(
            f"the configuration of server “{server.name}” cannot be tested by this user: a file may not be read",
            where=" ".join(ran.command), said=ran.output,
            advice="run it as root, or set sudo = true for this server (docs/operating.md#without-root)",
        )  # fmt: skip
    expect_success(
        ran, f"the configuration of server “{server.name}” is broken already", "fix it first; nothing was changed"
    )


def take_effect(server: Reloadable) -> None:
    """Have the changed configuration tested and taken; ServerTrouble when the server refuses it."""
    server.forget()
    expect_success(server.test(), f"server “{server.name}” refuses the new configuration")
    reload(server)


def reload(server: Reloadable) -> None:
    """Have the server take its configuration anew; ServerTrouble when it cannot."""
    expect_success(server.reload(), f"server “{server.name}” could not be reloaded", "check that it is running")
