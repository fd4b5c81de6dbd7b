"""Put an edition on all its servers: what shares the shelf first, together, then machine after machine.

The first that fails stops the rest; one that is away is left for the next run. `carry` does it for one group.
"""

import secrets
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ReachTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, bad
from inkstamp.jobs import way_back
from inkstamp.jobs.carry import bring_back_cut_off, carry_through
from inkstamp.jobs.earlier import drop_old_editions, edition_before, group_back, undoable
from inkstamp.jobs.preparing import Group, prepare
from inkstamp.ledger.records import EditionRecord, InstallState

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True)
class Pace:
    """How several machines are gone through."""

    at_once: int = 1
    """How many machines are changed at the same time; those that share the shelf come first, together."""
    back: bool = False
    """Whether the first that fails has those that were changed before taken back as well."""


_ONE_BY_ONE = Pace()


def install(
    workplace: "Workplace",
    name: str,
    entry: Certificate,
    edition: EditionRecord,
    told: Callable[[Sequence[Group]], None] = lambda _groups: None,
    *,
    pace: Pace = _ONE_BY_ONE,
) -> list[Finding]:
    """Put `edition` on the servers of certificate `name`; the caller holds the certificate.

    Returns a finding for each endpoint that was seen to serve it. `told` is called with what will be changed.

    Raises:
        ServerTrouble: A server's configuration was broken before, or refuses ours, or does not take effect.
        FileTrouble: A file cannot be written.
        ReachTrouble: A machine is away; all others have the edition, and the next run tries again.

    """
    if not entry.install:  # the shelf alone: there is one step, and nothing to go back to
        workplace.shelf.switch(name, edition.number)
        record = workplace.ledger.installs.begin(name, edition.number, ())
        workplace.ledger.installs.end(record, InstallState.DONE, "shelved", f"edition {edition.number}")
        drop_old_editions(workplace, name, entry)
        return []
    with workplace.hold_servers(entry.install):
        away: dict[str, ReachTrouble] = {}
        bring_back_cut_off(workplace, name, entry, away)
        groups = prepare(workplace, name, entry, edition, away, at_once=pace.at_once)
        told(groups)
        round_ = _Round(workplace, name, entry, edition, away)
        try:
            round_.go(groups, pace.at_once)
        except InkStampError as error:
            _tell_done(error, round_, back=pace.back)
            raise
        if all(group.copied for group in groups) and round_.done:
            workplace.shelf.switch(name, edition.number)
        drop_old_editions(workplace, name, entry)
    if away:
        raise _left_out(away, round_.done, edition, round_.findings)
    return round_.findings


class _Round:
    """One install on all its groups of servers."""

    def __init__(
        self,
        workplace: "Workplace",
        name: str,
        entry: Certificate,
        edition: EditionRecord,
        away: dict[str, ReachTrouble],
    ) -> None:
        self.workplace, self.name, self.entry, self.edition = workplace, name, entry, edition
        self.away = away
        self.findings: list[Finding] = []
        self.done: list[str] = []
        self.token = secrets.token_hex(4)

    def go(self, groups: Sequence[Group], at_once: int) -> None:
        """Go through the groups, so many at a time; the first error ends it, after those beside it."""
        shared = [each for each in groups if not each.copied]
        apart = [each for each in groups if each.copied]
        batches = [shared, *(apart[at : at + at_once] for at in range(0, len(apart), at_once))]
        for batch in filter(None, batches):
            with ThreadPoolExecutor(max_workers=len(batch)) as pool:
                errors = list(pool.map(self._one, batch))
            failed = next(filter(None, errors), None)
            if failed is not None:
                raise failed

    def _one(self, group: Group) -> InkStampError | None:
        try:
            found = carry_through(self.workplace, self.name, self.entry, self.edition, group, token=self.token)
        except ReachTrouble as error:
            self.away[group.servers[0]] = error
            return None
        except InkStampError as error:
            return error
        self.findings += found
        self.done += group.servers
        return None


def _tell_done(error: InkStampError, round_: _Round, *, back: bool) -> None:
    """Add to an error which servers were changed before it, and take them back if that is wanted."""
    if not round_.done:
        return
    number = round_.edition.number
    has = f"{', '.join(round_.done)} {'have' if len(round_.done) > 1 else 'has'} edition {number}"
    if not back:
        error.advice = f"{error.advice}; {has}: `inkstamp undo {round_.name}` takes it back there"
        return
    try:
        folders = undoable(round_.workplace, round_.name, round_.token)
        groups = [group_back(round_.workplace, round_.entry, folder) for folder in folders]
        take_back(round_.workplace, round_.name, round_.entry, folders, groups)
    except InkStampError as failed:
        error.advice = f"{error.advice}; {has}, and could not be taken back: {failed.what}"
    else:
        error.advice = f"{error.advice}; {', '.join(round_.done)} went back to what was there before"


def take_back(
    workplace: "Workplace", name: str, entry: Certificate, folders: Sequence[Path], groups: Sequence[Group]
) -> list[Finding]:
    """Take an install back, group by group; the caller holds certificate and servers.

    Args:
        workplace: The run's surroundings.
        name: The certificate.
        entry: As configured.
        folders: What the install changed, one a group.
        groups: What takes that back (`group_back`), in the same order.

    Raises:
        ServerTrouble: A server refuses, or does not serve the edition before; that one is as it was then.

    """
    editions = [edition_before(workplace, name, folder) for folder in folders]
    findings = []
    for group in groups:
        for server in group.servers:
            way_back.test_before(workplace.reloadable(server))
    for group, folder, edition in zip(groups, folders, editions, strict=True):
        findings += carry_through(workplace, name, entry, edition, group)
        remove_tree(folder)
    if editions and all(group.copied for group in groups):
        workplace.shelf.switch(name, editions[0].number if editions[0] is not None else None)
    return findings


def _left_out(
    away: dict[str, ReachTrouble], done: Sequence[str], edition: EditionRecord, findings: Sequence[Finding]
) -> ReachTrouble:
    first = next(iter(away.values()))
    has = f"{', '.join(done)} {'have' if len(done) > 1 else 'has'} edition {edition.number}; " if done else ""
    return ReachTrouble(
        f"edition {edition.number} could not be put on {', '.join(away)}",
        where=first.where,
        said=first.said,
        findings=[*findings, *(bad("installed", server, error.what, error.advice) for server, error in away.items())],
        advice=f"{has}the next run tries the rest again",
    )
