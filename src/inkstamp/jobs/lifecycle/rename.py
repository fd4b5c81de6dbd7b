"""A certificate called otherwise: its entry, records, editions and copies for undo; servers notice nothing.

The folder of its editions keeps its name, and a link by the new one leads there, since servers are configured with
paths in it. An install writes the path by the new name.
"""

from pathlib import Path

from inkstamp.config.entries import is_entry_name
from inkstamp.errors import UsageError
from inkstamp.files import file_trouble
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.provisioning import settle
from inkstamp.ledger.file_store import expect_own
from inkstamp.ledger.roster import keep_copy


def rename_certificate(context: LifecycleContext, old: str, new: str) -> None:
    """Call a certificate otherwise. Killed in between, the same command goes on.

    Raises:
        UsageError: There is no such certificate, the new name is taken or cannot be one, or an order is open.
        ConfigurationError: Its entry is not one that can be renamed.

    """
    expect_own(context.store, "certificates are not renamed", "enrol it under the new name, and let the old one expire")
    if not is_entry_name(new, "certificate"):
        raise UsageError(f"“{new}” cannot be the name of a certificate",
                         advice="use lower-case letters, digits, hyphens and dots")  # fmt: skip
    first, second = sorted((old, new))
    if first == second:
        raise UsageError(f"it is called “{old}” already", advice="give another name")
    with context.locks.certificate(first), context.locks.certificate(second):
        if not _is_half_done(context, old, new):
            _expect_possible(context, old, new)
            settle(context, old)
            _rename(context, old, new)
        if context.certificates.record(new) is None:  # on the roster it was done at once
            context.ledger.renames.finish(old, new)
        for before, after in _folders(context, old, new):
            if before.exists() and not after.exists():
                with file_trouble("rename", before):
                    before.rename(after)


def _is_half_done(context: LifecycleContext, old: str, new: str) -> bool:
    """Tell whether a run that was killed has written the new name already."""
    return old not in context.certificates and new in context.certificates and context.shelf.leads_to(new) == old


def _expect_possible(context: LifecycleContext, old: str, new: str) -> None:
    context.certificates.entry(old)
    taken = new in context.certificates or context.ledger.removals.left_on(new) is not None
    is_ours = context.shelf.leads_to(new) == old
    if taken or (not is_ours and (context.shelf.of(new).exists() or context.ledger.newest_edition(new) is not None)):
        raise UsageError(f"there is a certificate “{new}” already, or was one", advice="choose a name that none had")
    if context.ledger.open_order(old) is not None:
        raise UsageError(
            f"an order for “{old}” is open", advice=f"go on with it, or cancel it: inkstamp order {old} --cancel"
        )


def _rename(context: LifecycleContext, old: str, new: str) -> None:
    if context.shelf.of(old).exists():
        context.shelf.link(new, old)
    if context.certificates.record(old) is not None:
        context.ledger.renames.on_roster(old, new)
        context.certificates.forget()
        keep_copy(context.home, context.store, context.ledger.roster)
        return
    context.ledger.renames.begin(old, new)
    context.configuration.rename_entry("certificate", old, new)
    context.certificates.forget()


def _folders(context: LifecycleContext, old: str, new: str) -> list[tuple[Path, Path]]:
    home = context.home
    return [(made(old), made(new)) for made in (home.undo, home.challenge_path, home.next_csr, home.next_key)]
