"""The objects of RFC 8555 as they come over the wire.

Members never heard of are passed over and kinds never heard of stay plain text: a CA may add some tomorrow.
"""

from datetime import datetime
from enum import StrEnum
from typing import Self, TypeVar

import msgspec

from inkstamp.clock import clamped
from inkstamp.decoding import from_plain
from inkstamp.errors import CaMisbehaved, UrlTrouble
from inkstamp.printable import one_line, shown_bytes
from inkstamp.urls import absolute

_LONGEST_STATE = 100


class _Status(StrEnum):
    """A state as the CA says it; one that no RFC lists is a value like any other, which equals none of those here."""

    @classmethod
    def _missing_(cls, value: object) -> Self | None:
        if not isinstance(value, str):
            return None
        unlisted = str.__new__(cls, one_line(value, _LONGEST_STATE))
        unlisted._name_ = "UNLISTED"
        unlisted._value_ = str(unlisted)
        return unlisted

    @property
    def is_listed(self) -> bool:
        """Whether it is one of RFC 8555."""
        return self._name_ != "UNLISTED"


class OrderStatus(_Status):
    """RFC 8555 section 7.1.6."""

    PENDING = "pending"
    READY = "ready"
    PROCESSING = "processing"
    VALID = "valid"
    INVALID = "invalid"


class AuthorizationStatus(_Status):
    """RFC 8555 section 7.1.6."""

    PENDING = "pending"
    VALID = "valid"
    INVALID = "invalid"
    DEACTIVATED = "deactivated"
    EXPIRED = "expired"
    REVOKED = "revoked"


class ChallengeStatus(_Status):
    """RFC 8555 section 7.1.6."""

    PENDING = "pending"
    PROCESSING = "processing"
    VALID = "valid"
    INVALID = "invalid"


class _Wire(msgspec.Struct, frozen=True, kw_only=True, rename="camel"):
    """Base of what is read from a CA."""

    def at(self, base: str) -> Self:  # noqa: ARG002  those that hold URLs need it
        """Return it with the URLs in it absolute: `base` is where it was read (RFC 3986 section 5.1.3)."""
        return self


def ca_url(base: str, reference: str) -> str:
    """Return the URL that the CA means in its answer at `base`; CaMisbehaved when it is none that can be used."""
    try:
        return absolute(base, reference)
    except UrlTrouble as error:
        raise CaMisbehaved(
            f"the CA names a URL that cannot be used: {error.said}", where=base, said=error.where
        ) from error


def _absolute(base: str, urls: tuple[str, ...]) -> tuple[str, ...]:
    return tuple(ca_url(base, each) for each in urls)


def _absolute_or_none(base: str, url: str) -> str:
    return ca_url(base, url) if url else ""


_T = TypeVar("_T", bound=_Wire)


class Identifier(_Wire, frozen=True):
    """RFC 8555 section 9.7.7."""

    type: str
    value: str


class Problem(_Wire, frozen=True):
    """A problem document (RFC 7807) with subproblems (RFC 8555 section 6.7.1)."""

    type: str = "about:blank"
    title: str = ""
    detail: str = ""
    status: int = 0
    instance: str = ""
    identifier: Identifier | None = None
    subproblems: tuple["Problem", ...] = ()


class DirectoryMeta(_Wire, frozen=True):
    """RFC 8555 section 7.1.1."""

    terms_of_service: str = ""
    website: str = ""
    caa_identities: tuple[str, ...] = ()
    external_account_required: bool = False
    profiles: dict[str, str] = {}
    """Sorts of certificates that may be asked for, each with a description (draft-ietf-acme-profiles)."""


class Directory(_Wire, frozen=True):
    """RFC 8555 section 7.1.1."""

    new_nonce: str
    new_account: str
    new_order: str
    revoke_cert: str = ""
    key_change: str = ""
    renewal_info: str = ""
    """RFC 9773 section 4.1; empty where the CA has no opinion on renewal."""
    meta: DirectoryMeta = DirectoryMeta()

    def at(self, base: str) -> "Directory":
        """Return it with absolute URLs."""
        names = ("new_nonce", "new_account", "new_order", "revoke_cert", "key_change", "renewal_info")
        return msgspec.structs.replace(self, **{name: _absolute_or_none(base, getattr(self, name)) for name in names})


