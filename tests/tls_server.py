"""A TLS server for tests, by the newest OpenSSL there is here: it serves whatever it is given, however odd."""

import socket
import threading
import time
import warnings
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress

from authority_of_tests import Signer
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from OpenSSL import SSL, crypto

Talk = Callable[[socket.socket], None]


@contextmanager
def talking(talk: Talk) -> Iterator[int]:
    """Have each connection to a port on loopback talked with in a thread of its own; gives the port."""
    with socket.create_server(("127.0.0.1", 0)) as listener:

        def one(stream: socket.socket) -> None:
            with stream, suppress(OSError, SSL.Error):
                talk(stream)

        def serve() -> None:
            with suppress(OSError):
                while True:
                    stream, _ = listener.accept()
                    threading.Thread(target=one, args=(stream,), daemon=True).start()

        threading.Thread(target=serve, daemon=True).start()
        yield listener.getsockname()[1]
        listener.shutdown(socket.SHUT_RDWR)


def dripping(data: bytes, pause: float = 0.05) -> Talk:
    """Send a byte at a time."""

    def talk(stream: socket.socket) -> None:
        for byte in data:
            stream.sendall(bytes([byte]))
            time.sleep(pause)

    return talk


@contextmanager
def tls_server(
    key: Signer, ders: Sequence[bytes], settle: Callable[[SSL.Context], None] = lambda _context: None
) -> Iterator[int]:
    """Serve certificates as given, leaf first, with the key of `key` and as `settle` sets it up; gives the port."""
    context = SSL.Context(SSL.TLS_SERVER_METHOD)
    settle(context)
    pem = key.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    with warnings.catch_warnings():  # the way that is not deprecated takes no certificate that is odd
        warnings.simplefilter("ignore", DeprecationWarning)
        context.use_certificate(crypto.load_certificate(crypto.FILETYPE_ASN1, ders[0]))
        context.use_privatekey(crypto.load_privatekey(crypto.FILETYPE_PEM, pem))
        for each in ders[1:]:
            context.add_extra_chain_cert(crypto.load_certificate(crypto.FILETYPE_ASN1, each))

    def talk(stream: socket.socket) -> None:
        connection = SSL.Connection(context, stream)
        connection.set_accept_state()
        connection.do_handshake()
        connection.recv(1)

    with talking(talk) as port:
        yield port
