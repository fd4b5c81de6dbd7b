"""Let proofs through where a web server's own configuration is in their way, and close the way again.

1. see which names fail, and test the configuration as it stands
2. work out the edits, keep what stands there, write
3. test, reload, and try a file from outside
4. if it is seen, the way stays open for this and later orders; otherwise everything goes back byte for byte
"""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.config.carrying import file_servers
from inkstamp.config.model import Certificate
from inkstamp.deadline import at_least
from inkstamp.errors import InkStampError, ServerTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.precheck import NameCheck, precheck
from inkstamp.jobs.validation.web_files import check_addresses, until_steady
from inkstamp.servers import backup
from inkstamp.servers.interface import Configured
from inkstamp.servers.reload import take_effect, test_before
from inkstamp.servers.run_state import start_again, up_of
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.clock import Clock

_FOLDER = (".well-known", "acme-challenge")
_LOOK_SECONDS = 5.0
_BACK_SECONDS = 120.0
"""For bringing files back, whatever time is left."""


class Passage(Struct, frozen=True, kw_only=True):
    """What was changed, or would be."""

    names: tuple[str, ...]
    """The names whose proofs did not come through."""
    differences: tuple[str, ...]
    """Unified diffs, one for each file."""
    findings: tuple[Finding, ...]
    """What was seen afterwards; before, when nothing was changed."""
    done: bool


def open_unless_open(context: ValidationContext, name: str) -> Passage | None:
    """Open the challenge path of a certificate; None where it is open, or was opened before. As `let_through`."""
    if backup.kept(context.home.challenge_path(name)) is not None:
        return None
    return _let_through(context, name, preview=False)


def let_through(context: ValidationContext, name: str, *, preview: bool) -> Passage:
    """Open the way for the proofs of certificate `name` on all of its servers.

    Raises:
        UsageError: No server carries its proofs, the challenge path is open already, or the way was opened before.
        ProofFailed: A name has no address, which no change of a server helps against.
        ServerTrouble: A server refuses the change, or the proofs are not seen after it; everything is as it was.

    """
    done = _let_through(context, name, preview=preview)
    if done is None:
        raise UsageError(f"the challenge path of “{name}” is open already", advice=f"continue: inkstamp stamp {name}")
    return done


def _let_through(context: ValidationContext, name: str, *, preview: bool) -> Passage | None:
    entry = context.certificates.entry(name)
    servers = file_servers(context.config, entry)
    if not servers or "http-01" not in entry.methods:
        raise UsageError(
            f"no web server places files for “{name}”, so no configuration can be in the way",
            advice='this is for http-01: name the server with `via`, and "http-01" with `proof`',
        )
    with context.locks.certificate(name), context.locks.servers(servers):
        _recover(context, name, servers)
        if backup.kept(context.home.challenge_path(name)) is not None:
            raise UsageError(
                f"the challenge path of “{name}” was opened before",
                where=str(context.home.challenge_path(name)),
                advice=f"close it first, to open it again: inkstamp prove {name} --close-again",
            )
        check_addresses(context.view, [each for each in entry.names if not each.startswith("*.")])
        before = _look(context, name)
        failing = [each.name for each in before if _fails(each)]
        if not failing:
            return None
        changes = _plan(context, servers, failing)
        if preview:
            return _passage(failing, changes, before, done=False)
        after = _open(context, name, changes, failing)
        context.ledger.note("challenge path opened", f"for {', '.join(failing)}", name)
        return _passage(failing, changes, after, done=True)


def _look(context: ValidationContext, name: str) -> list[NameCheck]:
    # An address that cannot be reached from here is no configuration's doing.
    return [each for each in precheck(context, [name], whole=False) if each.method == "http-01"]


def _fails(check: NameCheck) -> bool:
    return Severity.BAD in (check.mark("validation"), check.mark("server"))


def _plan(context: ValidationContext, servers: Sequence[str], names: Sequence[str]) -> list[backup.Change]:
    changes = []
    for each in servers:
        server = context.servers.get(each)
        if not isinstance(server, Configured):
            continue  # its kind has no configuration that is known
        test_before(server)
        root = context.config.server[each].proof_folder
        changes += [backup.Change(each, change) for change in server.plan_let_through(names, _FOLDER, root)]
    if not changes:
        raise ServerTrouble(
            "there is no configuration that could be changed",
            where=", ".join(servers),
            advice="edit the configuration so that /.well-known/acme-challenge/ is answered from files",
        )
    return changes


