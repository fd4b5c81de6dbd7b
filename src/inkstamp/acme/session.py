"""One conversation with one CA: HTTPS, nonces, retries (RFC 8555 sections 6 and 7.2). The only sockets of this room."""

import re
import threading
from collections import Counter, deque
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import timedelta
from email.message import Message
from http.client import HTTPException
from pathlib import Path
from typing import Any

from msgspec import Struct

from inkstamp import __version__
from inkstamp.acme.jws import compact_json, public_jwk, sign
from inkstamp.acme.network import may_pass, network_trouble
from inkstamp.acme.patience import TROUBLE, Patience, parse_retry_after
from inkstamp.acme.problems import as_error, short_kind
from inkstamp.acme.resources import Directory, Problem, read
from inkstamp.clock import Clock, stamp
from inkstamp.deadline import time_left, within
from inkstamp.errors import CaMisbehaved, CaProblem, ConfigurationError, InkStampError, NetworkTrouble, UrlTrouble
from inkstamp.kept_connections import AnswerTooLong, HttpReply, KeptConnections, NotConnected
from inkstamp.pki.keys import PrivateKey
from inkstamp.printable import shown_bytes
from inkstamp.transport import at_most, client_context
from inkstamp.urls import WebUrl, absolute, web_url

_CONNECT_SECONDS, _READ_SECONDS = 10.0, 30.0
"""To connect, and between two pieces of an answer."""
_WHOLE = 60.0
"""Seconds that one answer may take from request to last byte."""
_MOST_BODY = 1_048_576
_MOST_BAD_NONCES = 20
"""Each refusal brings a fresh nonce; this many in a row is a CA that never takes one."""
_MOST_NONCES_KEPT = 64
_MOST_HOSTS = 16
_MOST_MOVES = 5
"""Redirects that a GET follows: a directory may move."""
_MOST_LINKS = 65_536
"""Characters of Link headers that are read."""
_LINK = re.compile(r"<([^<>]*)>([^<]*)")
_NONCE = "Replay-Nonce"
_HEADERS = {"User-Agent": f"inkstamp/{__version__}", "Accept-Language": "en"}
_HEADERS_OF_POST = {**_HEADERS, "Content-Type": "application/jose+json"}

_BROKEN = (NotConnected, HTTPException, OSError, ValueError)
"""What the HTTP library raises; ValueError for headers that it refuses."""


class Signer(Struct, frozen=True):
    """An account's key, and its URL once the CA has given one (`kid`)."""

    key: PrivateKey
    account_url: str = ""


class Reply(Struct, frozen=True):
    """A successful answer."""

    status: int
    headers: Message
    body: bytes
    url: str
    retry_after: float | None
    """Seconds from now; None when the CA said nothing."""

    def links(self, relation: str) -> tuple[str, ...]:
        """Return the targets of the Link headers with that relation (RFC 8288)."""
        return _links(self.headers, self.url, relation)


def _links(headers: Message, base: str, relation: str) -> tuple[str, ...]:
    """Return what links of that relation lead to; one that leads nowhere is passed over, since none has to be there."""
    wanted = re.compile(rf'rel="?{re.escape(relation)}"?(\s|;|,|$)')
    found = []
    for link in _LINK.finditer(", ".join(headers.get_all("Link", []))[:_MOST_LINKS]):
        if wanted.search(link[2]):
            with suppress(UrlTrouble):
                found.append(absolute(base, link[1]))
    return tuple(found)


class _MovedAway(CaMisbehaved):
    """The answer is a redirect, which only a GET may follow: a signed request names its own URL."""

    def __init__(self, url: str, target: str) -> None:
        super().__init__(f"the CA redirects a request to {target or 'nowhere'}", where=url,
                         advice="correct `directory` if the CA has moved; otherwise report it to the CA")  # fmt: skip
        self.target = target


