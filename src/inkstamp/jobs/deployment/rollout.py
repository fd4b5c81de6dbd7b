"""Put editions on all their servers: what shares the shelf first, together, then machine after machine.

The first that fails stops the rest of its certificate; one that is unreachable is left for the next run. `carry` does
it for a group of servers.
"""

import secrets
from collections.abc import Callable, Sequence
from copy import copy
from pathlib import Path

from msgspec import Struct

from inkstamp.bulkhead import apart, attempt, reached, side_by_side
from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ReachTrouble, ServerTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, bad
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.plan import Group, prepare
from inkstamp.jobs.deployment.rollback import bring_back_cut_off
from inkstamp.jobs.deployment.tlsa_rollover import INLINE, await_records, tidy_records, tlsa_places
from inkstamp.jobs.deployment.transaction import Load, Result, carry_through, carry_together
from inkstamp.jobs.deployment.undo_log import drop_old_editions, edition_before, group_back, undoable
from inkstamp.ledger.records import EditionRecord
from inkstamp.servers.reload import test_before


class Pace(Struct, frozen=True):
    """How several machines are gone through."""

    at_once: int = 1
    """How many machines are changed at the same time; those that share the shelf come first, together."""
    back: bool = False
    """Whether the first that fails has those that were changed before taken back as well."""


_ONE_BY_ONE = Pace()
_AT_ONCE = 8


class Deployment(Struct, frozen=True):
    """What is to be installed."""

    name: str
    """The certificate."""
    entry: Certificate
    edition: EditionRecord


def install(
    context: DeploymentContext,
    wish: Deployment,
    told: Callable[[Sequence[Group]], None] = lambda _groups: None,
    *,
    pace: Pace = _ONE_BY_ONE,
) -> list[Finding]:
    """Put an edition on the servers of its certificate; the caller holds the certificate.

    Returns a finding for each endpoint that was seen to serve it. `told` is called with what will be changed.

    Raises:
        ServerTrouble: A server's configuration was broken before, or refuses ours, or does not take effect.
        FileTrouble: A file cannot be written.
        ReachTrouble: A machine is unreachable; all others have the edition, and the next run tries again.

    """
    result = install_together(context, [wish], told, pace=pace)[wish.name]
    if isinstance(result, InkStampError):
        raise result
    return result


def install_together(
    context: DeploymentContext,
    wishes: Sequence[Deployment],
    told: Callable[[Sequence[Group]], None] = lambda _groups: None,
    *,
    pace: Pace = _ONE_BY_ONE,
) -> dict[str, Result]:
    """Do the same for several certificates; each server is tested and reloaded once for all that it takes.

    Those that change the same file of a configuration follow one another: the next edit is worked out on what the one
    before leaves. Returns what came of each, by certificate.
    """
    rounds = [_Round(context, wish, pace.at_once) for wish in wishes]
    longest = INLINE if len(rounds) == 1 else 0.0  # the others of a run are not held up
    for each in rounds:  # one by one: they may share a server
        each.find_records()
    side_by_side(lambda each: each.await_records(longest), rounds, _AT_ONCE)
    servers = tuple({server for wish in wishes for server in wish.entry.install})
    begun_at = context.clock.monotonic()
    with context.locks.servers(servers):
        for each in rounds:
            each.prepare(begun_at)
        told([group for each in rounds for group in each.groups])
        some, later = _side_by_side(rounds)
        alone: list[_Round] = []
        while some:
            _go(context, some, pace.at_once)
            alone += [each for each in some if each.is_refused and len(some) > 1]
            if later:
                some, later = _side_by_side(later)
            else:  # it may have been the others that did not go with it
                some, alone = alone[:1], alone[1:]
            begun_at = context.clock.monotonic()
            for each in some:
                each.prepare(begun_at)
        for each in rounds:
            each.finish(back=pace.back)
    for each in rounds:
        if each.error is None:
            tidy_records(context, each.name, each.entry)
    return {each.name: each.error or each.findings for each in rounds}


