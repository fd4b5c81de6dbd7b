"""Upkeep of a shared ledger: made, shown, verified, migrated, resealed."""

from collections.abc import Iterator

from cryptography.hazmat.primitives import hashes
from msgspec import Struct

from inkstamp.bulkhead import apart
from inkstamp.config.model import Configuration
from inkstamp.config.sharing import not_shared
from inkstamp.errors import InkStampError
from inkstamp.files import read_secret
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.jobs.fleet.context import FleetContext
from inkstamp.ledger.rows import as_edition
from inkstamp.ledger.sealed_files import SealedFiles
from inkstamp.ledger.sealing import BothKeys, KeyProgram
from inkstamp.ledger.shared import SharedLedger
from inkstamp.ledger.shared_ledger import LedgerFacts, facts_of, make_tables, migrate_tables, unmade
from inkstamp.pki import keys
from inkstamp.pki.certificates import read_pem
from inkstamp.severity import Severity
from inkstamp.wording import counted


class Verified(Struct, frozen=True):
    """What looking through a shared ledger came to."""

    files: int
    editions: int
    findings: tuple[Finding, ...]


class Resealed(Struct, frozen=True):
    """What sealing anew came to."""

    resealed: int
    unchanged: int
    keys_in_use: dict[str, int]
    """How many files each sealing key is needed for still, by its id."""


def expect_shared(context: FleetContext) -> SharedLedger:
    """Return the shared ledger; UsageError where none is configured."""
    if context.shared is None:
        raise not_shared(context.configuration.path)
    return context.shared


def make_ledger(context: FleetContext, *, roles: bool) -> bool:
    """Make the tables of a shared ledger and, with `roles`, the roles of workers and nodes; again is harmless.

    Returns whether the tables had to be made.

    Raises:
        LedgerTrouble: The database cannot be reached, or refused it to our role.
        ConfigurationError: The sealing keys cannot be read: nothing is made then.

    """
    shared = expect_shared(context)
    _expect_keys(context.configuration.whole)
    database = unmade(shared.address)
    try:
        return make_tables(database, roles=roles)
    finally:
        database.close()


def _expect_keys(config: Configuration) -> None:
    if config.ledger.seal_key_file:
        from pathlib import Path  # noqa: PLC0415  here alone

        read_secret(Path(config.ledger.seal_key_file))


def migrate_ledger(context: FleetContext) -> tuple[int, int]:
    """Bring a shared ledger's tables up to this release, all or nothing; returns the versions before and after.

    Raises:
        LedgerTrouble: A machine still runs a release that could not use them then.

    """
    database = unmade(expect_shared(context).address)
    try:
        return migrate_tables(database)
    finally:
        database.close()


def ledger_facts(context: FleetContext) -> LedgerFacts:
    """Return what a shared ledger holds."""
    return facts_of(expect_shared(context).database)


def verify_ledger(context: FleetContext) -> Verified:
    """Open every sealed file, and see that each edition's leaf and key are its own."""
    shared = expect_shared(context)
    findings, files = list[Finding](), 0
    for unsound in shared.stored.verify():
        files += 1
        if unsound is not None:
            remedy = "restore that row from a backup of the database, or order the certificate again"
            findings.append(bad("sealed", unsound.path, unsound.why, remedy))
    editions = 0
    for finding in _each_edition(shared):
        editions += 1
        if finding is not None:
            findings.append(finding)
    if not findings:
        findings.append(ok("sealed", "all", f"{counted(files, 'file')} opened; each edition has its own leaf and key"))
    return Verified(files, editions, tuple(findings))


def _each_edition(shared: SharedLedger) -> Iterator[Finding | None]:
    newest = "max(number) OVER (PARTITION BY certificate)"
    for row in shared.database.rows(f"SELECT *, {newest} AS newest FROM edition ORDER BY certificate, number"):  # noqa: S608
        edition = as_edition(row)
        subject = f"{edition.certificate} edition {edition.number}"
        folder = f"shelf/{edition.certificate}/{edition.number:04d}"
        try:
            with apart():
                found = _edition_finding(shared.stored, edition.certificate, folder, edition.sha256, subject)
            # Older ones are dropped in time.
            is_dropped = found is not None and found.severity is Severity.WARN and row["newest"] > edition.number
            yield None if is_dropped else found
        except InkStampError as error:
            yield bad("edition", subject, error.what, "restore it from a backup, or order it again")


def _edition_finding(stored: SealedFiles, name: str, folder: str, sha256: str, subject: str) -> Finding | None:
    leaf = stored.get(name, f"{folder}/leaf.pem")
    if leaf is None:
        return warn("edition", subject, "its files are not stored", f"inkstamp stamp {name} --reissue")
    certificate = read_pem(leaf, folder)[0]
    if certificate.fingerprint(hashes.SHA256()).hex() != sha256:
        return bad("edition", subject, "its leaf is another certificate", f"inkstamp stamp {name} --reissue")
    key = stored.get(name, f"{folder}/key.pem")
    if key is None or keys.is_encrypted(key):
        return None  # another machine has it, or it opens with the certificate's passphrase alone
    if keys.from_pem(key, folder).public_key() != certificate.public_key():
        return bad("edition", subject, "its key is that of another certificate", f"inkstamp stamp {name} --reissue")
    return None


def reseal_ledger(context: FleetContext) -> Resealed:
    """Seal every file with the key that counts now, while everything runs; one that is killed goes on when run again.

    With a program that wraps keys, a new data key is made first, unless the newest one seals nothing yet.
    """
    shared = expect_shared(context)
    stored = shared.stored
    source = shared.seal_keys.sealing if isinstance(shared.seal_keys, BothKeys) else shared.seal_keys
    if isinstance(source, KeyProgram):
        in_use = stored.keys_in_use()
        if set(in_use) == {source.current()}:
            source.make()
    done = list(stored.reseal())
    return Resealed(sum(done), len(done) - sum(done), stored.keys_in_use())
