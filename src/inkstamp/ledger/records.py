"""The ledger's records as data, and the life of an order as we lead it."""

from collections.abc import Iterable, Sequence
from datetime import datetime
from enum import StrEnum
from typing import Any

import msgspec

from inkstamp.config.words import PortalStep
from inkstamp.decoding import from_json
from inkstamp.errors import LedgerTrouble


class OrderState(StrEnum):
    """How far we have come with an order. Written before the next outside action, so a killed run goes on."""

    INTENDED = "intended"
    """The key is written; the CA may or may not have been asked."""
    OPENED = "opened"
    """The CA gave the order a URL; names are being proven."""
    FINALIZING = "finalizing"
    """The CSR was sent, or was about to be."""
    WAITING = "waiting"
    """At a portal: key and request are written; people and the CA have to act."""
    ISSUED = "issued"
    """The edition is on the shelf."""
    REFUSED = "refused"
    """The CA will not issue for it."""
    DROPPED = "dropped"
    """Given up by us: the names changed, or the CA no longer knows it."""


ORDER_MOVES: dict[OrderState, frozenset[OrderState]] = {
    OrderState.INTENDED: frozenset({OrderState.OPENED, OrderState.WAITING, OrderState.REFUSED, OrderState.DROPPED}),
    OrderState.OPENED: frozenset({OrderState.FINALIZING, OrderState.ISSUED, OrderState.REFUSED, OrderState.DROPPED}),
    OrderState.FINALIZING: frozenset({OrderState.ISSUED, OrderState.REFUSED, OrderState.DROPPED}),
    OrderState.WAITING: frozenset({OrderState.ISSUED, OrderState.DROPPED}),
    OrderState.ISSUED: frozenset(),
    OrderState.REFUSED: frozenset(),
    OrderState.DROPPED: frozenset(),
}
"""From each state, those that may follow. `opened` may be `issued` at once: the CA finalized while we were dead."""

OPEN_STATES = tuple(state for state, moves in ORDER_MOVES.items() if moves)
SENT_STATES = frozenset({OrderState.FINALIZING, OrderState.WAITING})
"""States in which the CA has the CSR."""


def check_order_move(before: OrderState, after: OrderState, order_id: int) -> None:
    """Raise LedgerTrouble when an order cannot go from `before` to `after`: a bug, caught before it is written."""
    if after not in ORDER_MOVES[before]:
        raise LedgerTrouble(f"order {order_id} cannot go from “{before}” to “{after}”", where=f"order {order_id}")


class InstallState(StrEnum):
    """How far an install has come."""

    BEGUN = "begun"
    """What stood there is saved; files may have been changed."""
    DONE = "done"
    """The servers serve the edition."""
    PUT_BACK = "put-back"
    """It failed, and everything is as it was."""
    ROLLED_BACK = "went-back"
    """The servers have an older edition, or none, because somebody undid an install."""


class _Record(msgspec.Struct, frozen=True, kw_only=True, gc=False):
    """Base of the records; made in thousands, so they must cost little: they make no cycles for a collector to find."""


class AccountRecord(_Record, frozen=True):
    """Our account at an authority."""

    authority: str
    directory: str
    url: str
    contact: str
    opened: datetime
    caa: tuple[str, ...] = ()
    """Domain names that the CA goes by in CAA records, as its directory said."""
    retired: datetime | None = None
    """When it was deactivated; None while it is good."""


class OrderRecord(_Record, frozen=True):
    """One order for a certificate."""

    id: int
    certificate: str
    authority: str
    names: tuple[str, ...]
    state: OrderState
    url: str
    """At the CA; empty while `intended`."""
    edition: int
    """The number that its edition will have."""
    opened: datetime
    changed: datetime
    """When its state last did."""


TRIAL_ORDER = 0
"""In the place of an order's id: proofs that are put up to try whether they would be seen."""


class ProofMethod(StrEnum):
    """How a portal has control of a name shown (Baseline Requirements section 3.2.2.4)."""

    FILE = "file"
    CNAME = "cname"
    TXT = "txt"
    EMAIL = "email"


