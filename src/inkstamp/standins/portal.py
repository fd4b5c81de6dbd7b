"""A simulated CA web portal: pages and forms on loopback such as a browser shows, and checks that are real."""

from collections.abc import Callable
from html import escape
from pathlib import Path
from urllib.parse import parse_qs

from inkstamp.standins.portal_state import METHODS, Declined, PortalEntry, PortalState
from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn
from inkstamp.standins.validation import Outside

_MOST_BODY = 65_536
_STYLE = (
    "body{font:16px/1.5 sans-serif;max-width:46rem;margin:2rem auto;padding:0 1rem;color:#222}"
    "textarea{width:100%;height:16rem}code,pre{background:#f3f3ee;padding:.1rem .3rem;overflow-wrap:anywhere;"
    "white-space:pre-wrap}form{margin:1rem 0}"
)
_STATES = {"proof": "waiting for proof of control", "review": "in review by our staff", "issued": "issued"}


class SimulatedPortal(StandIn):
    """Serves a PortalState on a loopback port."""

    def __init__(self, port: int, folder: Path, *, dns_port: int, http_port: int) -> None:
        self.url = f"http://127.0.0.1:{port}"
        self.state = PortalState(folder, self.url, Outside(dns_port, http_port))
        handler = type("_Handler", (_Pages,), {"state": self.state})
        self._server = QuietServer(("127.0.0.1", port), handler)


class _Pages(QuietHandler):
    """One connection."""

    state: PortalState

    def do_GET(self) -> None:
        self._answer(self._get)

    def do_POST(self) -> None:
        length = min(int(self.headers.get("Content-Length", "0")), _MOST_BODY)
        form = {key: values[0] for key, values in parse_qs(self.rfile.read(length).decode()).items()}
        self._answer(lambda kind, rest: self._post(kind, rest, form))

    def _answer(self, page: Callable[[str, list[str]], None]) -> None:
        kind, *rest = self.path.strip("/").split("/")
        try:
            page(kind, rest)
        except (Declined, ValueError, IndexError) as refused:
            self._page(400, "That did not work", f"<p>{escape(str(refused))}</p><p><a href='/'>all orders</a></p>")

    def _get(self, kind: str, rest: list[str]) -> None:
        if kind == "":
            self._page(200, "Your orders", _list(self.state.orders()))
        elif kind == "new":
            self._page(200, "New certificate", _NEW)
        elif kind == "order" and rest[1:] == ["download.zip"]:
            self.send(200, self.state.archive(int(rest[0])), "application/zip")
        elif kind == "order" and rest[1:] == ["chain.p7b"]:
            self.send(200, self.state.pkcs7(int(rest[0])), "application/x-pkcs7-certificates")
        elif kind == "order":
            entry = self.state.order(int(rest[0]))
            self._page(200, f"Order {entry.number}", self._order(entry))
        elif kind == "issuer":
            self.send(200, self.state.issuer(rest[0]), "application/pkix-cert")
        elif kind == "approve":
            form = f"<form method='post' action='/approve/{escape(rest[0])}'><button>Approve</button></form>"
            self._page(200, "Approve the certificate", form)
        else:
            self._page(404, "Not found", "<p><a href='/'>all orders</a></p>")

    def _post(self, kind: str, rest: list[str], form: dict[str, str]) -> None:
        if kind == "new":
            self._redirect(self.state.open(form.get("csr", "")).number)
        elif kind == "approve":
            self._redirect(self.state.approve(rest[0]).number)
        elif kind == "order":
            number, action = int(rest[0]), rest[1]
            if action == "method":
                self.state.choose(number, form.get("method", ""))
            elif action == "send":
                self.state.send(number, form.get("address", ""))
            elif action == "check":
                self.state.check(number)
            self._redirect(number)

    def _order(self, entry: PortalEntry) -> str:
        parts = [f"<p>For <b>{escape(', '.join(entry.names))}</b>: {_STATES[entry.state]}.</p>"]
        if entry.state == "issued":
            for file, word in (("download.zip", "ZIP"), ("chain.p7b", "PKCS#7")):
                parts.append(f"<p><a href='/order/{entry.number}/{file}'>download as {word}</a></p>")
            return "".join(parts)
        if entry.state == "proof":
            choices = "".join(f"<button name='method' value='{each}'>{each}</button> " for each in METHODS)
            action = f"/order/{entry.number}"
            parts.append(f"<form method='post' action='{action}/method'>Show control by: {choices}</form>")
            parts += [f"<p>{self._wanted(entry, name)}</p>" for name in entry.names if entry.method]
            if entry.method == "email":
                parts.append(
                    f"<form method='post' action='{action}/send'><input name='address'><button>Send</button></form>"
                )
            if entry.said:
                parts.append(f"<p>Last check: {escape(entry.said)}</p>")
            parts.append(f"<form method='post' action='{action}/check'><button>Check now</button></form>")
        return "".join(parts)

    def _wanted(self, entry: PortalEntry, name: str) -> str:
        if entry.method == "email":
            return f"An e-mail to an address of {escape(name)} has a link to follow."
        place, content = (escape(each) for each in self.state.wants(entry, name))
        if entry.method == "file":
            return f"The file <code>http://{escape(name)}{place}</code> must hold <pre>{content}</pre>"
        return f"The {entry.method.upper()} record <code>{place}</code> must have the value <code>{content}</code>"

    def _page(self, status: int, title: str, body: str) -> None:
        text = (
            f"<!doctype html><html lang='en'><meta charset='utf-8'><title>{escape(title)}</title>"
            f"<style>{_STYLE}</style><p>Fogbell (simulated CA)</p><h1>{escape(title)}</h1>{body}</html>"
        )
        self.send(status, text.encode(), "text/html; charset=utf-8")

    def _redirect(self, number: int) -> None:
        self.send_response(303)
        self.send_header("Location", f"/order/{number}")
        self.send_header("Content-Length", "0")
        self.end_headers()


_NEW = (
    "<form method='post' action='/new'><label>Paste your certificate signing request"
    "<textarea name='csr'></textarea></label><button>Order</button></form>"
)


def _list(orders: list[PortalEntry]) -> str:
    rows = "".join(
        f"<li><a href='/order/{each.number}'>{each.number}</a> {escape(each.names[0])}: {_STATES[each.state]}</li>"
        for each in orders
    )
    return f"<p><a href='/new'>New certificate</a></p><ul>{rows}</ul>"
