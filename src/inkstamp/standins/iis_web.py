"""What a simulated Windows Server answers: files by HTTP, and TLS with the certificate of the binding for the name."""

import ssl
import tempfile
import threading
from pathlib import Path
from types import TracebackType
from typing import Self

from inkstamp.standins.quiet import QuietHandler, QuietServer
from inkstamp.standins.windows_machine import CONFIG, WindowsMachine


class _Handler(QuietHandler):
    machine: WindowsMachine

    def do_GET(self) -> None:
        name = (self.headers.get("Host") or "").partition(":")[0].lower()
        root = next((site["path"] for site in self.machine.state()["sites"] for each in site["bindings"]
                     if each["information"].rsplit(":", 1)[1].lower() == name), "")  # fmt: skip
        file = self.machine.on_disk(root).joinpath(*self.path.strip("/").split("/")) if root else Path("/nowhere")
        # As IIS does: a file without an extension is shown only where a web.config says what it is.
        if not file.is_file() or (not file.suffix and not (file.parent / CONFIG).exists()):
            self.send(404, b"not found", "text/html")
            return
        self.send(200, file.read_bytes(), "text/plain")


class IisWeb:
    """Answers on one address for the time of a `with` block."""

    def __init__(self, machine: WindowsMachine, address: str, http_port: int, https_port: int) -> None:
        handler = type("_HandlerHere", (_Handler,), {"machine": machine})
        outer = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        outer.sni_callback = lambda connection, name, _: self._choose(machine, connection, name)
        plain, tls = QuietServer((address, http_port), handler), QuietServer((address, https_port), handler)
        tls.socket = outer.wrap_socket(tls.socket, server_side=True, do_handshake_on_connect=False)
        self._servers = (plain, tls)

    @staticmethod
    def _choose(machine: WindowsMachine, connection: ssl.SSLObject, name: str | None) -> int | None:
        pair = machine.pair_for((name or "").lower())
        if pair is None:
            return ssl.ALERT_DESCRIPTION_UNRECOGNIZED_NAME
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        with tempfile.NamedTemporaryFile() as file:
            file.write(b"".join(pair))
            file.flush()
            context.load_cert_chain(file.name)
        connection.context = context
        return None

    def __enter__(self) -> Self:
        for each in self._servers:
            threading.Thread(target=each.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        for each in self._servers:
            each.shutdown()
            each.server_close()
