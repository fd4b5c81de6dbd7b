"""A simulated web server that reads the small part of nginx's configuration that the demo uses.

It answers the same command line (`-t`, `-s reload`, `-V`, `-p`, `-c`), so that the demo runs alike where nginx is
not installed. Files only, names by SNI and Host; not meant for anything else.
"""

import argparse
import contextlib
import glob
import mimetypes
import os
import signal
import ssl
import sys
import threading
from dataclasses import dataclass
from pathlib import Path
from types import FrameType
from typing import Any

from inkstamp.errors import InkStampError
from inkstamp.files import read_bytes
from inkstamp.servers.nginx.reading import Folders, Reading, ServerBlock, best_hosts, hosts, read_configuration, to_site
from inkstamp.standins.quiet import QuietHandler, QuietServer

_Place = tuple[str, int, bool]


def _loopback(address: str) -> str:
    return {"*": "127.0.0.1", "0.0.0.0": "127.0.0.1"}.get(address, address.strip("[]"))


@dataclass
class _Setup:
    """A configuration that has been read and found good."""

    pid_file: Path
    hosts: list[ServerBlock]
    contexts: dict[int, ssl.SSLContext]
    """TLS settings by the position of their host."""

    def places(self) -> set[_Place]:
        return {(_loopback(listen.address), listen.port, listen.tls) for host in self.hosts for listen in host.listens}

    def choose(self, name: str, place: _Place) -> ServerBlock | None:
        """Return the host that answers for `name` at a place: by name, else the first one there."""
        here = [
            host
            for host in self.hosts
            if any((_loopback(each.address), each.port, each.tls) == place for each in host.listens)
        ]
        return next(iter(best_hosts(here, name, tls=place[2]) or here), None)


class _Contexts:
    """Makes TLS settings of certificates and keys; those that are as they were are not made anew: it takes long."""

    def __init__(self) -> None:
        self._known: dict[bytes, ssl.SSLContext] = {}

    def of(self, host: ServerBlock) -> ssl.SSLContext:
        """Return those of a block; OSError when they cannot be loaded."""
        files = [host.certificate_file, host.path("ssl_certificate_key"), host.path("ssl_password_file")]
        key = b"\0".join(Path(each).read_bytes() for each in files if each)
        if key not in self._known:
            context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
            _load_pair(context, host)
            self._known[key] = context
        return self._known[key]


class _Tested(_Contexts):
    """Loads certificates and keys to see whether they are good, all into one."""

    def __init__(self) -> None:
        super().__init__()
        self._one = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)

    def of(self, host: ServerBlock) -> ssl.SSLContext:
        _load_pair(self._one, host)
        return self._one


def read_setup(main_file: str, prefix: str, contexts: _Contexts) -> _Setup:
    """Read a configuration and load its keys; InkStampError or OSError when it is not good."""
    folders = Folders(main_file, prefix)
    reading: Reading = read_configuration(folders, lambda path: read_bytes(Path(path)), lambda p: sorted(glob.glob(p)))
    found = hosts(reading)
    made = {
        number: contexts.of(host) for number, host in enumerate(found) if any(listen.tls for listen in host.listens)
    }
    pid = next((each.arguments[0] for each in reading.directives if each.name == "pid"), f"{prefix}/web.pid")
    return _Setup(Path(pid), found, made)


def _load_pair(context: ssl.SSLContext, host: ServerBlock) -> None:
    """Load a block's certificate and key; of a file of passphrases the first line alone, unlike nginx."""
    key, passphrases = host.value("ssl_certificate_key"), host.value("ssl_password_file")
    known = Path(host.absolute(passphrases.arguments[0])).read_text().splitlines() if passphrases else []
    key_file = host.absolute(key.arguments[0]) if key else None
    context.load_cert_chain(host.certificate_file, key_file, password=known[0] if known else "")


