"""CSRs of certificates whose key is elsewhere: the one that was brought last, and those of editions.

HOME/requests/CERTIFICATE.pem waits for the next order; once its edition is on the shelf it is in that edition's folder.
"""

from typing import TYPE_CHECKING

from inkstamp.files import file_trouble, private_folder, read_bytes, write_bytes
from inkstamp.home import Home

if TYPE_CHECKING:
    from inkstamp.config.model import Certificate
    from inkstamp.ledger.file_store import FileStore
    from inkstamp.ledger.shelf import Shelf


def keep_brought(home: Home, store: "FileStore", certificate: str, pem: bytes) -> None:
    """Keep a CSR for the next order of a certificate."""
    file = home.next_csr(certificate)
    private_folder(file.parent)
    write_bytes(file, pem)
    store.keep_brought(certificate)


def csr_of_edition(shelf: "Shelf", certificate: str, edition: int | None) -> bytes | None:
    """Return the CSR that was brought for an edition, as PEM; None where there was none."""
    if edition is None:
        return None
    file = shelf.edition(certificate, edition) / "brought.pem"
    return read_bytes(file) if file.exists() else None


def brought_since(home: Home, shelf: "Shelf", certificate: str, edition: int | None) -> bytes | None:
    """Return the CSR that was brought after that of an edition (None for before the first), as PEM."""
    file = home.next_csr(certificate)
    if not file.exists():
        return None
    pem = read_bytes(file)
    return None if pem == csr_of_edition(shelf, certificate, edition) else pem


def next_csr(home: Home, shelf: "Shelf", certificate: str, entry: "Certificate", edition: int | None) -> bytes | None:
    """Return the CSR for the order after an edition, as PEM; None where somebody has to bring one first."""
    brought = brought_since(home, shelf, certificate, edition)
    if brought is None and entry.same_request:
        return csr_of_edition(shelf, certificate, edition)
    return brought


def forget_brought(home: Home, store: "FileStore", certificate: str) -> None:
    """Remove the CSR that waits for an order, since it is used, or the certificate given up."""
    file = home.next_csr(certificate)
    with file_trouble("remove", file):
        file.unlink(missing_ok=True)
    store.keep_brought(certificate)
