"""One tree for everything that can go wrong.

Each error says what happened, where, what the other side said and what to do. The class says whose move it
is; the command line turns any of them into one message and an exit status. An error is not changed once it was raised,
since others may hold the same one: who has something to add raises it `amended`.
"""

from collections.abc import Sequence
from enum import StrEnum
from typing import TYPE_CHECKING, Self

if TYPE_CHECKING:
    from inkstamp.findings import Finding


class Actor(StrEnum):
    """Who must act."""

    YOU = "you"
    DNS = "DNS"
    SERVER = "the server"
    CA = "the CA"
    APPROVER = "somebody's approval"


class InkStampError(Exception):
    """Base of all errors that Ink Stamp raises on purpose; anything else reaching a user is a bug."""

    exit_status = 1
    """1 something failed or is bad, 2 the command line or the configuration is wrong, 3 waiting for someone."""
    who_acts = Actor.YOU
    """Who must act before the same can succeed, as far as the class of the error alone tells."""

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        said: str = "",
        advice: str = "",
        findings: "Sequence[Finding]" = (),
    ) -> None:
        super().__init__(what)
        self.what = what
        self.where = where
        """File and line, host and port, or URL."""
        self.said = said
        """The other side's own words, possibly several lines."""
        self.advice = advice
        """What to do, or the command to type next."""
        self.findings = tuple(findings)
        self.step = ""
        """What was being done, in a few words; given by the job that was at it."""

    @property
    def class_name(self) -> str:
        """The name of its class, as it is recorded and documented: of the nearest one that is public."""
        return next(each.__name__ for each in type(self).__mro__ if not each.__name__.startswith("_"))

    def amended(
        self, *, what: str | None = None, said: str | None = None, advice: str | None = None, step: str | None = None
    ) -> Self:
        """Return the same error with other words, and with its causes; this one stays as it is."""
        made = type(self).__new__(type(self), *self.args)  # not by its constructor, which may ask for other things
        made.__dict__.update(self.__dict__)
        words = {"what": what, "said": said, "advice": advice, "step": step}
        made.__dict__.update({name: text for name, text in words.items() if text is not None})
        made.__cause__, made.__suppress_context__ = self.__cause__, self.__suppress_context__
        return made.with_traceback(self.__traceback__)

    def __str__(self) -> str:
        """Return what a traceback should tell: what happened and the other side's words."""
        return f"{self.what}: {self.said}" if self.said else self.what


class InternalError(InkStampError):
    """An internal error in Ink Stamp itself, or a library that gave up: an exception that nobody foresaw."""

    def __init__(self, what: str, *, advice: str = "", traceback: str = "") -> None:
        super().__init__(what, advice=advice)
        self.traceback = traceback
        """Where it happened, as Python tells it; shown with --debug alone."""


class UsageError(InkStampError):
    """The command line asks for something that cannot be."""

    exit_status = 2


class AccountTrouble(UsageError):
    """A person has to settle something with the CA before it takes orders: terms, or a binding to a customer."""


class ConfigurationError(InkStampError):
    """The configuration file, or a file that it names, is wrong."""

    exit_status = 2


class NameTrouble(UsageError):
    """A domain name is not one."""


class FileTrouble(InkStampError):
    """A file on this machine cannot be read or written, or must not be."""


class FileTooLarge(FileTrouble):
    """A file is larger than anything that is expected in its place."""


class LedgerTrouble(InkStampError):
    """The ledger cannot be opened, read or written."""


class LedgerDamaged(LedgerTrouble):
    """The ledger holds what was never written."""


class LeaseLost(LedgerTrouble):
    """Another machine may be at work on what this process had a lease on; nothing more was done here."""


class Busy(InkStampError):
    """Another run of Ink Stamp is at work on the same thing."""


class UrlTrouble(InkStampError):
    """A URL that somebody else wrote cannot be read, or must not be followed."""


class NetworkTrouble(InkStampError):
    """No conversation with the other side came about: name, route, connection, TLS or time."""

    who_acts = Actor.CA


class CaProblem(InkStampError):
    """The CA answered with a problem document (RFC 7807; RFC 8555 section 6.7)."""

    def __init__(
        self,
        what: str,
        *,
        kind: str = "",
        status: int = 0,
        retry_after: float | None = None,
        where: str = "",
        said: str = "",
        advice: str = "",
        names: Sequence[str] = (),
    ) -> None:
        super().__init__(what, where=where, said=said, advice=advice)
        self.names = tuple(names)
        """Those of an order's names that it is about, as far as the CA says."""
        self.kind = kind
        """The problem's type without the `urn:ietf:params:acme:error:` before it, or the whole URI."""
        self.status = status
        """HTTP status, 0 when the problem stood inside another object."""
        self.retry_after = retry_after
        """Seconds from now before which the CA does not want to be asked again; None when it said nothing."""


class CaMisbehaved(InkStampError):
    """The CA's answer is not what RFC 8555 allows."""

    who_acts = Actor.CA

    def __init__(self, what: str, *, where: str = "", said: str = "", advice: str = "", lasting: bool = False) -> None:
        usual = "run the command again; if it persists, report this message to the CA"
        super().__init__(what, where=where, said=said, advice=advice or usual)
        self.lasting = lasting
        """Whether the same order will never do better: only another one helps."""


class StillWaiting(InkStampError):
    """Nothing failed; somebody else has to finish first, and the same command goes on afterwards."""

    exit_status = 3


class TtlNotExpired(StillWaiting):
    """Resolvers may have records of before in their caches until the TTL is over; nobody needs to act."""

    who_acts = Actor.DNS


class ProofFailed(InkStampError):
    """A proof cannot be placed, or is not seen from outside; the CA was not asked."""


class ReachTrouble(InkStampError):
    """Another machine cannot be reached, or the connection to it was lost."""


class CarrierTrouble(InkStampError):
    """A nameserver or a program could not change records in DNS."""

    who_acts = Actor.DNS

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        said: str = "",
        advice: str = "",
        refused: bool = False,
        not_made: Sequence[object] = (),
    ) -> None:
        super().__init__(what, where=where, said=said, advice=advice)
        self.refused = refused
        """Whether the answer was no, so that nothing was changed."""
        self.not_made = tuple(not_made)
        """The records that are not in DNS for certain."""


class RequestUnreadable(InkStampError):
    """A file holds no certificate signing request that can be read."""


class BundleTrouble(InkStampError):
    """Files that should hold what a CA issued cannot be read, or hold too much."""


class EditionUnfit(InkStampError):
    """What the CA issued must not be given to a server."""

    def __init__(
        self,
        what: str,
        *,
        where: str = "",
        said: str = "",
        advice: str = "",
        findings: "Sequence[Finding]" = (),
        lasting: bool = False,
    ) -> None:
        super().__init__(what, where=where, said=said, advice=advice, findings=findings)
        self.lasting = lasting
        """Whether it will never be fit, whatever time passes and whoever acts: only another certificate helps."""


class ServerTrouble(InkStampError):
    """A web server's configuration, test, reload or answer is not as it must be."""

    who_acts = Actor.SERVER


class NamesLost(ServerTrouble):
    """Names would lose their certificate, had the server another one."""

    who_acts = Actor.YOU


def error_class(name: str) -> type[InkStampError]:
    """Return the class that an error was recorded under; `InkStampError` for one that is not known here."""
    found = [InkStampError]
    for each in found:
        found += each.__subclasses__()
    return next((each for each in found if each.__name__ == name), InkStampError)
