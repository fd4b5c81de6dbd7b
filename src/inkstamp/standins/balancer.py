"""A simulated load balancer: an HTTPS API with a token, and one listener that serves what is attached to it.

The API is made up and written down in docs/balancer.md.
"""

import itertools
import json
import socket
import ssl
import tempfile
import threading
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.pki.certificates import subject_names
from inkstamp.pki.names import uncovered
from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn

_MOST_BODY = 262_144


@dataclass
class BalancerState:
    """What the balancer has."""

    token: str
    certificates: dict[str, dict[str, str]] = field(default_factory=dict)
    attached: list[str] = field(default_factory=list)
    """Of the listener `web`, the first one for names that none covers."""
    hangs_up: bool = False
    """Whether the connection is closed without an answer when something is to be attached."""
    refuses: str = ""
    """When not empty, every change is refused with these words."""


class SimulatedBalancer(StandIn):
    """Serves the API at `https://127.0.0.1:PORT/v1`, and TLS for visitors at another port."""

    def __init__(self, api_port: int, tls_port: int, state: BalancerState, pair: tuple[Path, Path]) -> None:
        self.state = state
        self.url = f"https://127.0.0.1:{api_port}/v1"
        handler = type("_Handler", (_Api,), {"state": state, "numbers": itertools.count(1)})
        self._server = QuietServer(("127.0.0.1", api_port), handler)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(*pair)
        self._server.socket = context.wrap_socket(self._server.socket, server_side=True)
        self._listening = socket.create_server(("127.0.0.1", tls_port))
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        with suppress(OSError):  # the socket is closed when the stand-in ends
            while True:
                stream, _ = self._listening.accept()
                threading.Thread(target=self._shake_hands, args=(stream,), daemon=True).start()

    def _shake_hands(self, stream: socket.socket) -> None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)

        def choose(connection: ssl.SSLObject | ssl.SSLSocket, name: str | None, _context: ssl.SSLContext) -> None:
            connection.context = self._context(name or "")

        context.sni_callback = choose
        with suppress(OSError, ssl.SSLError), stream, context.wrap_socket(stream, server_side=True) as tls:
            tls.recv(1)

    def _context(self, name: str) -> ssl.SSLContext:
        state = self.state
        fitting = [each for each in state.attached if not uncovered(_names(state.certificates[each]), [name])]
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        for identifier in (fitting or state.attached)[:1]:
            kept = state.certificates[identifier]
            with tempfile.NamedTemporaryFile("w", suffix=".pem") as file:
                file.write(kept["certificate"] + kept["chain"] + kept["private_key"])
                file.flush()
                context.load_cert_chain(file.name)
        return context

    def __exit__(self, *raised: Any) -> None:
        super().__exit__(*raised)
        self._listening.close()


def _names(kept: dict[str, str]) -> tuple[str, ...]:
    return subject_names(x509.load_pem_x509_certificate(kept["certificate"].encode()))


class _Api(QuietHandler):
    """One connection."""

    state: BalancerState
    numbers: "itertools.count[int]"

    def do_GET(self) -> None:
        if not self._allowed(changing=False):
            return
        if self.path == "/v1/certificates":
            shown = [
                {"id": key, "label": each["label"], "sha256": each["sha256"]}
                for key, each in self.state.certificates.items()
            ]
            self._reply(200, {"certificates": shown})
        elif self.path == "/v1/listeners/web":
            self._reply(200, {"name": "web", "certificates": self.state.attached})
        else:
            self._reply(404, {"error": "there is no such thing"})

    def do_POST(self) -> None:
        told = self._told()
        if told is None or not self._allowed(changing=True):
            return
        try:
            leaf = x509.load_pem_x509_certificate(str(told["certificate"]).encode())
        except (KeyError, ValueError):
            self._reply(422, {"error": "the certificate cannot be read"})
            return
        identifier = f"cert-{next(self.numbers)}"
        sha256 = leaf.fingerprint(hashes.SHA256()).hex()
        self.state.certificates[identifier] = {**{key: str(value) for key, value in told.items()}, "sha256": sha256}
        self._reply(201, {"id": identifier})

    def do_PUT(self) -> None:
        told = self._told()
        if told is None or not self._allowed(changing=True):
            return
        wanted = told.get("certificates")
        if self.path != "/v1/listeners/web/certificates" or not isinstance(wanted, list):
            self._reply(404, {"error": "there is no such listener"})
        elif not set(wanted) <= self.state.certificates.keys():
            self._reply(422, {"error": "one of the certificates is not known"})
        else:
            self.state.attached = wanted
            self._reply(200, {"certificates": wanted})

    def do_DELETE(self) -> None:
        if not self._allowed(changing=True):
            return
        identifier = self.path.removeprefix("/v1/certificates/")
        if identifier in self.state.attached:
            self._reply(409, {"error": "the certificate is attached to a listener"})
        elif self.state.certificates.pop(identifier, None) is None:
            self._reply(404, {"error": "there is no such certificate"})
        else:
            self._reply(200, {})

    def _allowed(self, *, changing: bool) -> bool:
        if self.headers.get("Authorization") != f"Bearer {self.state.token}":
            self._reply(401, {"error": "the token is not right"})
            return False
        if self.state.hangs_up and self.command == "PUT":
            self.close_connection = True
            return False
        if changing and self.state.refuses:
            self._reply(503, {"error": self.state.refuses})
            return False
        return True

    def _told(self) -> dict[str, Any] | None:
        body = self.rfile.read(min(int(self.headers.get("Content-Length", "0")), _MOST_BODY))
        try:
            told = json.loads(body)
        except ValueError:
            told = None
        if not isinstance(told, dict):
            self._reply(400, {"error": "the request is no JSON object"})
            return None
        return told

    def _reply(self, status: int, shown: object) -> None:
        self.send(status, json.dumps(shown).encode(), "application/json")