class Session:
    """Speaks to the CA behind one directory URL; safe to share between threads."""

    def __init__(
        self,
        directory_url: str,
        *,
        trust: Path | None,
        clock: Clock,
        on_wait: Callable[[str, float], None] = lambda _why, _seconds: None,
        on_notice: Callable[[str], None] = lambda _text: None,
        patience: Patience = TROUBLE,
        expect: Callable[[], None] = lambda: None,
    ) -> None:
        """Begin a conversation; nothing is sent yet.

        Args:
            directory_url: Where the CA's directory is.
            trust: PEM file with the roots of the API's certificate; None for the system's.
            clock: What tells the time and waits.
            on_wait: Told why something is waited for, and for how many seconds.
            on_notice: Told what a person should know.
            patience: How long trouble is put up with.
            expect: Called before each request; what it raises keeps the request from being sent.

        """
        if not directory_url.startswith("https://"):
            raise ConfigurationError(
                f"the directory URL {directory_url} is not https",
                where=directory_url,
                advice="RFC 8555 allows https alone; correct `directory`",
            )
        self.directory_url = directory_url
        self.counts: Counter[str] = Counter()
        """Requests made, by kind."""
        self._clock = clock
        self._on_wait = on_wait
        self._on_notice = on_notice
        self._patience = patience
        self._expect = expect
        try:
            self._host = web_url(directory_url).host
        except UrlTrouble as error:
            raise ConfigurationError(
                f"the directory URL {error.where} cannot be used", where=error.where, said=error.said,
                advice="correct `directory`",
            ) from error  # fmt: skip
        context = client_context(trust, "the CA's API")
        self._connections = KeptConnections(context, connect_seconds=_CONNECT_SECONDS, read_seconds=_READ_SECONDS)
        self._elsewhere: set[str] = set()
        """Hosts other than the directory's that the CA has named, each told once."""
        self._asked: set[str] = set()
        """Hosts with their ports, the directory's too."""
        self._nonces: deque[str] = deque(maxlen=_MOST_NONCES_KEPT)
        self._directory: Directory | None = None
        self._lock = threading.Lock()

    def directory(self) -> Directory:
        """Return the CA's directory, fetched once (RFC 8555 section 7.1.1)."""
        with self._lock:
            if self._directory is None:
                reply = self._until_well("directory", lambda: self.get("directory", self.directory_url))
                self._directory = read(Directory, reply.body, reply.url)
            return self._directory

    def post(
        self, kind: str, url: str, payload: Mapping[str, Any] | None, signer: Signer, *, repeatable: bool = True
    ) -> Reply:
        """Send a signed request (RFC 8555 section 6.2) and return the successful answer.

        Args:
            kind: What it is, in one word, for counting and messages.
            url: Where to.
            payload: The object to send; None for POST-as-GET (section 6.3).
            signer: With its account URL the request is signed by `kid`, without by `jwk`.
            repeatable: Whether it may be sent again after a connection broke before the answer was read.

        Raises:
            CaProblem: The CA refused, or went on having trouble.
            CaMisbehaved: The answer is not what RFC 8555 allows.
            NetworkTrouble: No conversation came about.

        """
        body = b"" if payload is None else compact_json(payload)
        header: dict[str, Any] = {"url": url}
        if signer.account_url:
            header["kid"] = signer.account_url
        else:
            header["jwk"] = public_jwk(signer.key)

        def attempt() -> Reply:
            for _ in range(_MOST_BAD_NONCES):
                signed = sign(signer.key, {**header, "nonce": self._nonce()}, body)
                try:
                    self.counts[kind] += 1
                    return self._once("POST", url, signed)
                except CaProblem as problem:
                    if problem.kind != "badNonce":
                        raise
                    self.counts["refused nonce"] += 1
            raise CaMisbehaved(
                "the CA rejects its own nonces",
                where=url,
                advice="look for a proxy that replays answers; otherwise report it to the CA",
            )

        return self._until_well(kind, attempt, repeatable=repeatable)

    def get(self, kind: str, url: str) -> Reply:
        """Ask without a signature (RFC 8555 section 6.3 allows it for the directory, RFC 9773 for renewal information).

        Asked once: who asks thousands of times stops at the first trouble. Redirects are followed, as a directory may
        move. Raises as `post` does.
        """
        for _ in range(_MOST_MOVES):
            self.counts[kind] += 1
            try:
                return self._once("GET", url)
            except _MovedAway as moved:
                if not moved.target:
                    raise
                url = moved.target
        raise CaMisbehaved(f"the CA redirects more than {_MOST_MOVES} times", where=url)

    def _nonce(self) -> str:
        try:
            return self._nonces.pop()
        except IndexError:
            url = self.directory().new_nonce
            self.counts["nonce"] += 1
            reply = self._until_well("nonce", lambda: self._once("HEAD", url))
            nonce = reply.headers.get(_NONCE, "")
            if not nonce:
                raise CaMisbehaved("the CA's answer to newNonce holds no nonce", where=url) from None
            return nonce

    def _until_well(self, kind: str, attempt: Callable[[], Reply], *, repeatable: bool = True) -> Reply:
        """Call `attempt` until the CA is well again, or patience ends; then its last error is raised."""
        waited, tries = 0.0, 0
        while True:
            try:
                return attempt()
            except (CaProblem, NetworkTrouble) as error:
                asked = error.retry_after if isinstance(error, CaProblem) else None
                if not may_pass(error, tries, repeatable=repeatable):
                    raise
                wait = self._patience.next_wait(tries, waited, asked)
                if wait is None:
                    raise _with_time(error, self._clock, asked) from error.__cause__
                if wait >= time_left():  # the time for all of it would be over before that
                    raise
                self._on_wait(f"{kind}: {error.what}", wait)
                self._clock.sleep(wait)
                waited += wait
                tries += 1

    def _way_to(self, url: str) -> WebUrl:
        """Return a URL of the CA in its parts; CaMisbehaved for one that is not to be asked."""
        try:
            where = web_url(url)
        except UrlTrouble as error:
            raise CaMisbehaved(
                f"the CA names a URL that is not https: {error.where}", where=self.directory_url, said=error.said
            ) from error
        if where.scheme != "https":
            raise CaMisbehaved(f"the CA names a URL that is not https: {url}", where=self.directory_url)
        if where.host != self._host and where.host not in self._elsewhere:
            self._elsewhere.add(where.host)
            self._on_notice(f"{self._host} sends requests on to another host, {where.host}")
        if where.authority not in self._asked:
            if len(self._asked) >= _MOST_HOSTS:
                raise CaMisbehaved(f"the CA names more than {_MOST_HOSTS} hosts", where=self.directory_url)
            self._asked.add(where.authority)
        return where

    def _once(self, method: str, url: str, body: bytes | None = None) -> Reply:
        """One request, one answer; problems and trouble as errors."""
        self._expect()
        where = self._way_to(url)
        headers = _HEADERS if body is None else _HEADERS_OF_POST
        try:
            with within(_WHOLE), at_most(_MOST_BODY):
                reply = self._connections.request(method, where, body, headers, _MOST_BODY)
        except AnswerTooLong as error:
            raise CaMisbehaved(f"the CA's answer is longer than {_MOST_BODY} bytes", where=url) from error
        except _BROKEN as error:
            raise network_trouble(error, url) from error
        return self._judged(method, url, reply)

    def _judged(self, method: str, url: str, reply: HttpReply) -> Reply:
        """Keep the nonce of an answer; a success is returned, anything else an error."""
        nonce = reply.headers.get(_NONCE)
        if nonce and method != "HEAD":  # one that was asked for is for who asked: other threads take what is kept
            self._nonces.append(nonce)
        retry_after = parse_retry_after(reply.headers.get("Retry-After"), self._clock.now())
        if 200 <= reply.status < 300:
            return Reply(reply.status, reply.headers, reply.body, url, retry_after)
        if 300 <= reply.status < 400:
            onward = reply.headers.get("Location")
            raise _MovedAway(url, _onward(url, onward))
        raise _refusal(reply.status, reply.headers, reply.body, url, retry_after)

    def close(self) -> None:
        """Close all connections."""
        self._connections.close()


