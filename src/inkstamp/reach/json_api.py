"""Asking an HTTP API that speaks JSON (RFC 8259), within bounds of time and size; redirects are not followed."""

from collections.abc import Callable, Mapping
from http.client import HTTPException
from pathlib import Path
from typing import Any

import msgspec
from msgspec import Struct

from inkstamp.deadline import within
from inkstamp.errors import ConfigurationError, InkStampError, ReachTrouble
from inkstamp.kept_connections import KeptConnections
from inkstamp.printable import one_line
from inkstamp.reach.answers import read_json
from inkstamp.transport import at_most, client_context
from inkstamp.urls import web_url

_SECONDS, _WHOLE = 30.0, 60.0
"""For one wait, and for one answer altogether."""
_SHOWN = 300
_MOST_ANSWER = 4_194_304


class ApiAnswer(Struct, frozen=True):
    """What an API said."""

    status: int
    data: Any
    """What its JSON holds; None for an empty body, or one that is no JSON."""
    text: str = ""
    """The whole of it, as it came."""
    retry_after: str = ""
    """The header of that name (RFC 9110 section 10.2.3)."""

    @property
    def refusal(self) -> str:
        """What it says is wrong, in its own words as far as it has some; empty for none."""
        if self.status < 300:
            return ""
        said = self.data.get("error") if isinstance(self.data, dict) else None
        return one_line(str(said or f"status {self.status}"), _SHOWN)


class JsonApi:
    """One API; connections are kept."""

    def __init__(self, told: str, address: str, trust: str, headers: Callable[[], Mapping[str, str]]) -> None:
        """Begin; nothing is sent yet.

        Args:
            told: What it is, for messages.
            address: URL that all paths are below.
            trust: PEM file with the roots of its certificate; empty for the system's.
            headers: Returns what is sent with each request, secrets from their files.

        """
        self._told = told
        self._address = address.rstrip("/")
        self._trust = trust
        self._headers = headers
        self._kept: KeptConnections | None = None

    def url(self, path: str) -> str:
        """Return where a path is."""
        return f"{self._address}{path}"

    def ask(self, method: str, path: str, body: object = None) -> ApiAnswer:
        """Send a request; returns the answer, whatever its status.

        Raises:
            ReachTrouble: It cannot be reached, or its answer has no end.
            ConfigurationError: The roots of its certificate, or the environment's proxy, cannot be used.

        """
        data = msgspec.json.encode(body) if body is not None else None
        headers = dict(self._headers())
        if data is not None:
            headers["Content-Type"] = "application/json"
        return self.send(method, self.url(path), data, headers)

    def send(self, method: str, url: str, data: bytes | None, headers: Mapping[str, str]) -> ApiAnswer:
        """Send a request to a whole URL, with these headers alone; as `ask`."""
        headers = {"Accept": "application/json", **headers}
        connections = self._connections()
        try:
            with within(_WHOLE), at_most(_MOST_ANSWER):
                answer = connections.request(method, web_url(url), data, headers, _MOST_ANSWER)
        except ConfigurationError:  # of the proxy that the environment names
            raise
        except (HTTPException, OSError, ValueError, InkStampError) as error:
            raise ReachTrouble(
                f"{self._told} is unreachable", where=url, said=one_line(str(error), _SHOWN),
                advice="check that its API answers there, and that `trust` names the root of its certificate",
            ) from error  # fmt: skip
        return ApiAnswer(
            answer.status,
            read_json(answer.body),
            answer.body.decode("utf-8", "replace"),
            answer.headers.get("Retry-After", ""),
        )

    def _connections(self) -> KeptConnections:
        if self._kept is None:
            context = client_context(Path(self._trust) if self._trust else None, self._told)
            self._kept = KeptConnections(context, connect_seconds=_SECONDS, read_seconds=_SECONDS)
        return self._kept
