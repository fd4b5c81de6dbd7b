"""What `check` looks at, as it is typed: a name with a port or without, a mail server's URL, an address."""

from msgspec import Struct

from inkstamp.errors import UsageError
from inkstamp.pki.names import as_address, normalise
from inkstamp.view.upgrade import UPGRADES, Upgrade


class Target(Struct, frozen=True, kw_only=True):
    """What is to be looked at."""

    name: str
    port: int
    upgrade: Upgrade = ""
    """In which protocol TLS is asked for; empty for HTTPS."""

    def __str__(self) -> str:
        """Return it as it is typed."""
        return f"{self.upgrade}://{self.name}:{self.port}" if self.upgrade else self.name


_MAIL_PORTS: dict[str, int] = {"smtp": 25, "imap": 143, "pop3": 110}


def as_target(target: str, port: int) -> Target:
    """Read what was typed; UsageError or NameTrouble for what is neither a name nor a mail server's URL."""
    scheme, _, rest = target.rpartition("://")
    if scheme and scheme not in {*_MAIL_PORTS, "https"}:
        raise UsageError(f"“{target}” has an unknown scheme", advice="known: smtp, imap, pop3, https")
    host, _, number = rest.partition("/")[0].rpartition(":")
    if not host or not number.isdigit():
        host, number = rest.partition("/")[0], str(_MAIL_PORTS.get(scheme, port))
    return Target(name=_as_name(host.strip("[]")), port=int(number), upgrade=UPGRADES.get(scheme, ""))


def as_place(text: str) -> tuple[str, int]:
    """Read an address with a port, or without (0); UsageError for anything else. Empty stays empty."""
    if not text:
        return "", 0
    inside, bracket, rest = text.removeprefix("[").partition("]")
    address, port = (inside, rest.removeprefix(":")) if bracket else (text, "")
    if not bracket and text.count(":") == 1:
        address, _, port = text.partition(":")
    known = as_address(address)
    if not known or (port and not (port.isdigit() and 0 < int(port) < 65_536)):
        raise UsageError(f"“{text}” is not an IP address", advice="write it like 192.0.2.7, or [2001:db8::7]:8443")
    return known, int(port or 0)


def _as_name(target: str) -> str:
    if "." not in target and ":" not in target:
        raise UsageError(
            f"“{target}” is neither a configured certificate nor a domain name",
            advice="see `inkstamp status` for the certificates there are",
        )
    return as_address(target) or normalise(target)