def _onward(url: str, location: str | None) -> str:
    """Return where a redirect leads; empty when it does not say so in a way that can be read."""
    try:
        return absolute(url, location) if location else ""
    except UrlTrouble:
        return ""


def _refusal(status: int, headers: Message, body: bytes, url: str, retry_after: float | None) -> InkStampError:
    """Make the error for an answer that is no success (RFC 8555 section 6.7)."""
    if "json" in headers.get("Content-Type", ""):
        try:
            problem = read(Problem, body, url)
        except CaMisbehaved:
            problem = Problem(detail=shown_bytes(body))
    else:
        start = shown_bytes(body).strip()
        problem = Problem(title=f"HTTP status {status}", detail=f"HTTP status {status}: {start}".rstrip(": "))
    return as_error(
        problem,
        f"the CA answered with {status} ({short_kind(problem)})",
        where=url,
        status=status,
        retry_after=retry_after,
        links=(*_links(headers, url, "help"), *_links(headers, url, "terms-of-service")),
    )


def _with_time(error: InkStampError, clock: Clock, asked: float | None) -> InkStampError:
    if asked and isinstance(error, CaProblem):
        when = stamp(clock.now() + timedelta(seconds=asked))
        return error.amended(advice=f"the CA asks to retry after {when}; run the command again then")
    return error
