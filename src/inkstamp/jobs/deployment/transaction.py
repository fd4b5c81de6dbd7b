"""Change groups of servers to an edition, or everything back as it was.

    1. test the configuration as it stands              4. test the configuration
    2. work out the edits                               5. reload
    3. save what stands there, record, then write       6. shake hands and compare
                                                        7. record that it is done

`preparing` does the first two. Any failure from 3 to 6 leads to: files and link back byte for byte, reload, an error
that says what happened. A run that was killed in between is found by its record, and `putting_back` does the same for
it. Several certificates that go to the same servers share steps 4 and 5: a reload of a server with thousands of sites
takes seconds, and leaves workers of before behind.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography import x509
from msgspec import Struct

from inkstamp.bulkhead import apart, attempt, reached, side_by_side
from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ReachTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import Finding
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.handshakes import LOOK_SECONDS, see_served
from inkstamp.jobs.deployment.plan import Group, handed
from inkstamp.jobs.deployment.rollback import put_back, takers
from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState
from inkstamp.servers import backup
from inkstamp.servers.interface import ServerKind
from inkstamp.servers.reload import take_effect
from inkstamp.servers.run_state import up_of
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.clock import Clock

Result = list[Finding] | InkStampError
"""What was seen, or what went wrong."""

_AT_ONCE = 8
"""Names looked at in the same moment."""
_WORKERS_LAST = 0.15
"""Seconds after a reload in which workers of before take connections beside the new ones; nginx: a tenth."""
_MOST_KEPT = 5
"""Installs of a certificate on a group of servers that can be undone, one after the other."""


class Load(Struct, frozen=True, kw_only=True):
    """An edition, and what is to be changed for it on a group of servers."""

    name: str
    """The certificate."""
    entry: Certificate
    edition: EditionRecord | None
    """None when there is to be none any more."""
    group: Group
    token: str = ""
    """The same for all groups of one install; empty when an earlier install is undone by this."""

    @property
    def number(self) -> int | None:
        """The number of the edition; None for none."""
        return self.edition.number if self.edition is not None else None


class _Begun(Struct, frozen=True):
    """A load whose changes have been made."""

    load: Load
    chain: tuple[x509.Certificate, ...]
    """What is to be seen; empty when there is to be nothing."""
    record: InstallRecord
    folder: Path
    """What is kept of before."""
    seen: list[Finding]
    changed: bool
    """Whether the servers had anything else before."""


def carry_through(context: DeploymentContext, load: Load) -> list[Finding]:
    """Make a load's changes, switch to the edition and check that it is served, or put all back (steps 3 to 7).

    The caller holds certificate and servers.
    """
    result = carry_together(context, [load])[load.name]
    if isinstance(result, InkStampError):
        raise result
    return result


def carry_together(context: DeploymentContext, loads: Sequence[Load]) -> dict[str, Result]:
    """Do the same for loads of several certificates on the same servers, which are tested and reloaded once for all.

    Where a server refuses, all are put back and either half is tried by itself, down to the one that it refuses: the
    others are not held up by it. Returns what came of each, by certificate.
    """
    begun, results = list[_Begun](), dict[str, Result]()
    up = up_of(map(context.servers.get, loads[0].group.servers))
    for load in loads:
        try:
            with apart():
                begun.append(_begin(context, load, up))
        except InkStampError as error:
            results[load.name] = error
    servers = loads[0].group.servers
    try:
        with apart():
            for server in servers:
                if begun:
                    reached("effect", ",".join(each.load.name for each in begun))
                    context.locks.expect()
                    take_effect(context.servers.installable(server))
                    begun = _seen_on(context, server, begun, results)
            if any(finding.severity is Severity.OK for each in begun for finding in each.seen):
                context.clock.sleep(_WORKERS_LAST)  # what was seen may be a new worker among those of before
                for server in servers:
                    begun = _seen_on(context, server, begun, results, again=True)
    except InkStampError as error:
        return results | _refused(context, begun, error)
    for each in begun:
        results[each.load.name] = _ended(context, each)
    return results


def _begin(context: DeploymentContext, load: Load, up: Sequence[str]) -> _Begun:
    """Save what stands there, record, then write (step 3). `up` are those of the servers that run."""
    group = load.group
    parent = context.home.undo(load.name)
    chain = context.shelf.chain(load.edition) if load.edition is not None else ()
    before = _present(context, load.name, group)
    held = {each.name: each.holds(load.name) for each in takers(context, group.servers)}
    had = [each for each in group.servers if context.ledger.installs.installed(load.name, each) is not None]
    is_changed = before != load.number or any(each.file.is_change for each in group.changes)
    seal = context.shelf.seal(load.name)
    folder = backup.keep_next(parent, group.changes, seal, servers=group.servers, copied=group.copied, before=before,
                           edition=load.number, token=load.token, done=False, held=held, had=had, up=up)  # fmt: skip
    # One that goes back to before its first edition has none then, whatever the shelf has.
    has_one = bool(load.token) or any(group.names.values())
    record = context.ledger.installs.begin(load.name, (load.number or 0) if has_one else 0, group.servers)
    try:
        with apart():
            backup.make(context.servers, group.changes)
            reached("change", load.name)
            if not group.copied:
                if load.number is not None:
                    context.shelf.grant(load.name, load.number)
                context.local_copy.switch(load.name, load.number)
            _hand_over(context, load.name, group, load.edition)
    except InkStampError as error:
        (told,) = put_back(context, [(record, error)])
        raise told from error.__cause__
    return _Begun(load, chain, record, folder, [], is_changed)


def _refused(context: DeploymentContext, begun: Sequence[_Begun], error: InkStampError) -> dict[str, Result]:
    """Put all back; where there are several, and the servers can be reached, find those that are refused."""
    errors = put_back(context, [(each.record, error) for each in begun])
    loads = [each.load for each in begun]
    if len(loads) == 1 or isinstance(error, ReachTrouble):
        return {load.name: own for load, own in zip(loads, errors, strict=True)}
    text = f"rejects the {len(loads)} together: finding out which"
    context.progress.step(", ".join(loads[0].group.servers), text)
    half = len(loads) // 2
    return carry_together(context, loads[:half]) | carry_together(context, loads[half:])


def _seen_on(
    context: DeploymentContext,
    server_name: str,
    begun: list[_Begun],
    results: dict[str, Result],
    *,
    again: bool = False,
) -> list[_Begun]:
    """See that a server serves what it was given (step 6).

    What it does not serve is put back, and told in `results`; returns the others. A site that had no TLS before is not
    looked at when going back to that. A second look is taken at some.
    """
    server = context.servers.installable(server_name)
    # One for all: where nothing is served any more, that must not last for each.
    deadline = context.clock.monotonic() + LOOK_SECONDS

    def look(wanted: tuple[_Begun, str]) -> Finding | InkStampError:
        each, name = wanted
        return attempt(_see, context.clock, server, each, name, deadline)

    looked = [(each, name) for each in begun if each.chain for name in each.load.group.names[server_name]
              if each.load.token or server.tls_endpoints(name) != []]  # fmt: skip
    looked = looked[:_AT_ONCE] if again else looked
    found = side_by_side(look, looked, _AT_ONCE)
    failed: dict[str, InkStampError] = {}
    for (each, _), result in zip(looked, found, strict=True):
        if isinstance(result, InkStampError):
            failed[each.load.name] = result
        elif not again:
            each.seen.append(result)
    back = [each for each in begun if each.load.name in failed]
    told = put_back(context, [(each.record, failed[each.load.name]) for each in back])
    results |= {each.load.name: error for each, error in zip(back, told, strict=True)}
    return [each for each in begun if each.load.name not in failed]


def _see(clock: "Clock", server: ServerKind, begun: _Begun, name: str, deadline: float) -> Finding:
    reached("look", begun.load.name)
    return see_served(clock, server, begun.load.number or 0, begun.chain, name, deadline=deadline)


def _ended(context: DeploymentContext, begun: _Begun) -> Result:
    """Record that it is done; what cannot be recorded is put back, since no later run would know of it."""
    try:
        with apart():
            reached("record", begun.load.name)
            _end(context, begun)
    except InkStampError as error:
        return put_back(context, [(begun.record, error)])[0]
    return begun.seen


def _end(context: DeploymentContext, begun: _Begun) -> None:
    """Record that it is done (step 7)."""
    load, installs = begun.load, context.ledger.installs
    where = ", ".join(load.group.servers)
    if not load.token:
        number = begun.record.edition
        text = f"rolled back to edition {number} on {where}" if number else f"no edition on {where} any longer"
        installs.end(begun.record, InstallState.ROLLED_BACK, "rolled back", text)
        remove_tree(begun.folder)
    else:
        installs.end(begun.record, InstallState.DONE, "installed", f"edition {load.number} on {where}")
        if not begun.changed:  # there is nothing to go back to, and the way back before it is not to be lost
            remove_tree(begun.folder)
            return
        backup.remark(begun.folder, done=True)
        backup.prune(context.home.undo(load.name), _MOST_KEPT * len(load.entry.install))


def _present(context: DeploymentContext, name: str, group: Group) -> int | None:
    """Return the number of the edition that a group has now; None for none."""
    if not group.copied:
        return context.local_copy.current(name)
    return context.ledger.installs.installed(name, group.servers[0])


def _hand_over(context: DeploymentContext, name: str, group: Group, edition: EditionRecord | None) -> None:
    for each in takers(context, group.servers):
        if edition is not None:
            each.take(group.names[each.name], handed(context, edition))
        else:
            each.give_back(name, group.held.get(each.name, ""), None)
