"""A simulated ACME CA: RFC 8555 over HTTPS on loopback, that really validates."""

import base64
import json
import secrets
import socket
import ssl
import time
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature

from inkstamp.acme.jws import unb64url
from inkstamp.clock import Clock
from inkstamp.standins.ca_mood import Refusal
from inkstamp.standins.ca_state import CaState
from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn
from inkstamp.standins.validation import Outside
from inkstamp.standins.weather import Fate, Weather

_MOST_BODY = 65_536


def _number(text: str) -> int:
    return int.from_bytes(unb64url(text), "big")


def verify_jws(jwk: dict[str, str], alg: str, signed: bytes, signature: bytes) -> None:
    """Check a JWS signature by a public JWK (RFC 7518 section 3); Refusal when it is not right."""
    try:
        if jwk.get("kty") == "RSA" and alg == "RS256":
            rsa_key = rsa.RSAPublicNumbers(_number(jwk["e"]), _number(jwk["n"])).public_key()
            rsa_key.verify(signature, signed, padding.PKCS1v15(), hashes.SHA256())
            return
        curves: dict[str, tuple[ec.EllipticCurve, hashes.HashAlgorithm, str]] = {
            "P-256": (ec.SECP256R1(), hashes.SHA256(), "ES256"),
            "P-384": (ec.SECP384R1(), hashes.SHA384(), "ES384"),
        }
        curve, digest, wanted = curves[jwk["crv"]]
        if alg != wanted:
            raise Refusal(400, "badSignatureAlgorithm", f"{alg} does not fit the key")
        ec_key = ec.EllipticCurvePublicNumbers(_number(jwk["x"]), _number(jwk["y"]), curve).public_key()
        half = len(signature) // 2
        r, s = int.from_bytes(signature[:half], "big"), int.from_bytes(signature[half:], "big")
        ec_key.verify(encode_dss_signature(r, s), signed, ec.ECDSA(digest))
    except (InvalidSignature, ValueError, KeyError) as error:
        raise Refusal(400, "malformed", f"the signature is not right: {error!r}") from error


class SimulatedCa(StandIn):
    """Serves a CaState on a loopback port."""

    def __init__(self, port: int, folder: Path, *, dns_port: int, http_port: int, clock: Clock | None = None) -> None:
        self.state = CaState(folder, f"https://localhost:{port}", Outside(dns_port, http_port), clock)
        self.requests: list[str] = []
        """Resources asked for, in order."""
        self.weather = Weather()
        self._nonces: set[str] = set()
        owner = self

        class _Handler(_AcmeHandler):
            ca = owner

        self._server = QuietServer(("127.0.0.1", port), _Handler)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.state.hierarchy.api_file)
        # The handshake is left to each connection's own thread: one silent client must not stop the others.
        self._server.socket = context.wrap_socket(self._server.socket, server_side=True, do_handshake_on_connect=False)

    @property
    def directory_url(self) -> str:
        """Where clients begin."""
        return f"https://localhost:{self._server.server_port}/directory"

    def new_nonce(self) -> str:
        """Make a nonce that will be taken once."""
        nonce = secrets.token_urlsafe(16)
        self._nonces.add(nonce)
        return nonce

    def take_nonce(self, nonce: str) -> None:
        """Use a nonce up; Refusal when it is not one of ours."""
        if self.weather.refuses_nonce():
            raise Refusal(400, "badNonce", "this nonce is too old")
        try:
            self._nonces.remove(nonce)
        except KeyError:
            raise Refusal(400, "badNonce", "this nonce was not given out, or was used") from None


