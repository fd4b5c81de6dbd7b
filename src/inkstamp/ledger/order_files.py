"""The folder of an order that is under way: its key, and at a portal its request."""

from inkstamp.errors import FileTrouble
from inkstamp.files import private_folder, write_bytes
from inkstamp.home import Home
from inkstamp.key_files import read_key
from inkstamp.ledger.records import OrderRecord, OrderState
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind


def read_order_key(home: Home, order: OrderRecord) -> keys.PrivateKey:
    """Return the key of an order that is under way; ConfigurationError when it is gone or others can read it."""
    file = home.order(order.id) / "key.pem"
    return read_key(file)


def have_order_key(home: Home, order: OrderRecord, kind: KeyKind) -> keys.PrivateKey:
    """Return the order's key, made and durable before the CA can hear of the order.

    Raises:
        FileTrouble: It is missing although the CSR was sent: a new one would match nothing.

    """
    file = private_folder(home.order(order.id)) / "key.pem"
    if file.exists():
        return read_order_key(home, order)
    if order.state in {OrderState.FINALIZING, OrderState.WAITING}:
        raise FileTrouble(
            f"the key of order {order.id} is missing, and its CSR was sent already", where=str(file),
            advice=f"restore that file from a backup, or cancel the order: inkstamp order {order.certificate} --cancel",
        )  # fmt: skip
    key = keys.make(kind)
    write_bytes(file, keys.to_pem(key), mode=0o600)
    return key