class _Handler(QuietHandler):
    protocol_version = "HTTP/1.1"
    web: "WebServer"
    place: _Place

    def do_GET(self) -> None:
        name = (self.headers.get("Host") or "").partition(":")[0].lower()
        host = self.web.setup.choose(name, self.place)
        path = self.path.partition("?")[0].lstrip("/") or "index.html"
        root = to_site(host, "").root if host else ""
        file = os.path.realpath(os.path.join(root, path))
        if not root or not file.startswith(os.path.realpath(root) + os.sep) or not os.path.isfile(file):
            self.send(404, b"<h1>404 not found</h1>\n", "text/html")
            return
        self.send(200, Path(file).read_bytes(), mimetypes.guess_type(file)[0] or "application/octet-stream")


class WebServer:
    """The running server; `load` may be called again at any time."""

    def __init__(self, main_file: str, prefix: str) -> None:
        self._main_file, self._prefix = main_file, prefix
        self._listeners: dict[_Place, QuietServer] = {}
        self._contexts = _Contexts()
        self.setup = read_setup(main_file, prefix, self._contexts)
        self._follow()

    def load(self) -> None:
        """Take the configuration anew; a broken one is not taken."""
        with contextlib.suppress(InkStampError, OSError, ssl.SSLError):
            self.setup = read_setup(self._main_file, self._prefix, self._contexts)
            self._follow()

    def _follow(self) -> None:
        """Open and close listeners until they are those of the setup."""
        wanted = self.setup.places()
        for place in set(self._listeners) - wanted:
            self._listeners[place].shutdown()
            self._listeners.pop(place).server_close()
        for place in wanted - set(self._listeners):
            handler = type("_HandlerHere", (_Handler,), {"web": self, "place": place})
            listener = QuietServer(place[:2], handler)
            if place[2]:
                outer = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
                _load_pair(outer, self._first_host(place))
                outer.sni_callback = self._chooser(place)
                listener.socket = outer.wrap_socket(listener.socket, server_side=True, do_handshake_on_connect=False)
            self._listeners[place] = listener
            threading.Thread(target=listener.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()

    def _first_host(self, place: _Place) -> ServerBlock:
        host = self.setup.choose("", place)
        if host is None or host.value("ssl_certificate_key") is None:
            raise InkStampError(f"no certificate for {place[0]}:{place[1]}")
        return host

    def _chooser(self, place: _Place) -> Any:
        def choose(connection: ssl.SSLObject, name: str | None, _outer: ssl.SSLContext) -> None:
            host = self.setup.choose(name or "", place)
            if host is not None:
                connection.context = self.setup.contexts[self.setup.hosts.index(host)]

        return choose


def main(arguments: list[str]) -> int:
    """Run one command line; returns the exit status."""
    parser = argparse.ArgumentParser(prog="simulated-web-server")
    parser.add_argument("-p", dest="prefix", default="")
    parser.add_argument("-c", dest="main_file", default="")
    parser.add_argument("-t", dest="test", action="store_true")
    parser.add_argument("-s", dest="signal", choices=["reload"])
    parser.add_argument("-V", dest="version", action="store_true")
    options = parser.parse_args(arguments)
    if options.version:
        sys.stdout.write("a simulated web server of Ink Stamp\n")
        return 0
    try:
        setup = read_setup(options.main_file, options.prefix, _Tested())
        if options.test:
            sys.stdout.write(f"the configuration {options.main_file} is good\n")
            return 0
        if options.signal:
            os.kill(int(setup.pid_file.read_text()), signal.SIGHUP)
            return 0
        return _serve(options.main_file, options.prefix, setup.pid_file)
    except InkStampError as error:
        sys.stderr.write(f"{error.what}: {error.where}\n")
    except (OSError, ssl.SSLError) as error:
        sys.stderr.write(f"{error}\n")
    return 1


def _serve(main_file: str, prefix: str, pid_file: Path) -> int:
    stop = threading.Event()
    again = threading.Event()

    def on_signal(number: int, _frame: FrameType | None) -> None:
        (again if number == signal.SIGHUP else stop).set()

    for each in (signal.SIGHUP, signal.SIGTERM, signal.SIGINT):
        signal.signal(each, on_signal)
    server = WebServer(main_file, prefix)
    pid_file.write_text(f"{os.getpid()}\n")
    while not stop.wait(0.02):
        if again.is_set():
            again.clear()
            server.load()
    pid_file.unlink(missing_ok=True)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
