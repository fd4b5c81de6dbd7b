"""A simulated mail server and a simulated receiver of webhooks, which keep what they are given."""

import base64
import socketserver
import ssl
import threading
from collections import deque
from dataclasses import dataclass
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path

from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn


@dataclass(frozen=True, slots=True)
class Letter:
    """One message as it came in."""

    sender: str
    to: tuple[str, ...]
    message: EmailMessage
    over_tls: bool
    user: str
    """Who had logged in; empty for nobody."""


class Mailbox:
    """Takes e-mail on a loopback port: ESMTP (RFC 5321) with STARTTLS, or TLS from the first byte, and AUTH PLAIN."""

    def __init__(self, port: int, pair: tuple[Path, Path], *, tls: str = "starttls", login: str = "") -> None:
        self.letters: list[Letter] = []
        self.refuses = False
        """Whether all recipients are refused."""
        self.login = login
        """`user:password`, or empty where nobody has to log in."""
        self.tls = tls
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.load_cert_chain(*pair)
        owner = self

        class _Handler(_Session):
            mailbox = owner

        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", port), _Handler)
        self._server.daemon_threads = True

    def __enter__(self) -> "Mailbox":
        threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True).start()
        return self

    def __exit__(self, *_raised: object) -> None:
        self._server.shutdown()
        self._server.server_close()


class _Session(socketserver.StreamRequestHandler):
    mailbox: Mailbox

    def handle(self) -> None:
        self._sender, self._to, self._user, self._secure = "", list[str](), "", False
        try:
            if self.mailbox.tls == "tls":
                self._start_tls()
            self._say("220 mail.saltmarsh.test takes made-up mail")
            while line := self.rfile.readline(2048):
                if not self._answer(line.decode("utf-8", "replace").strip()):
                    break
        except OSError:
            return  # the other side has gone
        finally:
            for each in (self.wfile, self.rfile, self.request):
                each.close()  # after STARTTLS they are others than those that the base class closes

    def _say(self, *lines: str) -> None:
        self.wfile.write("".join(f"{line}\r\n" for line in lines).encode())

    def _start_tls(self) -> None:
        self.request = self.mailbox.context.wrap_socket(self.request, server_side=True)
        self.rfile, self.wfile = self.request.makefile("rb"), self.request.makefile("wb", 0)
        self._secure = True

    def _answer(self, line: str) -> bool:
        """Answer one command; False at the end."""
        word, _, rest = line.partition(" ")
        match word.upper():
            case "EHLO":
                more = [] if self._secure or self.mailbox.tls != "starttls" else ["STARTTLS"]
                more += ["AUTH PLAIN"] if self.mailbox.login and self._secure else []
                self._say("250-mail.saltmarsh.test", *(f"250-{each}" for each in more), "250 8BITMIME")
            case "STARTTLS":
                self._say("220 go on")
                self._start_tls()
            case "AUTH":
                given = base64.b64decode(rest.partition(" ")[2]).decode().split("\0")
                good = ":".join(given[1:]) == self.mailbox.login
                self._user = given[1] if good else ""
                self._say("235 welcome" if good else "535 these are not the right ones")
            case "MAIL" | "RCPT" as which:
                self._envelope(which, _address(rest))
            case "DATA":
                self._take()
            case "QUIT":
                self._say("221 goodbye")
                return False
            case "RSET" | "NOOP":
                self._say("250 fine")
            case _:
                self._say("502 not known here")
        return True

    def _envelope(self, which: str, address: str) -> None:
        if self.mailbox.login and not self._user:
            self._say("530 log in first")
        elif which == "MAIL":
            self._sender, self._to = address, []
            self._say("250 fine")
        elif self.mailbox.refuses:
            self._say("550 nobody of that name")
        else:
            self._to.append(address)
            self._say("250 fine")

    def _take(self) -> None:
        self._say("354 go on")
        lines = []
        while (line := self.rfile.readline(65_536)) not in {b".\r\n", b""}:
            lines.append(line[1:] if line.startswith(b".") else line)
        message = message_from_bytes(b"".join(lines), policy=default)
        if not isinstance(message, EmailMessage):  # pragma: no cover  the policy makes nothing else
            raise TypeError(type(message))
        letter = Letter(self._sender, tuple(self._to), message, self._secure, self._user)
        self.mailbox.letters.append(letter)
        self._say("250 kept")


def _address(text: str) -> str:
    return text.partition("<")[2].partition(">")[0]


class HookReceiver(StandIn):
    """Takes what is posted to it on a loopback port."""

    def __init__(self, port: int) -> None:
        self.posts: list[tuple[dict[str, str], bytes]] = []
        """Headers (names in lower case) and body of each request, also of those that were refused."""
        self.answers: deque[int] = deque()
        """Statuses to answer with first; 204 afterwards."""
        owner = self

        class _Handler(QuietHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
                owner.posts.append(({name.lower(): value for name, value in self.headers.items()}, body))
                self.send_response(owner.answers.popleft() if owner.answers else 204)
                self.send_header("Content-Length", "0")
                self.end_headers()

        self._server = QuietServer(("127.0.0.1", port), _Handler)
        self.url = f"http://127.0.0.1:{port}/certificates?team=night"