class _AcmeHandler(QuietHandler):
    """One connection; routes by the first part of the path."""

    ca: SimulatedCa
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True

    def do_GET(self) -> None:
        kind, _, identity = self.path.strip("/").partition("/")
        if self._meets(self.ca.weather.fate()) or self._canned(kind):
            return
        words, mood = self.ca.state.words, self.ca.state.mood
        if kind == "directory" and mood.moved:
            self._send(308, b"", "text/plain", {"Location": "/moved/directory"})
        elif self.path in {"/directory", "/moved/directory"}:
            self._reply(200, self.ca.state.directory())
        elif kind == "renewal-info" and words.knows(identity):
            self._reply(200, words.window(identity), **{"Retry-After": "21600"})
        elif kind == "ocsp":
            request = base64.b64decode(unquote(identity))
            self._send(200, words.ocsp_answer(request), "application/ocsp-response")
        elif kind == "crl":
            self._send(200, words.crl(), "application/pkix-crl")
        elif kind == "terms":
            self._send(200, b"The terms of a simulated CA: none of this is real.\n", "text/plain")
        else:
            self._send(404, b"not found\n", "text/plain")

    def do_HEAD(self) -> None:
        if not self._meets(self.ca.weather.fate()) and not self._canned("new-nonce"):
            self._send(200, b"", "text/plain")

    def do_POST(self) -> None:
        kind, _, identity = self.path.strip("/").partition("/")
        try:
            body = self.rfile.read(min(int(self.headers.get("Content-Length", "0")), _MOST_BODY))
            if self._meets(self.ca.weather.fate()) or self._canned(kind):
                return
            jwk, account, payload = self._open(body)
            self._route(kind, identity, jwk, account, payload)
        except Refusal as refusal:
            more = {"Link": refusal.link} if refusal.link else {}
            self._reply(refusal.status, refusal.problem, content_type="application/problem+json", **more)

    _fate = Fate.FINE

    def _meets(self, fate: Fate) -> bool:
        """Let a request meet its fate; True when that is all that becomes of it."""
        self._fate = fate
        if fate is Fate.LOST:
            self._break_off()
        elif fate is Fate.SLOW:
            time.sleep(self.ca.weather.patience)
            self._break_off()
        elif fate is Fate.ERROR:
            status = self.ca.weather.chance.choice((500, 503))
            self._fate = Fate.FINE
            self._send(status, b"<h1>not now</h1>", "text/html", {"Retry-After": "1"} if status == 503 else {})
        return fate in {Fate.LOST, Fate.SLOW, Fate.ERROR}

    def _break_off(self) -> None:
        self.close_connection = True
        with suppress(OSError):
            self.connection.shutdown(socket.SHUT_RDWR)

    def _canned(self, kind: str) -> bool:
        """Give the answer that stands ready for this resource, if one does."""
        self.ca.requests.append(kind)
        if kind in self.ca.state.mood.redirects:
            self._send(302, b"", "text/plain", {"Location": f"/elsewhere{self.path}"})
            return True
        waiting = self.ca.state.mood.canned.get(kind)
        if not waiting:
            return False
        canned = waiting.popleft()
        self._send(canned.status, canned.body, canned.content_type, dict(canned.headers))
        return True

    def _open(self, body: bytes) -> tuple[dict[str, str], str, dict[str, Any] | None]:
        """Check the JWS (RFC 8555 section 6.2 to 6.5); returns key, account id (or empty) and payload."""
        if self.headers.get("Content-Type") != "application/jose+json":
            raise Refusal(415, "malformed", "the content type must be application/jose+json")
        try:
            outer = json.loads(body)
            header = json.loads(unb64url(outer["protected"]))
            payload = json.loads(unb64url(outer["payload"])) if outer["payload"] else None
            signature = unb64url(outer["signature"])
            nonce, url, alg = header["nonce"], header["url"], header["alg"]
        except (ValueError, KeyError, TypeError) as error:
            raise Refusal(400, "malformed", f"no JWS: {error!r}") from error
        if url != f"https://{self.headers['Host']}{self.path}":
            raise Refusal(401, "unauthorized", "the url in the header is another one")
        if ("jwk" in header) == ("kid" in header):
            raise Refusal(400, "malformed", "either jwk or kid")
        jwk = header.get("jwk") or self.ca.state.accounts.key(header["kid"])
        verify_jws(jwk, alg, f"{outer['protected']}.{outer['payload']}".encode(), signature)
        self.ca.take_nonce(nonce)
        return jwk, header.get("kid", "").rpartition("/")[2], payload

    def _route(
        self, kind: str, identity: str, jwk: dict[str, str], account: str, payload: dict[str, Any] | None
    ) -> None:
        state = self.ca.state
        if kind == "new-account":
            status, made = state.accounts.open(jwk, payload or {})
            self._reply(status, state.accounts.show(made), Location=state.accounts.url(made))
            return
        if kind == "revoke-cert":
            state.revoke(payload or {}, account, jwk)
            self._send(200, b"", "text/plain")
            return
        if not account:
            raise Refusal(401, "unauthorized", "sign with the account's kid")
        if kind == "new-order":
            made, shown = state.new_order(account, payload or {})
            self._reply(201, shown, Location=state.url("order", made))
        elif kind == "account":
            self._reply(200, state.accounts.change(account, payload))
        elif kind == "key-change":
            state.accounts.change_key(state.accounts.url(account), payload or {}, verify_jws)
            self._reply(200, state.accounts.show(account))
        elif kind == "orders":
            self._reply(200, state.orders_of(account))
        elif kind == "order":
            state.find_order(identity, account)
            self._reply(200, state.order(identity))
        elif kind == "finalize":
            state.find_order(identity, account)
            self._reply(
                200,
                state.finalize(identity, unb64url((payload or {}).get("csr", ""))),
                Location=state.url("order", identity),
            )
        else:
            self._route_proofs(kind, identity, jwk, payload)

    def _route_proofs(self, kind: str, identity: str, jwk: dict[str, str], payload: dict[str, Any] | None) -> None:
        state = self.ca.state
        if kind == "authorization":
            ended = (payload or {}).get("status") == "deactivated"
            self._reply(200, state.deactivate(identity) if ended else state.authorization(identity))
        elif kind == "challenge":
            if payload is None:
                raise Refusal(400, "malformed", "answer with an empty object")
            above = state.url("authorization", identity.partition(".")[0])
            more = {"Link": f'<{above}>;rel="up"'} if state.mood.up_links else {}
            if state.mood.asks_for:
                more["Retry-After"] = str(state.mood.asks_for)
            self._reply(200, state.answer(identity, jwk), **more)
        elif kind in {"certificate", "certificate-other"}:
            alternate = kind == "certificate-other"
            link = f'<{state.url("certificate-other", identity)}>;rel="alternate"'
            pem = state.certificate(identity, alternate=alternate)
            self._send(200, pem, "application/pem-certificate-chain", {} if alternate else {"Link": link})
        else:
            raise Refusal(404, "malformed", f"there is no resource {kind}")

    def _reply(self, status: int, shown: object, *, content_type: str = "application/json", **headers: str) -> None:
        mood = self.ca.state.mood
        if mood.talkative and isinstance(shown, dict):
            shown = {"beam": [3, {"colour": None}], "error": None, **shown, "sails": "ünfurled"}
            content_type += "; charset=utf-8"
        text = json.dumps(shown)
        if mood.relative:
            base = self.ca.state.base_url
            text = text.replace(f'"{base}/', '"/')
            headers = {name: value.replace(f"{base}/", "/") for name, value in headers.items()}
        self._send(status, text.encode(), content_type, headers)

    def _send(self, status: int, body: bytes, content_type: str, headers: dict[str, str] | None = None) -> None:
        if self._fate is Fate.UNHEARD:
            self._break_off()
            return
        self.send_response(status)
        self.send_header("Content-Type", content_type)
        self.send_header("Content-Length", str(len(body)))
        if self.ca.state.mood.gives_nonces:
            self.send_header("Replay-Nonce", self.ca.new_nonce())
        self.send_header("Cache-Control", "no-store")
        for name, value in (headers or {}).items():
            self.send_header(name, value)
        self.end_headers()
        if self._fate is Fate.CUT:
            self.wfile.write(body[: len(body) // 2])
            self._break_off()
        elif self.command != "HEAD":
            self.wfile.write(body)