class _Round:
    """One install on all its groups of servers; an error ends it."""

    def __init__(self, context: DeploymentContext, wish: Deployment, at_once: int) -> None:
        self.context, self.at_once = context, at_once
        self.name, self.entry, self.edition = wish.name, wish.entry, wish.edition
        self.away: dict[str, ReachTrouble] = {}
        self.groups: list[Group] = []
        self.findings: list[Finding] = []
        self.done: list[str] = []
        self.error: InkStampError | None = None
        self.places: list[str] = []
        """Where DNS may have TLSA records."""
        self.held: InkStampError | None = None
        """Why it cannot begin yet."""
        self.token = secrets.token_hex(4)

    @property
    def edits(self) -> set[tuple[str, str]]:
        """The files of servers' configurations that are changed, beside copies of the edition's own; server, path."""
        changes = (change for group in self.groups for change in group.changes)
        return {(each.server, each.file.path) for each in changes if each.file.rights is None or each.file.shared}

    @property
    def is_refused(self) -> bool:
        """Whether its edits were refused, and nothing of it stands."""
        return bool(self.edits) and isinstance(self.error, ServerTrouble) and not self.done

    def find_records(self) -> None:
        """Find out where DNS may say something of its key."""
        found = attempt(tlsa_places, self.context, self.entry)
        if isinstance(found, InkStampError):
            self.held = found
        else:
            self.places = found

    def await_records(self, longest: float) -> None:
        """Have what DNS says of its key go with it beforehand; caches are waited for `longest` seconds at most."""

        def publish() -> None:
            reached("publish", self.name)
            await_records(self.context, self.name, self.entry, self.edition, self.places, longest=longest)

        if self.held is None:
            found = attempt(publish)
            self.held = found if isinstance(found, InkStampError) else None

    def prepare(self, tested_since: float) -> None:
        """Find out what is to be changed."""
        self.error = self.held
        if self.held is not None:
            return
        try:
            with apart():
                reached("prepare", self.name)
                bring_back_cut_off(self.context, self.name, self.entry, self.away)
                self.groups = prepare(self.context, self.name, self.entry, self.edition, self.away,
                                      tested_since=tested_since, at_once=self.at_once)  # fmt: skip
        except InkStampError as error:
            self.error = error

    def load(self, group: Group) -> Load:
        """Return what is carried to a group."""
        return Load(name=self.name, entry=self.entry, edition=self.edition, group=group, token=self.token)

    def take(self, group: Group, result: Result) -> None:
        """Take what came of a group; a machine that is unreachable is left for the next run."""
        if isinstance(result, ReachTrouble):
            self.away[group.servers[0]] = result
        elif isinstance(result, InkStampError):
            self.error = self.error or result
        else:
            self.findings += result
            self.done += group.servers

    def finish(self, *, back: bool) -> None:
        """Have the shelf's current edition follow, and clear away; say of what is not whole what stands."""
        try:
            if self.error is None:
                with apart():
                    self._complete()
        except InkStampError as error:
            self.error = error
        else:
            if self.error is not None:
                self.error = _with_those_done(self.error, self, back=back)

    def _complete(self) -> None:
        if all(group.copied for group in self.groups) and (self.done or not self.entry.install):
            self.context.shelf.grant(self.name, self.edition.number)
            self.context.local_copy.switch(self.name, self.edition.number)
        if not self.entry.install:  # there was one step, and nothing to go back to
            text = f"edition {self.edition.number}"
            self.context.ledger.installs.add_done(self.name, self.edition.number, (), "shelved", text)
        drop_old_editions(self.context, self.name, self.entry)
        if self.away:
            raise _left_out(self.away, self.done, self.edition, self.findings)


def _side_by_side(rounds: Sequence[_Round]) -> tuple[list[_Round], list[_Round]]:
    """Split into those of which no two change the same file of a configuration, and the rest."""
    some, later, taken = list[_Round](), list[_Round](), set[tuple[str, str]]()
    for each in rounds:
        (later if each.edits & taken else some).append(each)
        taken |= each.edits
    return some, later


def _carry(context: DeploymentContext, some: Sequence[tuple[_Round, Group]]) -> dict[str, Result]:
    """Change a group of servers for all that is to go there; returns what came of each certificate."""
    loads = [each.load(group) for each, group in some if each.error is None]
    if len(loads) > 1:
        context.progress.step(", ".join(loads[0].group.servers), f"{len(loads)} new editions, one reload")
    found = attempt(carry_together, context, loads) if loads else {}
    return {load.name: copy(found) for load in loads} if isinstance(found, InkStampError) else found