def _open(
    context: ValidationContext,
    name: str,
    changes: Sequence[backup.Change],
    failing: Sequence[str],
) -> list[NameCheck]:
    changed = list(dict.fromkeys(each.server for each in changes))
    # Written down before they are made: what of these folders is empty may go when the way is closed.
    folders = [[each, context.config.server[each].proof_folder] for each in changed]
    began, up = context.clock.now(), up_of(map(context.servers.get, changed))
    backup.keep(context.home.challenge_path(name), changes, open=False, folders=folders, up=up)
    try:
        for server, folder in folders:
            context.servers.get(server).host.have_folder(folder)
        backup.make(context.servers, changes)
        for each in changed:
            take_effect(context.servers.configured(each))
        seen = _look_until_seen(context, name, failing)
    except InkStampError as error:
        trouble, stopped = _put_back(context, name, began)
        advice = "; ".join(filter(None, [", ".join(["all files are restored", *trouble]), error.advice]))
        raise error.amended(what="; ".join([error.what, *stopped]), advice=advice) from error.__cause__
    backup.remark(context.home.challenge_path(name), open=True)
    return seen


def _look_until_seen(context: ValidationContext, name: str, names: Sequence[str]) -> list[NameCheck]:
    """Try files from outside until all come through."""
    checks = look_until_steady(lambda: [each for each in _look(context, name) if each.name in names], context.clock)
    failing = [each for each in checks if _fails(each)]
    if not failing:
        return checks
    raise ServerTrouble(
        f"a file for {failing[0].name} is not seen from outside after the change either",
        where=", ".join(dict.fromkeys(context.certificates.entry(name).carriers)),
        advice="something else is in the way: see the findings",
        findings=[finding for each in failing for finding in each.findings],
    )


def look_until_steady(look: Callable[[], list[NameCheck]], clock: "Clock") -> list[NameCheck]:
    """Look until all files come through, and keep coming through; returns what was seen last."""
    return until_steady(look, lambda checks: any(map(_fails, checks)), clock, _LOOK_SECONDS)


def _put_back(context: ValidationContext, name: str, since: datetime) -> tuple[list[str], list[str]]:
    """Bring the files back; returns what went wrong with that, and which servers had stopped since a moment."""
    folder = context.home.challenge_path(name)
    with at_least(_BACK_SECONDS):
        manifest = backup.bring_back(context.servers, folder)
        trouble = backup.reload_all(context.servers, dict.fromkeys(each["server"] for each in manifest["files"]))
        up = [context.servers.get(each) for each in manifest.get("up", ())]
        stopped = [told for each in up if (told := start_again(each, context.clock, since))]
        _drop_folders(context, manifest["folders"])
    remove_tree(folder)
    return trouble, stopped


def _drop_folders(context: ValidationContext, folders: Sequence[Sequence[str]]) -> None:
    for server, path in folders:
        context.servers.get(server).host.drop_folder(path)


def _recover(context: ValidationContext, name: str, servers: Sequence[str]) -> None:
    """Put back what a run that was killed had begun to change."""
    manifest = backup.kept(context.home.challenge_path(name))
    if manifest is not None and not manifest["open"] and servers:
        context.progress.step(name, "rolling back an interrupted run")
        _put_back(context, name, context.clock.now())


def close_again(context: ValidationContext, name: str) -> Passage:
    """Take the edits of `let_through` back, and leave what else was changed in the files since.

    Raises:
        UsageError: The way was not opened.
        ServerTrouble: The edits cannot be found in a file any more, or the server refuses the change.

    """
    entry: Certificate = context.certificates.entry(name)
    folder = context.home.challenge_path(name)
    with context.locks.certificate(name), context.locks.servers(file_servers(context.config, entry)):
        manifest = backup.kept(folder)
        if manifest is None:
            raise UsageError(f"no change was made for “{name}”", advice="there is nothing to close")
        undone = backup.reversed_changes(context.servers, folder, nearest=True)
        backup.take_out(context.servers, undone)
        _drop_folders(context, manifest["folders"])
        remove_tree(folder)
        context.ledger.note("closed again", "the challenge path", name)
    return _passage(entry.names, undone, [], done=True)


def _passage(
    names: Sequence[str], changes: Sequence[backup.Change], checks: Sequence[NameCheck], *, done: bool
) -> Passage:
    findings = tuple(
        finding for check in checks for finding in check.findings if finding.topic in {"validation", "server"}
    )
    return Passage(names=tuple(names), differences=backup.differences(changes), findings=findings, done=done)
