"""A simulated DNS provider whose API is as awkward as they come; its records are a simulated nameserver's.

Requests are signed, and lists come in pages of two. Whole record sets are replaced, a while after the answer. Errors
come with status 200, and every so often a request is one too many.
"""

import base64
import hashlib
import hmac
import itertools
import json
import threading
from collections.abc import MutableMapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit

from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn

_PAGE = 2
_MOST_BODY = 65_536
_LOOKS = 2
"""How often a change is looked at before it is made."""


@dataclass
class _Job:
    """A change that is going to be made."""

    name: str
    kind: str
    members: list[str]
    looks: int = 0


@dataclass
class ProviderState:
    """What the provider knows."""

    key_id: str
    key: bytes
    zones: dict[str, str]
    """By handle, the domain."""
    records: MutableMapping[tuple[str, str], list[str]]
    """By name and type, values as zone files have them."""
    too_many_at: int = 0
    """Every so-many-th request is refused as one too many; 0 for none."""
    rejects: str = ""
    """Why changes are not made; empty when they are."""
    jobs: dict[int, _Job] = field(default_factory=dict)
    nonces: set[str] = field(default_factory=set)
    asked: int = 0
    lock: threading.Lock = field(default_factory=threading.Lock)


class SimulatedProvider(StandIn):
    """Serves the API of Brinehaven, which does not exist."""

    def __init__(self, port: int, state: ProviderState) -> None:
        self.url = f"http://127.0.0.1:{port}/v3"
        self._server = QuietServer(("127.0.0.1", port), type("_Handler", (_Api,), {"state": state}))


class _Fault(Exception):
    """A request that is refused: a code and what is said."""


class _Api(QuietHandler):
    """One connection."""

    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    state: ProviderState
    numbers = itertools.count(1)

    def do_GET(self) -> None:
        self._serve(b"")

    def do_POST(self) -> None:
        self._serve(self.rfile.read(min(int(self.headers.get("Content-Length", "0")), _MOST_BODY)))

    def _serve(self, body: bytes) -> None:
        with self.state.lock:
            try:
                shown = {"outcome": "ok", "result": self._result(body)}
            except _Fault as error:
                code, text = error.args
                shown = {"outcome": "no", "fault": {"code": code, "text": text, "seconds": 0}}
        self.send(200, json.dumps(shown).encode(), "application/json")

    def _result(self, body: bytes) -> Any:
        state = self.state
        state.asked += 1
        if state.too_many_at and state.asked % state.too_many_at == 0:
            raise _Fault("TIDE_TOO_HIGH", "too many requests")
        self._expect_signed(body)
        parts = urlsplit(self.path)
        page = parse_qs(parts.query).get("page", ["p0"])[0]
        match [unquote(each) for each in parts.path.split("/")[2:]]:
            case ["domains"]:
                listed: list[dict[str, object]] = [
                    {"fqdn": f"{zone}.", "handle": handle} for handle, zone in state.zones.items()
                ]
                return self._page("domains", listed, page)
            case ["domains", handle, "sets"]:
                return self._page("sets", self._sets(self._zone(handle)), page)
            case ["domains", handle, "sets", label, kind]:
                zone = self._zone(handle)
                members = parse_qs(body.decode("utf-8")).get("members", [])
                number = next(self.numbers)
                state.jobs[number] = _Job(zone if label == "@" else f"{label}.{zone}", kind, members)
                return {"job": {"href": f"/v3/jobs/{number}"}}
            case ["jobs", number] if int(number) in state.jobs:
                return {"state": self._look(state.jobs[int(number)])}
        raise _Fault("NO_SUCH_PLACE", f"there is nothing at {parts.path}")

    def _expect_signed(self, body: bytes) -> None:
        """Work the signature out as the provider's handbook says; no nonce counts twice."""
        moment, nonce = self.headers.get("Brine-Time", ""), self.headers.get("Brine-Nonce", "")
        digest = hashlib.sha512(body).hexdigest()
        text = "\n".join([self.command, self.headers["Host"], self.path, moment, nonce, digest])
        signed = hmac.new(self.state.key, text.encode(), hashlib.sha512).digest()
        wanted = f"Brine key={self.state.key_id}, signature={base64.b64encode(signed).decode()}"
        if self.headers.get("Authorization") != wanted or not nonce or nonce in self.state.nonces:
            raise _Fault("WHO_ARE_YOU", "the signature is not right")
        self.state.nonces.add(nonce)

    def _domains(self) -> list[dict[str, object]]:
        return [{"fqdn": f"{zone}.", "handle": handle} for handle, zone in self.state.zones.items()]

    def _zone(self, handle: str) -> str:
        if handle not in self.state.zones:
            raise _Fault("NO_SUCH_DOMAIN", f"there is no domain {handle}")
        return self.state.zones[handle]

    def _sets(self, zone: str) -> list[dict[str, object]]:
        found = []
        for (name, kind), values in sorted(self.state.records.items()):
            if f".{name}".endswith(f".{zone}"):
                members = [each.strip('"').replace('" "', "") if kind == "TXT" else each for each in values]
                label = name.removesuffix(zone).rstrip(".")
                found.append({"label": label, "rtype": kind, "lifetime": 60, "members": members})
        return found

    def _page(self, called: str, listed: list[dict[str, object]], page: str) -> dict[str, object]:
        first = int(page[1:])
        more = {"next": f"p{first + _PAGE}"} if first + _PAGE < len(listed) else {}
        return {called: listed[first : first + _PAGE], **more}

    def _look(self, job: _Job) -> str:
        job.looks += 1
        if job.looks < _LOOKS:
            return "waiting"
        if self.state.rejects:
            return "rejected"
        values = [f'"{each}"' if job.kind == "TXT" else each for each in job.members]
        if values:
            self.state.records[job.name, job.kind] = values
        else:
            self.state.records.pop((job.name, job.kind), None)
        return "applied"