def _go(context: DeploymentContext, rounds: Sequence[_Round], at_once: int) -> None:
    """Go through the groups: what shares the shelf first, then so many machines at a time.

    The first error of a round ends it, after those beside it.
    """
    places: dict[tuple[bool, tuple[str, ...]], list[tuple[_Round, Group]]] = {}
    for each in rounds:
        for group in each.groups:
            places.setdefault((group.copied, group.servers), []).append((each, group))
    shared = [[some] for (copied, _), some in places.items() if not copied]
    others = [some for (copied, _), some in places.items() if copied]
    batches = [*shared, *(others[at : at + at_once] for at in range(0, len(others), at_once))]
    done = 0
    for batch in batches:
        found = side_by_side(lambda some: _carry(context, some), batch, len(batch))
        for some, results in zip(batch, found, strict=True):
            for each, group in some:
                if each.name in results:
                    each.take(group, results[each.name])
        done += len(batch)
        context.progress.counts("servers done", done, len(places))


def _with_those_done(error: InkStampError, round_: _Round, *, back: bool) -> InkStampError:
    """Add to an error which servers were changed before it, and take them back if that is wanted."""
    if not round_.done:
        return error
    number = round_.edition.number
    has = f"{', '.join(round_.done)} {'have' if len(round_.done) > 1 else 'has'} edition {number}"
    if not back:
        return error.amended(advice=f"{error.advice}; {has}: `inkstamp undo {round_.name}` rolls it back there")
    try:
        folders = undoable(round_.context.home, round_.name, round_.token)
        groups = [group_back(round_.context, round_.name, round_.entry, folder) for folder in folders]
        take_back(round_.context, round_.name, round_.entry, folders, groups)
    except InkStampError as failed:
        return error.amended(advice=f"{error.advice}; {has}, and could not be rolled back: {failed.what}")
    return error.amended(advice=f"{error.advice}; {', '.join(round_.done)} were rolled back to what was there before")


def take_back(
    context: DeploymentContext, name: str, entry: Certificate, folders: Sequence[Path], groups: Sequence[Group]
) -> list[Finding]:
    """Take an install back, group by group; the caller holds certificate and servers.

    Args:
        context: The parts of the run.
        name: The certificate.
        entry: As configured.
        folders: What the install changed, one a group.
        groups: What takes that back (`group_back`), in the same order.

    Raises:
        ServerTrouble: A server refuses, or does not serve the edition before; that one is as it was then.

    """
    editions = [edition_before(context, name, folder) for folder in folders]
    for each in {each.number: each for each in editions if each is not None}.values():
        found = attempt(await_records, context, name, entry, each, tlsa_places(context, entry), longest=None)
        if isinstance(found, InkStampError):  # what is wrong now is more urgent
            context.progress.step(name, f"its TLSA records are left as they are: {found.what}")
    findings = []
    broken = _broken(context, [server for group in groups for server in group.servers])
    for group, folder, edition in zip(groups, folders, editions, strict=True):
        try:
            findings += carry_through(context, Load(name=name, entry=entry, edition=edition, group=group))
        except ServerTrouble as error:
            first = next((broken[server] for server in group.servers if server in broken), None)
            if first is None:
                raise
            both = f"{first.what}, and it is not what would be taken back: {error.what}"
            raise error.amended(what=both) from error.__cause__
        remove_tree(folder)
    if editions and all(group.copied for group in groups):
        context.local_copy.switch(name, editions[0].number if editions[0] is not None else None)
    return findings


def _broken(context: DeploymentContext, servers: Sequence[str]) -> dict[str, ServerTrouble]:
    """Have configurations tested as they stand; returns the trouble of those that are broken: by it, perhaps."""
    found = {}
    for server in servers:
        try:
            test_before(context.servers.reloadable(server))
        except ServerTrouble as error:
            found[server] = error
    return found


def _left_out(
    away: dict[str, ReachTrouble], done: Sequence[str], edition: EditionRecord, findings: Sequence[Finding]
) -> ReachTrouble:
    first = next(iter(away.values()))
    has = f"{', '.join(done)} {'have' if len(done) > 1 else 'has'} edition {edition.number}; " if done else ""
    return ReachTrouble(
        f"edition {edition.number} could not be installed on {', '.join(away)}",
        where=first.where,
        said=first.said,
        findings=[*findings, *(bad("installed", server, error.what, error.advice) for server, error in away.items())],
        advice=f"{has}the next run tries the rest",
    )
