"""Make a key and a request for it outside of any order, and read anybody's request."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from inkstamp.errors import FileTrouble, UsageError
from inkstamp.files import create_bytes, file_trouble, place_bytes, sync_folder
from inkstamp.findings import Finding
from inkstamp.key_files import read_key
from inkstamp.pki import csr, keys
from inkstamp.pki.kinds import SUBJECT_WORDS, KeyKind
from inkstamp.pki.names import as_address, normalise
from inkstamp.pki.subject import Subject, examine_subject
from inkstamp.severity import Severity, worst_first


class MakeRequest(Struct, frozen=True, kw_only=True):
    """What the user asked for."""

    names: tuple[str, ...]
    """DNS names and IP addresses, as typed."""
    subject: Subject
    """Its common name may be empty: the first name is taken."""
    folder: Path
    base: str = ""
    """Beginning of the file names; empty for the first name."""
    kind: KeyKind = KeyKind.ECDSA_P256
    key_file: Path | None = None
    """An existing key to use."""
    passphrase: bytes | None = None
    """Of the existing key, or to encrypt the new one with; None for an open one."""
    private: bool = False
    """Whether a private CA is meant."""


class Made(Struct, frozen=True, kw_only=True):
    """What was written."""

    key_file: str
    key_is_new: bool
    key_encrypted: bool
    csr_file: str
    request: str
    """The PEM block to paste."""
    facts: csr.RequestFacts


def read_wanted(names: Sequence[str], subject: Subject) -> csr.Wanted:
    """Sort names as typed into DNS names and IP addresses, and complete the subject.

    Raises:
        NameTrouble: One is neither.
        UsageError: There is none.

    """
    addresses = [found for each in names if (found := as_address(each))]
    hosts = [normalise(each) for each in names if not as_address(each)]
    if not addresses and not hosts:
        raise UsageError("no name was given", advice="name the sites: inkstamp csr make NAME…")
    wanted = csr.for_names([*dict.fromkeys(hosts)] or addresses, subject)
    common = subject.common_name
    if common:
        wanted = csr.with_common_name(wanted, common)
    return csr.Wanted(
        subject=wanted.subject, names=tuple(dict.fromkeys(hosts)), addresses=tuple(dict.fromkeys(addresses))
    )


def judge_names(names: Sequence[str], *, private: bool) -> list[Finding]:
    """Judge the names of a request that is being made; the worst first.

    Raises:
        NameTrouble, UsageError: One is no name at all.

    """
    return worst_first(csr.examine(read_wanted(names, Subject()), private=private))


def judge_field(field: str, value: str, so_far: Mapping[str, str]) -> list[Finding]:
    """Judge one field of a subject that is being given, by the fields `so_far`."""
    found = examine_subject(Subject(**{**so_far, field: value}))
    mine = (each for each in found if each.subject == SUBJECT_WORDS[field])
    return [each for each in mine if not each.seen.startswith("is given without")]


def judge_request(request: MakeRequest) -> list[Finding]:
    """Judge a request as a whole, before it is made."""
    return worst_first(csr.examine(read_wanted(request.names, request.subject), private=request.private))


def make_request(request: MakeRequest) -> Made:
    """Make a key and its request; neither is left half written.

    Raises:
        UsageError: A CA would refuse the request (the findings say why), or a file is there already.
        ConfigurationError: The existing key cannot be used.
        FileTrouble: It could not be written; nothing new is left then.

    """
    wanted = read_wanted(request.names, request.subject)
    _expect_no_faults(csr.examine(wanted, private=request.private))
    base = request.base or (wanted.names or wanted.addresses)[0].replace("*", "any").replace(":", "-")
    if "/" in base or base.startswith("."):
        raise UsageError(f"“{base}” cannot begin a file name", advice="choose one with --as, without / and first dot")
    csr_file, key_file = request.folder / f"{base}.csr.pem", request.key_file or request.folder / f"{base}.key.pem"
    _expect_free(request, csr_file)
    key = _key(request, key_file, csr_file)
    _expect_no_faults(keys.examine_key(key.public_key(), owner=str(key_file)))
    der = csr.make(key, wanted)
    pem = csr.to_pem(der)
    _write(request, csr_file, key_file, pem, keys.to_pem(key, request.passphrase))
    return Made(
        key_file=str(key_file),
        key_is_new=request.key_file is None,
        key_encrypted=request.passphrase is not None,
        csr_file=str(csr_file),
        request=pem.decode("ascii"),
        facts=csr.facts(der, str(csr_file), private=request.private),
    )


def _expect_no_faults(findings: Sequence[Finding]) -> None:
    bad = [each for each in findings if each.severity is Severity.BAD]
    if bad:
        raise UsageError(
            "a CA would reject this CSR; nothing was written",
            findings=[*bad, *(each for each in findings if each.severity is Severity.WARN)],
            advice="correct that; names that only a private CA certifies are allowed with --private-ca",
        )


def _partial(csr_file: Path) -> Path:
    """Return where the request stands before its key does: the mark of an interrupted run."""
    return csr_file.with_name(f".{csr_file.name}.part")


def _expect_free(request: MakeRequest, csr_file: Path) -> None:
    if not request.folder.is_dir():
        raise UsageError(f"{request.folder} is not a folder", advice="make it, or name another with --into")
    if csr_file.exists():
        raise UsageError(
            f"{csr_file} is there already",
            where=str(csr_file),
            advice="choose other file names with --as; to make another CSR for the same key, name it with --key",
        )


def _key(request: MakeRequest, key_file: Path, csr_file: Path) -> keys.PrivateKey:
    """Return the existing key, or the one that a run left which was interrupted, or a new one."""
    if request.key_file is not None:
        return read_key(key_file, request.passphrase)
    if not key_file.exists():
        return keys.make(request.kind)
    if _partial(csr_file).exists():
        return read_key(key_file, request.passphrase)
    raise UsageError(
        f"{key_file} is there already",
        where=str(key_file),
        advice=f"to make a CSR for this key: --key {key_file}; for a new key choose other names with --as",
    )


def _write(request: MakeRequest, csr_file: Path, key_file: Path, pem: bytes, key_pem: bytes) -> None:
    """Write the request beside its place, then the key, then put the request into its place."""
    partial = _partial(csr_file)
    with file_trouble("write", csr_file):
        partial.unlink(missing_ok=True)
    made_key = False
    try:
        create_bytes(partial, pem)
        if request.key_file is None and not key_file.exists():
            place_bytes(key_file, key_pem, mode=0o600)
            made_key = True
        with file_trouble("write", csr_file):
            partial.rename(csr_file)
            sync_folder(csr_file.parent)
    except FileTrouble:
        for each in (partial, *([key_file] if made_key else [])):
            each.unlink(missing_ok=True)
        raise


def show_request(data: bytes, where: str, *, private: bool) -> tuple[csr.RequestFacts, str]:
    """Read a request; returns what is to be said of it and the PEM block to paste.

    Raises:
        RequestUnreadable: There is none, or it is malformed.

    """
    der = csr.read(data, where)
    return csr.facts(der, where, private=private), csr.to_pem(der).decode("ascii")