class Account(_Wire, frozen=True):
    """RFC 8555 section 7.1.2."""

    status: str
    contact: tuple[str, ...] = ()
    orders: str = ""

    def at(self, base: str) -> "Account":
        """Return it with an absolute URL."""
        return msgspec.structs.replace(self, orders=_absolute_or_none(base, self.orders))


class SuggestedWindow(_Wire, frozen=True):
    """RFC 9773 section 4.2."""

    start: datetime
    end: datetime


class RenewalInfo(_Wire, frozen=True):
    """RFC 9773 section 4.2."""

    suggested_window: SuggestedWindow
    explanation_url: str = msgspec.field(name="explanationURL", default="")


class OrdersList(_Wire, frozen=True):
    """RFC 8555 section 7.1.2.1."""

    orders: tuple[str, ...] = ()

    def at(self, base: str) -> "OrdersList":
        """Return it with absolute URLs."""
        return msgspec.structs.replace(self, orders=_absolute(base, self.orders))


class Order(_Wire, frozen=True):
    """RFC 8555 section 7.1.3."""

    status: OrderStatus
    identifiers: tuple[Identifier, ...]
    authorizations: tuple[str, ...]
    finalize: str
    expires: str = ""
    certificate: str = ""
    profile: str = ""
    error: Problem | None = None

    def has_expired(self, now: datetime) -> bool:
        """Tell whether the CA has said that it is open until a moment that is over; `now` is aware."""
        try:
            until = datetime.fromisoformat(self.expires)
        except ValueError:  # none given, or one that cannot be read
            return False
        return until.tzinfo is not None and clamped(until) < now

    def at(self, base: str) -> "Order":
        """Return it with absolute URLs."""
        return msgspec.structs.replace(
            self,
            authorizations=_absolute(base, self.authorizations),
            finalize=_absolute_or_none(base, self.finalize),
            certificate=_absolute_or_none(base, self.certificate),
        )


class Challenge(_Wire, frozen=True):
    """RFC 8555 section 8; `token` is empty for types that have none."""

    type: str
    url: str
    status: ChallengeStatus
    token: str = ""
    issuer_domain_names: tuple[str, ...] = msgspec.field(name="issuer-domain-names", default=())
    """Of `dns-persist-01` (draft-ietf-acme-dns-persist)."""
    error: Problem | None = None

    def at(self, base: str) -> "Challenge":
        """Return it with an absolute URL."""
        return msgspec.structs.replace(self, url=ca_url(base, self.url))


class Authorization(_Wire, frozen=True):
    """RFC 8555 section 7.1.4."""

    identifier: Identifier
    status: AuthorizationStatus
    challenges: tuple[Challenge, ...]
    expires: str = ""
    wildcard: bool = False

    def at(self, base: str) -> "Authorization":
        """Return it with absolute URLs."""
        return msgspec.structs.replace(self, challenges=tuple(each.at(base) for each in self.challenges))


def _without_nulls(value: object) -> object:
    """Return JSON without members that are null: some CAs write what they do not have so, where RFC 8555 omits it."""
    if isinstance(value, dict):
        return {name: _without_nulls(each) for name, each in value.items() if each is not None}
    return [_without_nulls(each) for each in value] if isinstance(value, list) else value


_TOKEN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_")


def is_token(text: str) -> bool:
    """Tell whether a challenge's token is base64url (RFC 8555 section 8.3); it becomes a file's name."""
    return 0 < len(text) <= 256 and set(text) <= _TOKEN


def read(kind: type[_T], body: bytes, url: str) -> _T:
    """Read an object of `kind` from the body of the CA's answer at `url`.

    Raises:
        CaMisbehaved: The body is not JSON, or lacks a member that RFC 8555 requires.

    """
    try:
        return from_plain(_without_nulls(msgspec.json.decode(body)), kind).at(url)
    except (msgspec.MsgspecError, ValueError, ArithmeticError, RecursionError) as error:
        raise CaMisbehaved(
            f"the CA's answer is not the {kind.__name__.lower()} that was asked for",
            where=url,
            said=f"{one_line(str(error), 300)}; the answer begins: {shown_bytes(body, 200)}",
            advice="check the directory URL; if it is right, report it to the CA",
        ) from error
