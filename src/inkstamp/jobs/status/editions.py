"""What is known of an edition beside its record: whether it may be served, and what is served beside it."""

from typing import TYPE_CHECKING

from inkstamp.clock import stamp
from inkstamp.errors import EditionUnfit, UsageError
from inkstamp.files import read_bytes
from inkstamp.jobs.status.context import StatusContext
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki import keys

if TYPE_CHECKING:
    from inkstamp.ledger.shelf import Shelf
    from inkstamp.ledger.store import Ledger


def served_beside(context: StatusContext, name: str, edition: EditionRecord) -> dict[str, str]:
    """Return the newest editions of other certificates with that name, by digest: whose they are.

    A site may have one certificate for each sort of key; who asks is served either.
    """
    others = (each for each in context.certificates.covering([name]) if each != edition.certificate)
    found = ((other, context.ledger.newest_edition(other)) for other in others)
    return {each.sha256: other for other, each in found if each is not None}


def choose_edition(ledger: "Ledger", name: str, number: int | None) -> EditionRecord:
    """Return an edition of a certificate, the newest where no number is given; UsageError when there is none."""
    edition = ledger.newest_edition(name) if number is None else ledger.edition(name, number)
    if edition is None:
        raise UsageError(
            f"“{name}” has no edition {'yet' if number is None else number}",
            advice=f"get one: inkstamp stamp {name}" if number is None else f"see: inkstamp history {name}",
        )
    return edition


def refuse_revoked(ledger: "Ledger", edition: EditionRecord) -> None:
    """Keep an edition that its CA has revoked off the servers: somebody else may have its key.

    Raises:
        EditionUnfit: It is revoked.

    """
    known = ledger.revocations.of(edition.certificate, edition.number)
    if known is None:
        return
    name, newest = edition.certificate, ledger.newest_edition(edition.certificate)
    why = f" ({known.why})" if known.why else ""
    is_newest = newest is None or newest.number == edition.number
    raise EditionUnfit(
        f"edition {edition.number} of “{name}” was revoked {stamp(known.at)}{why}",
        advice=f"get a new one: inkstamp renew {name}" if is_newest else f"install the newest: inkstamp install {name}",
    )


def expect_pair(shelf: "Shelf", edition: EditionRecord) -> None:
    """Make sure that the key on the shelf is the certificate's and open, before a server is given both.

    Raises:
        EditionUnfit: It is not.
        ConfigurationError: It is encrypted, and the passphrase cannot be read, or does not open it.

    """
    name, number = edition.certificate, edition.number
    file = shelf.edition(name, number) / "key.pem"
    leaf, data = shelf.chain(edition)[0], read_bytes(file)
    if keys.is_encrypted(data) and shelf.has_passphrase(name):
        fits: bool | None = shelf.key(name, number).public_key() == leaf.public_key()
    else:
        fits = keys.is_key_of(leaf, data)
    if not fits:
        why = "is encrypted, and no passphrase is configured" if fits is None else "does not match the certificate"
        raise EditionUnfit(
            f"edition {number} of “{name}” cannot be served: its key file {why}",
            where=str(file),
            advice=f"restore its key{' or add `key_passphrase_file`' if fits is None else ''}, or get a new edition: "
            f"inkstamp stamp {name} --reissue",
        )
