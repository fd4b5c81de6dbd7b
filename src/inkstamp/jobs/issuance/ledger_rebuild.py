"""Make a new ledger from what lies on the shelf, when the old one is gone or damaged."""

from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from inkstamp.certificates import Certificates
from inkstamp.clock import stamp
from inkstamp.errors import EditionUnfit, FileTrouble, UsageError
from inkstamp.files import file_trouble, read_bytes
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.jobs.issuance.acceptance import record_of
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.ledger.file_store import expect_own
from inkstamp.ledger.records import EditionRecord, EnrolledRecord, InstallState
from inkstamp.ledger.sqlite import SqliteDatabase, trouble_of
from inkstamp.ledger.store import Ledger
from inkstamp.locks import Lock, Locks, Scope
from inkstamp.pki.certificates import read_pem, short_name
from inkstamp.pki.chain import find_paths
from inkstamp.printable import one_line
from inkstamp.wording import counted

if TYPE_CHECKING:
    pass


class Rebuilt(Struct, frozen=True, kw_only=True):
    """What became of it."""

    editions: int
    moved_to: str
    """Where the old ledger lies now; empty when there was none."""
    findings: tuple[Finding, ...]


def rebuild(context: IssuanceContext) -> Rebuilt:
    """Make a new ledger with all editions of the shelf; the old one is moved aside, never removed.

    What only the ledger knew is lost: history, orders that were open (their names are proven again), what was installed
    where (the next `renew` installs again, which changes nothing where it is installed), and which account each CA gave
    us (it is found by its key). Killed in between, it may be run again.

    Raises:
        UsageError: The ledger is there and sound.

    """
    expect_own(
        context.store, "no ledger is rebuilt from one machine's data directory",
        "see what is wrong with it: inkstamp ledger verify; then restore a backup of the database",
    )  # fmt: skip
    home = context.home
    file = home.ledger
    with Locks(home.locks).hold(Lock("ledger", "the ledger's rebuilding", Scope.LEDGER)):
        moved = _move_aside(file, stamp(context.clock.now())) if file.exists() else ""
        fresh = home.ledger.with_suffix(".db.new")
        for each in _of_ledger(fresh):
            each.unlink(missing_ok=True)
        ledger = Ledger(SqliteDatabase(fresh), context.clock)
        ledger.begin_run(context.command)
        findings: list[Finding] = []
        count = 0
        try:
            _restore_roster(context, ledger, findings)
            certificates = Certificates(context.configuration, lambda: ledger.roster)
            renamed = context.shelf.renamed()
            for name in sorted(each.name for each in home.shelf.iterdir()) if home.shelf.is_dir() else ():
                if name in renamed:
                    continue  # the certificate was renamed, and is met by its new name
                for number in context.shelf.numbers(name):
                    found = _read(context, certificates, name, number)
                    if isinstance(found, Finding):
                        findings.append(found)
                    else:
                        ledger.restore_edition(found)
                        count += 1
                _restore_shelved(certificates, ledger, name)
            ledger.note("rebuilt", f"{counted(count, 'edition')} of the shelf")
        finally:
            ledger.end_run(0)
            ledger.close()
        with file_trouble("rename", fresh):
            fresh.rename(file)
    findings.append(ok("ledger", str(file), f"is rebuilt, with {counted(count, 'edition')}"))
    return Rebuilt(editions=count, moved_to=moved, findings=tuple(findings))


def _restore_roster(context: IssuanceContext, ledger: Ledger, findings: list[Finding]) -> None:
    """Enrol again what was enrolled, by the copy that was kept of it."""
    file = context.home.roster_copy
    if not file.exists():
        return
    try:
        records = [EnrolledRecord.from_line(line) for line in read_bytes(file).splitlines() if line.strip()]
    except (msgspec.MsgspecError, ValueError) as error:
        told = f"cannot be read, so that nothing is on the roster: {one_line(str(error), 200)}"
        findings.append(
            bad("roster", str(file), told, "enrol the certificates again: inkstamp enrol --group GROUP --from FILE")
        )
        return
    ledger.roster.enrol(records, f"{counted(len(records), 'certificate')}, from {file}")
    findings.append(ok("roster", str(file), f"{counted(len(records), 'certificate')} are on the roster again"))


def _restore_shelved(configured: Certificates, ledger: Ledger, name: str) -> None:
    """Record that the newest edition of a certificate without servers is where it should be: on the shelf."""
    entry, newest = configured.get(name), ledger.newest_edition(name)
    if entry is not None and not entry.install and newest is not None:
        record = ledger.installs.begin(name, newest.number, ())
        ledger.installs.end(record, InstallState.DONE, "shelved", f"edition {newest.number}")


def _of_ledger(file: Path) -> list[Path]:
    """Return the files that a database consists of: itself, its journal, what readers share."""
    return [file, file.with_name(f"{file.name}-wal"), file.with_name(f"{file.name}-shm")]


def _move_aside(file: Path, when: str) -> str:
    if file.stat().st_size > 0 and not trouble_of(file):
        raise UsageError("the ledger is intact; nothing to rebuild", where=str(file))
    aside = file.with_name(f"{file.name}.damaged-{when}")
    for each in _of_ledger(file):
        if each.exists():
            with file_trouble("rename", each):
                each.rename(aside.with_name(each.name.replace(file.name, aside.name)))
    return str(aside)


def _read(context: IssuanceContext, certificates: Certificates, name: str, number: int) -> EditionRecord | Finding:
    file = context.shelf.edition(name, number) / "served.pem"
    try:
        chain = read_pem(read_bytes(file), str(file))
    except (EditionUnfit, FileTrouble) as error:
        return warn("edition", f"{name} {number}", f"is left out: {error}", "order a new one: inkstamp stamp " + name)
    entry = certificates.get(name)
    leaf = chain[0]
    authority = entry.authority if entry is not None else ""
    trusted = [*context.trust.private_if_any([authority]), *context.trust.roots_if_any]
    paths = find_paths(leaf, chain[1:], trusted, leaf.not_valid_before_utc)
    root = short_name(paths[0].root.subject if paths else chain[-1].issuer)
    return record_of(name, number, authority, leaf, root, ends=paths[0].ends if paths else None)
