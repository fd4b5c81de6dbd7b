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
    """Serves addresses and other records from tables that may be changed while it runs.

    `table` holds, for each lower-case name, a list of IP addresses; `records`, for a name and a type, texts as zone
    files have them. A name that is in neither does not exist.
    """

    def __init__(self, port: int, table: Mapping[str, list[str]], address: str = "127.0.0.1") -> None:
        self.table: dict[str, list[str]] = dict(table)
        self.records: dict[tuple[str, str], list[str]] = {}
        self.secure = False
        """Whether answers say that their signatures were found good (RFC 4035), as a validating resolver's do."""
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
        if self.secure:
            reply.flags |= dns.flags.AD
        if query.question:
            question = query.question[0]
            name = question.name.to_text(omit_final_dot=True).lower()
            if name not in self.table and not any(name == known for known, _ in self.records):
                reply.set_rcode(dns.rcode.NXDOMAIN)
            else:
                wanted = self._texts(name, question.rdtype)
                if wanted:
                    reply.answer.append(
                        dns.rrset.from_text_list(question.name, _TTL, dns.rdataclass.IN, question.rdtype, wanted)
                    )
        return reply.to_wire(max_size=limit)

    def _texts(self, name: str, kind: dns.rdatatype.RdataType) -> list[str]:
        """Return the records of a name and type as text."""
        addresses = self.table.get(name, [])
        if kind is dns.rdatatype.AAAA:
            return [each for each in addresses if ":" in each]
        if kind is dns.rdatatype.A:
            return [each for each in addresses if ":" not in each]
        return self.records.get((name, dns.rdatatype.to_text(kind)), [])

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