class PortalProof(_Record, frozen=True):
    """What a portal wants to see for one name of an order."""

    order_id: int
    name: str
    method: ProofMethod
    place: str
    """Path of the file, name of the record, or e-mail address."""
    content: str
    """Of the file, or the record's value; empty for e-mail."""
    told: datetime
    """When it was told to us."""
    looked: datetime | None = None
    """When it was last looked at from outside."""
    seen: datetime | None = None
    """When it was last seen as it should be, or the e-mail was sent; None when the last look did not find it."""
    approved: datetime | None = None
    """When its e-mail was answered; None when it was not, as far as is known."""

    @property
    def url(self) -> str:
        """Where a file is looked for."""
        return f"http://[{self.name}]{self.place}" if ":" in self.name else f"http://{self.name}{self.place}"


class PortalWait(_Record, frozen=True):
    """What an order at a portal waits for, as a person said."""

    order_id: int
    step: PortalStep
    since: datetime
    until: datetime | None = None
    """When it is expected to be over, or the CA to call; None when that is not known."""


class ProofRecord(_Record, frozen=True):
    """A proof that is put up, or about to be; it is taken down before its record is."""

    order_id: int
    server: str
    root: str
    parts: tuple[str, ...]
    made: tuple[int, ...]
    """Which folders of `parts` (by index) were made for it."""
    id: int = 0
    """Given by the ledger."""


def heirs(gone: Iterable[ProofRecord], left: Sequence[ProofRecord]) -> dict[int, tuple[int, ...]]:
    """Tell which proofs stand in folders that were made for others that are gone.

    Returns:
        For the id of each such proof of `left`, all folders that are its own to remove then.

    """
    found: dict[int, set[int]] = {}
    for each in gone:
        for depth in each.made:
            place = (each.server, each.root, each.parts[: depth + 1])
            heir = next(
                (other for other in left if (other.server, other.root, other.parts[: depth + 1]) == place), None
            )
            if heir is not None:
                found.setdefault(heir.id, set(heir.made)).add(depth)
    return {number: tuple(sorted(made)) for number, made in found.items()}


class EditionRecord(_Record, frozen=True):
    """One issued certificate."""

    certificate: str
    number: int
    names: tuple[str, ...]
    issuer: str
    root: str
    serial: str
    sha256: str
    not_before: datetime
    not_after: datetime
    authority: str
    key: str = ""
    """Kind of its key, as in `ecdsa-p256`; empty where an older release recorded it."""


class EnrolledRecord(_Record, frozen=True, forbid_unknown_fields=True):
    """A certificate on the roster: one that is configured in the ledger instead of the file."""

    certificate: str
    group: str
    """The group of the configuration that says the rest."""
    customer: str
    """Free text; empty for nobody."""
    names: tuple[str, ...]
    since: datetime
    """When it was enrolled; aware, UTC."""
    settings: dict[str, Any] = {}
    """What it says in the place of its group, as in the file."""
    revision: int = 0
    """Grows whenever something about it is written, so that what was decided before is known to be out of date."""

    def as_line(self) -> bytes:
        """Write it as a line of JSON."""
        return msgspec.json.encode(msgspec.structs.replace(self, revision=0))

    @classmethod
    def from_line(cls, line: bytes) -> "EnrolledRecord":
        """Read what `as_line` wrote; msgspec.MsgspecError for anything else."""
        return from_json(line, cls)


class Selection(_Record, frozen=True, kw_only=False):
    """Which certificates of the roster are meant; empty for all."""

    group: str = ""
    customer: str = ""

    def __bool__(self) -> bool:
        """Tell whether it leaves any out."""
        return bool(self.group or self.customer)


ALL = Selection()


class InstallRecord(_Record, frozen=True):
    """One attempt to put an edition on its servers."""

    id: int
    certificate: str
    edition: int
    servers: tuple[str, ...]
    state: InstallState
    at: datetime


class EventRecord(_Record, frozen=True):
    """Something that happened."""

    at: datetime
    run: int
    command: str
    certificate: str
    """Empty when it is not about one."""
    what: str
    """A word that stays the same between releases (`issued`)."""
    text: str
    machine: str = ""
    """Where several share the ledger, the one that the run was on."""
