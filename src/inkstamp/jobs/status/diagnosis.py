"""Why one certificate is not going on, or that it is: the stall, the order, the proofs, the notes."""

from collections.abc import Iterable

from msgspec import Struct

from inkstamp.config.model import Certificate
from inkstamp.errors import CarrierTrouble, InkStampError, InternalError, ProofFailed, StillWaiting
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.overview import CertificateState, CertificateStatus, statuses_of
from inkstamp.jobs.status.stall import Stall
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.records import EventRecord, OrderRecord, PortalProof

_NOTE = "note"
_TROUBLE = {"failed", "refused", "rolled back"}
_FAR_BACK = 500
"""Events that are looked through."""


class Why(Struct, frozen=True, kw_only=True):
    """All that is known of where a certificate stands."""

    status: CertificateStatus
    stall: Stall | None
    """None when nothing is waited for."""
    order: OrderRecord | None
    """The open one."""
    page: str
    """URL of the portal; empty for none."""
    proofs: tuple[PortalProof, ...]
    setback: RecordedFailure | None
    """What was told when it was last held up: by the CA in its own words, and what Ink Stamp saw itself."""
    instead: tuple[str, ...]
    """Lines for its entry in the configuration with which another way of proving is tried, too."""
    trouble: EventRecord | None
    """What went wrong last, if nothing went right after it."""
    notes: tuple[EventRecord, ...]
    """Those attached since the order was opened; the latest ones when there is none."""


def why(context: StatusContext, name: str) -> Why:
    """Say where a certificate stands and why."""
    entry = context.certificates.entry(name)
    (status,) = statuses_of(context, [name])
    ledger = context.ledger
    order = ledger.open_order(name)
    authority = context.config.authority[entry.authority]
    setback = ledger.failures.of(name)
    if setback is not None and status.state is CertificateState.OK and not _is(setback, InternalError):
        setback = None
    if setback is not None and order is not None and not authority.is_acme and setback.last < order.changed:
        setback = None  # of before the present step
    if setback is not None and order is not None and _is(setback, StillWaiting):
        setback = None  # the step says what is waited for
    events = ledger.events(name, limit=_FAR_BACK)
    notes = [each for each in events if each.what == _NOTE and (order is None or each.at >= order.opened)]
    return Why(
        status=status,
        stall=status.stall,
        order=order,
        page=authority.page,
        proofs=tuple(ledger.portal.of(order.id)) if order is not None else (),
        setback=setback,
        instead=_instead(context, entry, setback) if authority.is_acme else (),
        trouble=_last_trouble(events) if setback is None else None,
        notes=tuple(notes[-10:]),
    )


def _is(setback: RecordedFailure, *classes: type[InkStampError]) -> bool:
    return issubclass(setback.told.error_class, classes)


def _instead(context: StatusContext, entry: Certificate, setback: RecordedFailure | None) -> tuple[str, ...]:
    """Suggest another way of proving when it is the proof that is in the way."""
    if setback is None:
        return ()
    from inkstamp.acme.problems import OF_PROOFS  # noqa: PLC0415  which most certificates have no use for

    if not (_is(setback, CarrierTrouble, ProofFailed) or setback.told.problem in OF_PROOFS):
        return ()
    from inkstamp.config.carrying import other_ways  # noqa: PLC0415  as above
    from inkstamp.jobs.inventory.placement import has_place  # noqa: PLC0415  as above

    ways = {
        method: carrier
        for method, carrier in other_ways(context.config, entry).items()
        if carrier not in context.config.server or all(has_place(context, carrier, each) for each in entry.names)
    }
    if not ways:
        return ()
    method, carrier = next(iter(ways.items()))
    methods, carriers = [*entry.methods, method], dict.fromkeys([*entry.carriers, carrier])
    return (f"proof = [{_quoted(methods)}]", f"via = [{_quoted(carriers)}]")


def _quoted(words: Iterable[str]) -> str:
    return ", ".join(f'"{each}"' for each in words)


def attach_note(context: StatusContext, name: str, text: str) -> None:
    """Keep a note beside a certificate's order."""
    context.certificates.entry(name)
    context.ledger.note(_NOTE, text, name)


def _last_trouble(events: list[EventRecord]) -> EventRecord | None:
    for event in reversed(events):
        if event.what in _TROUBLE:
            return event
        if event.what in {"issued", "installed", "shelved"}:
            return None
    return None
