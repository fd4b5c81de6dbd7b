"""Write an edition for elsewhere."""

from pathlib import Path

from cryptography.hazmat.primitives import hashes
from msgspec import Struct

from inkstamp.errors import FileTrouble, UsageError
from inkstamp.files import place_bytes, write_bytes
from inkstamp.jobs.deployment import manual_steps
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.status.editions import choose_edition
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki.certificates import facts, short_name
from inkstamp.pki.packing import Form, Goods, Packed, pack


class ExportRequest(Struct, frozen=True, kw_only=True):
    """What the user asked for."""

    certificate: str
    form: Form
    folder: Path
    base: str = ""
    """Beginning of the file names; empty for certificate and edition, as in `rowing-3`."""
    edition: int | None = None
    """None for the newest one."""
    with_key: bool = True
    passphrase: bytes | None = None
    friendly_name: str = ""
    legacy: bool = False
    key_first: bool = False
    replace: bool = False
    """Whether files of the same name may be replaced."""
    target: manual_steps.Target | None = None
    """The sort of server that steps are written for."""


class Written(Struct, frozen=True, kw_only=True):
    """A file that was written."""

    path: str
    secret: bool
    """Whether the private key is in it."""


class ExportResult(Struct, frozen=True, kw_only=True):
    """What was written."""

    edition: EditionRecord
    form: Form
    files: tuple[Written, ...]
    steps: tuple[str, ...]
    """What to do with it on the server that it is for; empty when none is named."""


def export(context: DeploymentContext, request: ExportRequest) -> ExportResult:
    """Write an edition in another form; none of its files exists half when this returns or raises.

    Raises:
        UsageError: There is no such edition, or a file is there already.
        FileTrouble: It could not be written; what was written of it is removed again.

    """
    context.certificates.entry(request.certificate)
    edition = choose_edition(context.ledger, request.certificate, request.edition)
    served = context.shelf.chain(edition)
    has_key = context.shelf.has_key(edition.certificate, edition.number)
    _expect_possible(request, edition, has_key=has_key)
    goods = Goods(
        base=request.base or f"{edition.certificate}-{edition.number}",
        leaf=served[0],
        issuers=served[1:],
        key=context.shelf.key(edition.certificate, edition.number) if request.with_key and has_key else None,
        passphrase=request.passphrase,
        friendly_name=request.friendly_name or edition.names[0],
        legacy=request.legacy,
        key_first=request.key_first,
    )
    packed = pack(goods, request.form, facts(goods.leaf))
    files = tuple(Written(path=str(request.folder / each.name), secret=each.secret) for each in packed)
    _write(packed, request)
    secret = " with its key" if any(each.secret for each in packed) else ""
    context.ledger.note(
        "exported", f"edition {edition.number} as {request.form.value}{secret} to {request.folder}", edition.certificate
    )
    steps: list[str] = []
    if request.target is not None:
        thumbprints = [each.fingerprint(hashes.SHA1()).hex().upper() for each in served]  # noqa: S303  as Windows does
        about = manual_steps.ExportedFiles(
            file=packed[0].name, certificate=edition.certificate, friendly_name=goods.friendly_name,
            names=edition.names, thumbprint=thumbprints[0], serial=edition.serial, sealed=bool(request.passphrase),
            issuers=[(short_name(each.subject), thumbprint)
                     for each, thumbprint in zip(served[1:], thumbprints[1:], strict=True)],
        )  # fmt: skip
        write_steps = manual_steps.import_steps if has_key else manual_steps.completion_steps
        steps = write_steps(request.target, about)
    return ExportResult(edition=edition, form=request.form, files=files, steps=tuple(steps))


def _expect_possible(request: ExportRequest, edition: EditionRecord, *, has_key: bool) -> None:
    """Raise UsageError for a form that needs the key of an edition without one, and steps that another form is for."""
    name, form = edition.certificate, request.form
    if not has_key and request.with_key and form in {Form.PKCS12, Form.COMBINED}:
        raise UsageError(
            f"--form {form.value} needs the key, and that of edition {edition.number} of “{name}” is elsewhere",
            advice=f"export it without: inkstamp export {name} --form pkcs7",
        )
    if request.target is None:
        return
    fit = Form.PKCS12 if has_key else Form.PKCS7
    if form is not fit or (has_key and not request.with_key):
        why = "the key has to get there too" if has_key else "the key is there already, and completes the CSR"
        raise UsageError(
            f"--for {request.target} needs --form {fit.value} here: {why}",
            advice=f"say --form {fit.value}",
        )
    if request.target == "java" and has_key and not request.passphrase:
        raise UsageError(
            "keytool finds nothing in a PKCS#12 that has no passphrase",
            advice="give it one, with --passphrase-file or --ask-passphrase",
        )


def _write(packed: list[Packed], request: ExportRequest) -> None:
    folder = request.folder
    if not folder.is_dir():
        raise UsageError(f"{folder} is not a folder", where=str(folder), advice="make it, or name another with --into")
    there = [each.name for each in packed if (folder / each.name).exists()]
    if there and not request.replace:
        raise UsageError(
            f"{there[0]} is there already",
            where=str(folder / there[0]),
            advice="choose other names with --as, or replace the files with --replace",
        )
    made: list[Path] = []
    try:
        for each in packed:
            file, mode = folder / each.name, 0o600 if each.secret else 0o644
            if request.replace:
                write_bytes(file, each.data, mode=mode)
            else:
                place_bytes(file, each.data, mode=mode)
                made.append(file)
    except FileTrouble:
        for file in made:
            file.unlink(missing_ok=True)
        raise
