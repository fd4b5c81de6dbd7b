"""A simulated nameserver: answers for the zones it is given, over UDP and TCP on loopback."""

import socketserver
import threading
from collections.abc import Mapping
from types import TracebackType

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
import dns.rrset

_TTL = 60
_MOST_UDP = 1232


class Nameserver:
    """Serves addresses from a table that may be changed while it runs.

    The table holds, for each lower-case name, a list of IP addresses; a name that is not in it does not exist.
    """

    def __init__(self, port: int, table: Mapping[str, list[str]], address: str = "127.0.0.1") -> None:
        self.table: dict[str, list[str]] = dict(table)
        self.port = port
        self.asked = 0
        owner = self

        class _Udp(socketserver.BaseRequestHandler):
            def handle(self) -> None:
                data, sock = self.request
                answer = owner.answer(data, limit=_MOST_UDP)
                if answer:
                    sock.sendto(answer, self.client_address)

        class _Tcp(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                size = int.from_bytes(self.rfile.read(2), "big")
                answer = owner.answer(self.rfile.read(size), limit=65_535)
                if answer:
                    self.wfile.write(len(answer).to_bytes(2, "big") + answer)

        class _UdpServer(socketserver.ThreadingUDPServer):
            allow_reuse_address = True
            daemon_threads = True

        class _TcpServer(socketserver.ThreadingTCPServer):
            allow_reuse_address = True
            daemon_threads = True

        self._servers: list[socketserver.BaseServer] = [
            _UdpServer((address, port), _Udp),
            _TcpServer((address, port), _Tcp),
        ]

    def answer(self, data: bytes, limit: int) -> bytes:
        """Answer one query in wire format; empty for what is no query."""
        try:
            query = dns.message.from_wire(data)
        except dns.exception.DNSException:
            return b""
        self.asked += 1
        reply = dns.message.make_response(query, recursion_available=True)
        reply.flags |= dns.flags.AA
        if query.question:
            question = query.question[0]
            name = question.name.to_text(omit_final_dot=True).lower()
            known = self.table.get(name)
            if known is None:
                reply.set_rcode(dns.rcode.NXDOMAIN)
            else:
                wanted = [
                    each
                    for each in known
                    if (question.rdtype is dns.rdatatype.AAAA and ":" in each)
                    or (question.rdtype is dns.rdatatype.A and ":" not in each)
                ]
                if wanted:
                    reply.answer.append(
                        dns.rrset.from_text_list(question.name, _TTL, dns.rdataclass.IN, question.rdtype, wanted)
                    )
        return reply.to_wire(max_size=limit)

    def __enter__(self) -> "Nameserver":
        for server in self._servers:
            threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        for server in self._servers:
            server.shutdown()
            server.server_close()
