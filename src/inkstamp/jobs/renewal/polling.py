"""Ask about editions that nobody asked about for a while.

Their CAs: when should it be renewed (RFC 9773), is it revoked. Their servers: is it still what they serve. What is
heard goes into the ledger with the moment to ask again, so that a run that comes soon after asks nobody.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.bulkhead import attempt
from inkstamp.deadline import within
from inkstamp.errors import InkStampError
from inkstamp.jobs.renewal.turns import InternalErrors, Pair, in_turns, told_of
from inkstamp.jobs.status.next_look import A_DAY, questions_about
from inkstamp.ledger.observations import Heard, Observation, of_edition
from inkstamp.ledger.records import EditionRecord, InstallRecord

if TYPE_CHECKING:
    from inkstamp.jobs.validation.context import ValidationContext
    from inkstamp.runtime import Runtime

_AFTER_TROUBLE = timedelta(hours=6)
_ROUND_SECONDS = 1800.0
"""For asking about all editions of one sort; what was not asked about is asked next time."""
_NEVER_ASKED = timedelta(days=30)
"""For certificates whose CA names no place to ask."""


def ask_around(
    runtime: "Runtime",
    editions: Iterable[EditionRecord],
    known: Mapping[str, Observation],
    installs: Mapping[str, Mapping[str, InstallRecord]],
) -> "Asked":
    """Ask about those of `editions` (the newest ones) whose time has come.

    Whom it concerns but cannot be asked now is asked by the next run; nothing is raised for it.
    """
    failed: list[tuple[str, InkStampError]] = []
    now = runtime.clock.now()
    to_ask: dict[str, list[Pair]] = {}
    to_check: list[Pair] = []
    to_look: list[Pair] = []
    to_prove: list[Pair] = []
    for edition in editions:
        entry = runtime.certificates.get(edition.certificate)
        if entry is None:
            continue  # it has a mistake, which is told
        observed = of_edition(known.get(edition.certificate), edition)
        asking = questions_about(runtime, entry, edition, observed, installs.get(edition.certificate, {}), now=now)
        if asking.window is not None and asking.window <= now:
            to_ask.setdefault(edition.authority, []).append((edition, observed))
        if asking.status is not None and asking.status <= now:
            to_check.append((edition, observed))
        if asking.look is not None and asking.look <= now:
            to_look.append((edition, observed))
        if asking.records is not None and asking.records <= now:
            to_prove.append((edition, observed))
    if to_ask:
        from inkstamp.jobs.renewal.renewal_info import Asker  # noqa: PLC0415  X.509: a run with nothing to ask does without

        for name, pairs in to_ask.items():
            failed += _apart(runtime, pairs, Asker(runtime, name).about)
    failed += _apart(runtime, to_check, lambda pairs: in_turns(runtime, pairs, lambda each: _status(runtime, each)))
    failed += _apart(runtime, to_look, lambda pairs: _look(runtime, pairs))
    failed += _apart(runtime, to_prove, lambda pairs: in_turns(runtime, pairs, lambda each: _records(runtime, each)))
    return Asked(bool(to_ask or to_check or to_look or to_prove), tuple(failed))


class Asked(Struct, frozen=True):
    """What asking around came to."""

    anybody: bool
    """Whether anybody was asked, so that more may be known now."""
    failed: InternalErrors
    """Certificates about which asking ended in an internal error."""


def _apart(
    runtime: "Runtime", pairs: Sequence[Pair], ask: Callable[[Sequence[Pair]], InternalErrors]
) -> InternalErrors:
    """Ask about some; returns the internal errors. What goes wrong is told, and the dates count."""
    if not pairs:
        return ()
    with within(_ROUND_SECONDS):
        result = attempt(ask, pairs)
    if not isinstance(result, InkStampError):
        return result
    return tuple(each for edition, _ in pairs for each in told_of(runtime, edition, result))


def _look(runtime: "Runtime", pairs: Sequence[Pair]) -> InternalErrors:
    from inkstamp.jobs.deployment.drift import look_at, places_of  # noqa: PLC0415  as above

    many = "1 certificate" if len(pairs) == 1 else f"each of {len(pairs)} certificates"
    runtime.progress.step("servers", f"checking that {many} is served as installed")
    again = runtime.clock.now() + A_DAY
    places = {edition.certificate: attempt(places_of, runtime, edition) for edition, _ in pairs}

    def look(edition: EditionRecord) -> Heard:
        place = places[edition.certificate]
        if isinstance(place, InkStampError):
            raise place
        return Heard(astray=look_at(runtime, edition, place), look_again=again)

    return in_turns(runtime, pairs, look)


# Whether it is revoked


def _status(runtime: "Runtime", edition: EditionRecord) -> Heard:
    """Ask whether an edition is revoked; what is known stays where nobody answers."""
    from inkstamp.view.revocation_status import NotAsked  # noqa: PLC0415  as above

    now = runtime.clock.now()
    try:
        leaf, *issuers = runtime.shelf.chain(edition)
    except InkStampError:
        return Heard(status_again=now + _NEVER_ASKED)
    if not issuers:
        return Heard(status_again=now + _NEVER_ASKED)
    try:
        found = runtime.revocation_status.ask(leaf, issuers[0])
    except NotAsked as none:
        return Heard(status_again=now + (_AFTER_TROUBLE if none.tried else _NEVER_ASKED))
    again = min(max(found.until or now, now + timedelta(hours=1)), now + A_DAY)
    if found.revoked is None:
        return Heard(status_again=again)
    runtime.progress.step(edition.certificate, f"edition {edition.number} is revoked by its CA")
    runtime.ledger.revocations.end(edition.certificate, edition.number, found.revoked, found.reason)
    return Heard(revoked=found.revoked, revoked_why=found.reason, status_again=again)


# Validation records that stay


def _records(context: "ValidationContext", edition: EditionRecord) -> Heard:
    """Look at the records by which the next renewal is validated."""
    from inkstamp.jobs.validation.persistent_records import condition_of_records  # noqa: PLC0415  as above

    now = context.clock.now()
    try:
        told, trouble = condition_of_records(context, edition.certificate)
    except InkStampError as error:
        return Heard(records=f"they could not be looked up: {error.what}", records_again=now + _AFTER_TROUBLE)
    return Heard(records=told, records_trouble=trouble, records_again=now + A_DAY)
