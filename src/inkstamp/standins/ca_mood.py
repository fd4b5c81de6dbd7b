"""How the simulated ACME CA behaves: what RFC 8555 leaves open, and what it forbids. Changed while the CA runs."""

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any, Literal

_URN = "urn:ietf:params:acme:error:"


class Refusal(Exception):
    """The CA answers with a problem document."""

    def __init__(self, status: int, kind: str, detail: str, *, link: str = "", **more: Any) -> None:
        super().__init__(detail)
        self.status = status
        self.problem = {"type": _URN + kind, "detail": detail, "status": status, **more}
        self.link = link
        """A Link header that goes with it; empty for none."""


@dataclass(frozen=True, slots=True)
class Canned:
    """An answer to give in the place of the right one."""

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    content_type: str = "application/problem+json"


@dataclass
class Mood:
    """All that tests and the demo change."""

    # What RFC 8555 leaves open
    at_once: bool = False
    """Whether replies already say `valid`, instead of `processing` at first."""
    lifetime: timedelta = timedelta(days=90)
    lifetimes: dict[str, timedelta] = field(default_factory=dict)
    """Names whose certificates have another lifetime."""
    aged: dict[str, timedelta] = field(default_factory=dict)
    """Names whose next certificate began that long ago."""
    lists_orders: bool = True
    names_windows: bool = True
    """Whether it can be asked when to renew (RFC 9773)."""
    status_by: frozenset[str] = frozenset()
    """How certificates say that their status is told: `ocsp`, `crl`."""
    terms: bool = True
    terms_changed: bool = False
    """Whether a person has to agree to new terms before anything is ordered."""
    customers: dict[str, bytes] = field(default_factory=dict)
    """Key ids and MAC keys of those that accounts are bound to; none for no binding."""
    profiles: dict[str, str] = field(default_factory=dict)
    lets_choose_end: bool = True
    """Whether `notAfter` is taken."""
    offers: tuple[str, ...] = ("http-01",)
    """Types of its challenges: `http-01`, `dns-01`, and those of drafts."""
    issuers: tuple[str, ...] = ("quayside.test", "alt.quayside.test")
    """Issuer domain names in its dns-persist-01 challenges."""
    proven: bool = False
    """Whether names count as proven when they are ordered."""
    relative: bool = False
    """Whether URLs are relative ones."""
    talkative: bool = False
    """Whether every object has members never heard of, authorizations come in another order, and types a charset."""
    up_links: bool = True
    tries: int = 1
    """How often a challenge is validated before it counts as failed; in between it goes back to `pending`."""
    asks_for: int = 0
    """Seconds for which it wants to be left alone after a challenge was answered (Retry-After); 0 to say nothing."""
    vague: bool = False
    """Whether an order that failed says nothing of the cause, which stands in the challenge."""
    moved: bool = False
    """Whether the directory is at another place now."""
    refused: dict[str, tuple[str, str]] = field(default_factory=dict)
    """Names that are not ordered: kind and detail of the problem."""
    lapsing: set[str] = field(default_factory=set)
    """Names whose next authorization runs out before it is proven."""
    order_life: timedelta = timedelta(days=7)
    changes_keys: bool = True
    revokes: bool = True

    # What it forbids
    canned: dict[str, deque[Canned]] = field(default_factory=dict)
    """Answers to give first, by resource (`new-order`, `order`, `directory` …)."""
    gives_nonces: bool = True
    redirects: set[str] = field(default_factory=set)
    """Resources that answer with a redirect."""
    never_done: bool = False
    """Whether orders stay `processing`."""
    token: str = ""
    """The token of challenges, in the place of a good one."""
    challenges_at: str = ""
    """Where challenge URLs lead, in the place of the CA itself."""
    issues: Literal["", "another key", "a name less", "expired", "not yet valid"] = ""
    chain: Literal["", "shuffled", "bare", "long", "dressed", "none"] = ""
    """`bare`: without its intermediate; `dressed`: CRLF and text around."""
