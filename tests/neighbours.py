"""Three good certificates beside one stranger's: they are renewed in the same run, and his trouble is told."""

import re
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from world import Ran, World

GOOD = ("bakery", "museum", "rowing")
ON_PATH = "127.0.0.67"
BOUND = 150.0
"""Seconds that a run may take with the worst of strangers in it."""


@dataclass
class Street:
    """The good sites of one nginx, and what happened to them."""

    world: World
    ocsp_port: int = 0
    """Where the certificates say that their status is to be asked, on whose way a stranger may stand."""
    configured: str = ""
    rounds: int = 0
    told: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        for name in GOOD:
            self.world.site(name, [f"{name}.saltmarsh.test"])
        self.configured = self.world.config.read_text()

    def entries(self, names: Sequence[str] = GOOD, authority: str = "quayside") -> str:
        """Tables for certificates; a key of another kind each round makes all of them due again."""
        key = ("ecdsa-p256", "rsa-2048", "ecdsa-p384", "rsa-3072")[self.rounds % 4]
        return "".join(
            f'\n[certificate.{name}]\nnames = ["{name}.saltmarsh.test"]\nauthority = "{authority}"\nkey = "{key}"\n'
            'via = "front"\ninstall = ["front"]\n'
            for name in names
        )

    def renew(self, stranger: str, more: str = "", *, program: str = "", env: dict[str, str] | None = None) -> Ran:
        """Renew all three and whatever `more` configures; they come out of it with new editions that are served."""
        self.rounds += 1
        self.world.config.write_text(self.configured + self.entries() + more)
        began = time.monotonic()
        done = self.world.run("renew", timeout=BOUND * 2, program=program, env=env)
        took = time.monotonic() - began
        sys.stderr.write(f"{stranger}: {took:.1f} s of {BOUND:.0f}\n")
        assert took < BOUND, f"{stranger} held the run up"
        self.assert_served()
        assert "Traceback" not in done.out + done.err
        return done

    def assert_served(self) -> None:
        for name in GOOD:
            newest = max(int(each.name) for each in (self.world.home / "shelf" / name).glob("[0-9]*"))
            assert newest == self.rounds, f"{name} has no new edition"
            assert self.world.served(f"{name}.saltmarsh.test") == self.world.edition(name, newest)

    def forget(self, *names: str) -> None:
        """Take a stranger's site away again."""
        for name in names:
            (self.world.nginx.folder / "sites" / f"{name}.conf").unlink(missing_ok=True)
        self.world.nginx.reload()


Answer = Callable[[socket.socket], None]


@contextmanager
def listening(address: str, port: int, answer: Answer) -> Iterator[None]:
    """Answer every connection in a thread of its own, whatever comes of it."""
    listener = socket.create_server((address, port), backlog=128)

    def serve(stream: socket.socket) -> None:
        with stream, suppress(OSError):
            answer(stream)

    def accept() -> None:
        while True:
            try:
                stream, _ = listener.accept()
            except OSError:
                return
            threading.Thread(target=serve, args=(stream,), daemon=True).start()

    threading.Thread(target=accept, daemon=True).start()
    try:
        yield
    finally:
        listener.shutdown(socket.SHUT_RDWR)  # which wakes the thread that accepts
        listener.close()


def dripping(head: bytes, piece: bytes, pause: float = 1.0) -> Answer:
    """Answer with a head, then one more piece every now and then, for ever."""

    def answer(stream: socket.socket) -> None:
        stream.recv(65_536)
        stream.sendall(head)
        while True:
            stream.sendall(piece)
            time.sleep(pause)

    return answer


def saying(data: bytes) -> Answer:
    """Answer with this and close."""

    def answer(stream: socket.socket) -> None:
        stream.recv(65_536)
        stream.sendall(data)

    return answer


def odd_certificate(
    folder: Path, name: str, *extensions: x509.ExtensionType, serial: int | None = None
) -> tuple[Path, Path]:
    """Write a self-signed certificate with what certificates seldom have; returns its file and its key's."""
    key = ec.generate_private_key(ec.SECP256R1())
    now, subject = datetime.now(UTC), x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(serial or x509.random_serial_number())
        .not_valid_before(now - timedelta(days=1))
        .not_valid_after(now + timedelta(days=30))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
    )
    for each in extensions:
        builder = builder.add_extension(each, critical=False)
    made = builder.sign(key, hashes.SHA256())
    cert_file, key_file = folder / f"{name}.odd.pem", folder / f"{name}.odd.key"
    cert_file.write_bytes(made.public_bytes(serialization.Encoding.PEM))
    key_file.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    return cert_file, key_file


def words(done: Ran) -> str:
    return re.sub(r"\s+", " ", done.out + done.err)
