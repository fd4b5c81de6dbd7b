"""A simulated cloud DNS: an HTTP API with a token, whose records a simulated nameserver answers with."""

import json
from collections.abc import MutableMapping

from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn

_MOST_BODY = 65_536


class SimulatedCloud(StandIn):
    """Serves `POST` and `DELETE /zones/ZONE/records` for whoever has the token."""

    def __init__(self, port: int, token: str, records: MutableMapping[tuple[str, str], list[str]]) -> None:
        self.url = f"http://127.0.0.1:{port}"
        handler = type("_Handler", (_Api,), {"token": token, "records": records})
        self._server = QuietServer(("127.0.0.1", port), handler)


class _Api(QuietHandler):
    """One connection."""

    token: str
    records: MutableMapping[tuple[str, str], list[str]]

    def do_POST(self) -> None:
        record = self._record()
        if record is not None:
            name, kind, value = record
            values = self.records.setdefault((name, kind), [])
            if value not in values:
                values.append(value)
            self._reply(201, {"name": name})

    def do_DELETE(self) -> None:
        record = self._record()
        if record is None:
            return
        name, kind, value = record
        values = self.records.get((name, kind), [])
        if value not in values:
            self._reply(404, {"message": "no such record"})
            return
        values.remove(value)
        if not values:
            del self.records[name, kind]
        self._reply(200, {"name": name})

    def _record(self) -> tuple[str, str, str] | None:
        """Return the record that is told of; None when the request was refused."""
        body = self.rfile.read(min(int(self.headers.get("Content-Length", "0")), _MOST_BODY))
        zone = self.path.removeprefix("/zones/").removesuffix("/records")
        try:
            told = json.loads(body)
            name, kind, value = told["name"], told["type"], told["value"]
        except (ValueError, KeyError, TypeError):
            self._reply(400, {"message": "no record"})
            return None
        if self.headers.get("Authorization") != f"Bearer {self.token}":
            self._reply(401, {"message": "the token is not right"})
            return None
        if not f".{name}".endswith(f".{zone}"):
            self._reply(422, {"message": f"{name} is not in the zone {zone}"})
            return None
        return name, kind, f'"{value}"' if kind == "TXT" else f"{value}."

    def _reply(self, status: int, shown: object) -> None:
        self.send(status, json.dumps(shown).encode(), "application/json")
