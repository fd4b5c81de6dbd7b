"""Ask about editions that nobody asked about for a while.

Their CAs: when should it be renewed (RFC 9773), is it revoked. Their servers: is it still what they serve. What is
heard goes into the ledger with the moment to ask again, so that a run that comes soon after asks nobody.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import TYPE_CHECKING

from inkstamp.bulkhead import attempt
from inkstamp.deadline import within
from inkstamp.errors import InkStampError
from inkstamp.jobs.renewal.turns import Failures, Pair, in_turns, told_of
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Tidings, of_edition
from inkstamp.ledger.records import EditionRecord, InstallRecord
from inkstamp.ledger.sqlite import from_moment

if TYPE_CHECKING:
    from inkstamp.runtime import Runtime

_A_DAY = timedelta(days=1)
_AFTER_TROUBLE = timedelta(hours=6)
_ROUND_SECONDS = 1800.0
"""For asking about all editions of one sort; what was not asked about is asked next time."""
_FARTHEST = timedelta(days=40)
"""No moment to ask again lies further ahead than this."""
_NEVER_ASKED = timedelta(days=30)
"""For certificates whose CA names no place to ask."""


def ask_around(
    runtime: "Runtime",
    editions: Iterable[EditionRecord],
    known: Mapping[str, Tidings],
    installs: Mapping[str, Mapping[str, InstallRecord]],
) -> "Asked":
    """Ask about those of `editions` (the newest ones) whose time has come.

    Whom it concerns but cannot be asked now is asked by the next run; nothing is raised for it.
    """
    failed: list[tuple[str, InkStampError]] = []
    now = from_moment(runtime.clock.now())
    config = runtime.config
    to_ask: dict[str, list[Pair]] = {}
    to_check: list[Pair] = []
    to_look: list[Pair] = []
    for edition in editions:
        entry = config.certificate[edition.certificate]
        tidings = of_edition(known.get(edition.certificate), edition)
        if from_moment(edition.not_after) <= now:
            continue
        authority = config.authority.get(edition.authority)
        if _has_come(tidings.ask_again, now) and authority is not None and authority.kind == "acme":
            to_ask.setdefault(edition.authority, []).append((edition, tidings))
        if _has_come(tidings.status_again, now):
            to_check.append((edition, tidings))
        mine = installs.get(edition.certificate, {})
        if entry.install and _has_come(tidings.look_again, now) and has_edition(mine, entry.install, edition.number):
            latest = max(from_moment(each.at) for each in mine.values())
            if latest + _A_DAY.total_seconds() <= now:
                to_look.append((edition, tidings))
    if to_ask:
        from inkstamp.jobs.renewal.renewal_info import Asker

        for name, pairs in to_ask.items():
            failed += _apart(runtime, pairs, Asker(runtime, name).about)
    failed += _apart(runtime, to_check, lambda pairs: in_turns(runtime, pairs, lambda each: _status(runtime, each)))
    failed += _apart(runtime, to_look, lambda pairs: _look(runtime, pairs))
    return Asked(bool(to_ask or to_check or to_look), tuple(failed))


@dataclass(frozen=True, slots=True)
class Asked:
    """What asking around came to."""

    anybody: bool
    """Whether anybody was asked, so that more may be known now."""
    failed: Failures
    """Certificates about which asking ended in an internal error."""


def _has_come(again: int, now: int) -> bool:
    """Tell whether it is time to ask again; a moment that no release of ours would set is not waited for."""
    return again <= now or again > now + _FARTHEST.total_seconds()


def _apart(runtime: "Runtime", pairs: Sequence[Pair], ask: Callable[[Sequence[Pair]], Failures]) -> Failures:
    """Ask about some; returns the internal errors. What goes wrong is told, and the dates count."""
    if not pairs:
        return ()
    with within(_ROUND_SECONDS):
        result = attempt(ask, pairs)
    if not isinstance(result, InkStampError):
        return result
    return tuple(each for edition, _ in pairs for each in told_of(runtime, edition, result))


def _look(runtime: "Runtime", pairs: Sequence[Pair]) -> Failures:
    from inkstamp.jobs.deployment.drift import look_at, places_of

    many = "1 certificate" if len(pairs) == 1 else f"each of {len(pairs)} certificates"
    runtime.progress.step("servers", f"checking that {many} is served as installed")
    again = from_moment(runtime.clock.now() + _A_DAY)
    places = {edition.certificate: attempt(places_of, runtime, edition) for edition, _ in pairs}

    def look(edition: EditionRecord) -> Mapping[str, object]:
        place = places[edition.certificate]
        if isinstance(place, InkStampError):
            raise place
        return {"astray": look_at(runtime, edition, place), "look_again": again}

    return in_turns(runtime, pairs, look)


# Whether it is revoked


def _status(runtime: "Runtime", edition: EditionRecord) -> Mapping[str, object]:
    """Ask whether an edition is revoked; what is known stays where nobody answers."""
    from inkstamp.view.revocation_status import NotAsked

    now = runtime.clock.now()
    try:
        leaf, *issuers = runtime.shelf.chain(edition.certificate, edition.number)
    except InkStampError:
        return {"status_again": from_moment(now + _NEVER_ASKED)}
    if not issuers:
        return {"status_again": from_moment(now + _NEVER_ASKED)}
    try:
        found = runtime.revocation_status.ask(leaf, issuers[0])
    except NotAsked as none:
        return {"status_again": from_moment(now + (_AFTER_TROUBLE if none.tried else _NEVER_ASKED))}
    again = min(max(found.until or now, now + timedelta(hours=1)), now + _A_DAY)
    if found.revoked is None:
        return {"status_again": from_moment(again)}
    runtime.progress.step(edition.certificate, f"edition {edition.number} is revoked by its CA")
    runtime.ledger.revocations.end(edition.certificate, edition.number, found.revoked, found.reason)
    return {"revoked": from_moment(found.revoked), "revoked_why": found.reason, "status_again": from_moment(again)}
