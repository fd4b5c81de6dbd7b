"""The folder of an order that is under way: its key or the CSR that was brought for it, and at a portal its request."""

from msgspec import Struct

from inkstamp.errors import FileTrouble
from inkstamp.files import file_trouble, private_folder, read_bytes, write_bytes
from inkstamp.home import Home
from inkstamp.key_files import KeyFiles
from inkstamp.ledger.file_store import FileStore, OwnFiles
from inkstamp.ledger.records import SENT_STATES, OrderRecord
from inkstamp.pki import csr, keys
from inkstamp.pki.kinds import KeyKind


class OrderKey(Struct, frozen=True):
    """What an order's certificate is for: a key pair of ours, or the public key of a CSR from elsewhere."""

    public: keys.PublicKey
    private: keys.PrivateKey | None
    """None where another machine has it."""
    request: bytes = b""
    """DER of the CSR that was brought; empty where it is made with the private key."""


class OrderKeys:
    """The keys of orders that are under way, each in the folder of its order."""

    def __init__(self, home: Home, files: KeyFiles, store: FileStore | None = None) -> None:
        self._home = home
        self._files = files
        self._store = store or OwnFiles()

    def read(self, order: OrderRecord) -> OrderKey:
        """Return what an order that is under way is for.

        Raises:
            ConfigurationError: The key's file is gone, or others can read it, or it is encrypted and stays closed.
            FileTrouble, RequestUnreadable: The CSR that was brought cannot be read any more.

        """
        self._store.bring_order(order.certificate, order.id)
        folder = self._home.order(order.id)
        file, brought = folder / "key.pem", folder / "brought.pem"
        if brought.exists():
            der = csr.read(read_bytes(brought), str(brought))
            return OrderKey(csr.public_key(der, str(brought)), None, der)
        private = self._files.read(order.certificate, file)
        return OrderKey(private.public_key(), private)

    def take(self, order: OrderRecord, key: keys.PrivateKey, request: bytes) -> None:
        """Have an order that no CA has heard of go on with a key and a CSR (PEM) that there are already.

        The CSR is written last: where it is there, the key is, too.
        """
        folder = private_folder(self._home.order(order.id))
        if not (folder / "request.pem").exists():
            write_bytes(folder / "key.pem", self._files.to_pem(order.certificate, key), mode=0o600)
            write_bytes(folder / "request.pem", request)

    def have(self, order: OrderRecord, kind: KeyKind, brought: bytes = b"") -> OrderKey:
        """Return what an order is for: its key, or the CSR `brought` (PEM), durable before the CA can hear of it.

        Raises:
            FileTrouble: It is missing although the CSR was sent: a new one would match nothing.

        """
        folder = private_folder(self._home.order(order.id))
        name = "brought.pem" if brought else "key.pem"
        if (folder / name).exists():
            return self.read(order)
        if order.state in SENT_STATES:
            raise FileTrouble(
                f"the {'CSR' if brought else 'key'} of order {order.id} is missing, and its CSR was sent already",
                where=str(folder / name),
                advice="restore that file from a backup, or cancel the order:"
                f" inkstamp order {order.certificate} --cancel",
            )
        if brought:
            write_bytes(folder / name, brought)
            return self.read(order)
        given = self._home.next_key(order.certificate)
        key = self._files.read(order.certificate, given) if given.exists() else keys.make(kind)
        write_bytes(folder / name, self._files.to_pem(order.certificate, key), mode=0o600)
        return OrderKey(key.public_key(), key)

    def keep(self, certificate: str, key: keys.PrivateKey) -> None:
        """Keep a key that there is already for the next order of a certificate."""
        file = self._home.next_key(certificate)
        private_folder(file.parent)
        write_bytes(file, self._files.to_pem(certificate, key), mode=0o600)
        self._store.keep_brought(certificate)

    def forget(self, certificate: str, used: keys.PrivateKey) -> None:
        """Remove the key that was kept for an order, once an edition has it (`used`)."""
        file = self._home.next_key(certificate)
        if file.exists() and keys.to_pem(self._files.read(certificate, file)) == keys.to_pem(used):
            forget_key(self._home, self._store, certificate)


def brought_for(home: Home, order: OrderRecord) -> bytes | None:
    """Return the CSR that was brought for an order that is under way, as PEM; None where its key is ours."""
    file = home.order(order.id) / "brought.pem"
    return read_bytes(file) if file.exists() else None


def request_of(home: Home, order: OrderRecord) -> bytes | None:
    """Return the CSR that a portal was shown for an order that is under way, as PEM; None at an ACME CA."""
    file = home.order(order.id) / "request.pem"
    return read_bytes(file) if file.exists() else None


def forget_key(home: Home, store: FileStore, certificate: str) -> None:
    """Remove the key that was kept for the next order of a certificate, whatever it is."""
    file = home.next_key(certificate)
    with file_trouble("remove", file):
        file.unlink(missing_ok=True)
    store.keep_brought(certificate)
