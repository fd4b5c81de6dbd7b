"""Ask about editions that nobody asked about for a while.

Their CAs: when should it be renewed (RFC 9773), is it revoked. Their servers: is it still what they serve. What is
heard goes into the ledger with the moment to ask again, so that a run that comes soon after asks nobody.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import timedelta
from itertools import islice
from typing import TYPE_CHECKING

from inkstamp.ledger.database import from_moment
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.records import EditionRecord, InstallRecord
from inkstamp.ledger.tidings import Tidings, of_edition

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_AT_ONCE = 8
_TOGETHER = 64
"""Answers written down in one go: a run that is killed loses no more."""
_A_DAY = timedelta(days=1)
_AFTER_TROUBLE = timedelta(hours=6)
_NEVER_ASKED = timedelta(days=30)
"""For certificates whose CA names no place to ask."""

Pair = tuple[EditionRecord, Tidings]


def ask_around(
    workplace: "Workplace",
    editions: Iterable[EditionRecord],
    known: Mapping[str, Tidings],
    installs: Mapping[str, Mapping[str, InstallRecord]],
) -> bool:
    """Ask about those of `editions` (the newest ones) whose time has come; returns whether anybody was asked.

    Whom it concerns but cannot be asked now is asked by the next run; nothing is raised for it.
    """
    now = from_moment(workplace.clock.now())
    config = workplace.config
    to_ask: dict[str, list[Pair]] = {}
    to_check: list[Pair] = []
    to_look: list[Pair] = []
    for edition in editions:
        entry = config.certificate[edition.certificate]
        tidings = of_edition(known.get(edition.certificate), edition)
        if from_moment(edition.not_after) <= now:
            continue
        authority = config.authority.get(edition.authority)
        if tidings.ask_again <= now and authority is not None and authority.kind == "acme":
            to_ask.setdefault(edition.authority, []).append((edition, tidings))
        if tidings.status_again <= now:
            to_check.append((edition, tidings))
        mine = installs.get(edition.certificate, {})
        if entry.install and tidings.look_again <= now and has_edition(mine, entry.install, edition.number):
            latest = max(from_moment(each.at) for each in mine.values())
            if latest + _A_DAY.total_seconds() <= now:
                to_look.append((edition, tidings))
    if to_ask:
        from inkstamp.jobs.windows import Asker

        for name, pairs in to_ask.items():
            Asker(workplace, name).about(pairs, in_turns)
    in_turns(workplace, to_check, lambda edition: _status(workplace, edition))
    if to_look:
        _look(workplace, to_look)
    return bool(to_ask or to_check or to_look)


def _look(workplace: "Workplace", pairs: Sequence[Pair]) -> None:
    from inkstamp.jobs.looking import look_at, places_of

    many = "1 certificate" if len(pairs) == 1 else f"each of {len(pairs)} certificates"
    workplace.progress.step("servers", f"looks whether {many} is served as it should be")
    again = from_moment(workplace.clock.now() + _A_DAY)
    places = {edition.certificate: places_of(workplace, edition) for edition, _ in pairs}

    def look(edition: EditionRecord) -> Mapping[str, object]:
        return {"astray": look_at(workplace, edition, places[edition.certificate]), "look_again": again}

    in_turns(workplace, pairs, look)


def in_turns(
    workplace: "Workplace", pairs: Sequence[Pair], ask: Callable[[EditionRecord], Mapping[str, object] | None]
) -> None:
    """Ask about many at the same time and write the answers down; None is no answer."""
    if not pairs:
        return
    from concurrent.futures import ThreadPoolExecutor

    waiting: Iterator[Pair] = iter(pairs)
    with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
        while chunk := list(islice(waiting, _TOGETHER)):
            answers = pool.map(lambda pair: ask(pair[0]), chunk)
            heard = [(edition, each) for (edition, _), each in zip(chunk, answers, strict=True) if each is not None]
            workplace.ledger.tidings.add(heard)


# Whether it is revoked


def _status(workplace: "Workplace", edition: EditionRecord) -> Mapping[str, object]:
    """Ask whether an edition is revoked; what is known stays where nobody answers."""
    from inkstamp.jobs.revocation import NotAsked, status_of

    now = workplace.clock.now()
    try:
        found = status_of(workplace, edition)
    except NotAsked as none:
        return {"status_again": from_moment(now + (_AFTER_TROUBLE if none.tried else _NEVER_ASKED))}
    again = min(max(found.until or now, now + timedelta(hours=1)), now + _A_DAY)
    if found.revoked is None:
        return {"status_again": from_moment(again)}
    workplace.progress.step(edition.certificate, f"edition {edition.number} is revoked by its CA")
    workplace.ledger.revocations.end(edition.certificate, edition.number, found.revoked, found.reason)
    return {"revoked": from_moment(found.revoked), "revoked_why": found.reason, "status_again": from_moment(again)}
