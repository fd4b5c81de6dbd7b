"""Every parser and reader of strangers' bytes, by name: what `tools/fuzz.py` throws things at and the tests replay."""

import contextlib
import functools
import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.message import Message
from importlib import resources
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import pkcs7, pkcs12
from cryptography.x509 import ocsp
from cryptography.x509.oid import NameOID

from inkstamp.acme.patience import parse_retry_after
from inkstamp.acme.resources import Authorization, Directory, Order, RenewalInfo, read
from inkstamp.acme.session import _links
from inkstamp.config.load import parse as parse_config
from inkstamp.config.recipe_file import parse_recipe
from inkstamp.errors import FileTrouble, InkStampError
from inkstamp.jobs.issuance.csr_elsewhere import read_brought
from inkstamp.pki import csr
from inkstamp.pki.armour import certificates_in
from inkstamp.pki.bundles import Haul, open_into
from inkstamp.pki.certificates import facts, read_pem
from inkstamp.pki.revocation import look_up, open_crl, read_ocsp
from inkstamp.printable import escaped_json, printable
from inkstamp.proof.dns_persist import WantedRecord, good_record, is_ours, reasons
from inkstamp.reach.answers import read_json
from inkstamp.reach.dns_update import read_tsig
from inkstamp.reach.interface import Contents, FoundFile
from inkstamp.servers.apache import reading as apache
from inkstamp.servers.common import matches
from inkstamp.servers.dovecot import reading as dovecot
from inkstamp.servers.haproxy import reading as haproxy
from inkstamp.servers.lighttpd import reading as lighttpd
from inkstamp.servers.nginx import reading as nginx
from inkstamp.servers.postfix import reading as postfix
from inkstamp.urls import absolute, web_url

CORPUS = Path(__file__).parent / "fuzz" / "corpus"
NOW = datetime(2026, 11, 27, tzinfo=UTC)


@dataclass(frozen=True)
class Reader:
    """One reader, what it reads in good order, and the words of its grammar."""

    name: str
    work: Callable[[bytes], object]
    seeds: Sequence[bytes]
    tokens: tuple[bytes, ...]
    refusals: tuple[type[Exception], ...] = (InkStampError,)
    """What it may raise."""


def trouble_with(reader: Reader, data: bytes) -> str:
    """Return what a reader raised that it must not; empty for nothing."""
    try:
        reader.work(data)
    except reader.refusals:
        return ""
    except BaseException as error:  # noqa: BLE001  that is what is looked for
        return f"{type(error).__name__}: {str(error)[:200]}"
    return ""


class Memory:
    """A host whose files are all the same bytes, below the folder of the configuration."""

    address = "127.0.0.1"

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._read = 0

    def read(self, path: str) -> bytes:
        self._read += 1
        if self._read > 40:
            raise FileTrouble("no more files", where=path)
        return self._data

    def glob(self, pattern: str) -> list[str]:
        return [pattern.replace("*", "a")] if "*" in pattern else []

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, FoundFile]:
        return {}


@functools.cache
def pki() -> tuple[x509.Certificate, ec.EllipticCurvePrivateKey]:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "a.test")])
    made = (
        x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
        .serial_number(7).not_valid_before(NOW - timedelta(days=1)).not_valid_after(NOW + timedelta(days=9))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("a.test")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .add_extension(x509.TLSFeature([x509.TLSFeatureType.status_request]), critical=False)
        .sign(key, hashes.SHA256())
    )  # fmt: skip
    return made, key


def der() -> bytes:
    return pki()[0].public_bytes(serialization.Encoding.DER)


def pem() -> bytes:
    return pki()[0].public_bytes(serialization.Encoding.PEM)


def read_certificates(data: bytes) -> None:
    for each in read_pem(data, "f"):
        facts(each)


def one_certificate(data: bytes) -> None:
    haul = Haul()
    open_into(haul, data, "f", lambda _where: b"x")
    for each in haul.certificates:
        facts(each)


def ocsp_seed() -> bytes:
    certificate, key = pki()
    builder = ocsp.OCSPResponseBuilder().add_response(
        cert=certificate, issuer=certificate, algorithm=hashes.SHA1(), cert_status=ocsp.OCSPCertStatus.GOOD,
        this_update=NOW, next_update=NOW + timedelta(days=1), revocation_time=None, revocation_reason=None,
    )  # fmt: skip
    made = builder.responder_id(ocsp.OCSPResponderEncoding.HASH, certificate).certificates([certificate])
    return made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)


def crl_seed() -> bytes:
    certificate, key = pki()
    builder = x509.CertificateRevocationListBuilder().issuer_name(certificate.subject).last_update(NOW)
    entry = x509.RevokedCertificateBuilder().serial_number(7).revocation_date(NOW).build()
    made = builder.next_update(NOW + timedelta(days=1)).add_revoked_certificate(entry).sign(key, hashes.SHA256())
    return made.public_bytes(serialization.Encoding.DER)


def read_crl(data: bytes) -> None:
    look_up(open_crl(data, pki()[0], NOW), pki()[0])


def request_seed() -> bytes:
    key = pki()[1]
    return csr.make(key, csr.for_names(["a.test", "127.0.0.1"]))


def read_request(data: bytes) -> None:
    csr.facts(csr.read(data, "f"), "f", private=False)
    read_brought(data, "f", private=False)


def pkcs12_seed() -> bytes:
    certificate, key = pki()
    return pkcs12.serialize_key_and_certificates(b"n", key, certificate, None, serialization.NoEncryption())


def read_ca(data: bytes) -> None:
    for kind in (Directory, Order, Authorization, RenewalInfo):
        with contextlib.suppress(InkStampError):
            read(kind, data, "https://ca.test/a")


def read_url(data: bytes) -> None:
    text = data.decode("utf-8", "surrogateescape")
    with contextlib.suppress(InkStampError):
        web_url(absolute("http://a.test/b", text))
    headers = Message()
    headers.add_header("Link", text)
    _links(headers, "https://ca.test/", "up")
    parse_retry_after(text, NOW)


def read_text(data: bytes) -> None:
    text = data.decode("utf-8", "surrogateescape")
    clean = printable(text)
    assert clean.replace("\n", "").isprintable()
    clean.encode("utf-8")
    assert json.loads(escaped_json(json.dumps(text, ensure_ascii=False))) == text


def server(read_all: Callable[[Memory], Any]) -> Callable[[bytes], object]:
    return lambda data: read_all(Memory(data))


def read_nginx(host: Memory) -> None:
    found = nginx.read_configuration(nginx.Folders("/etc/nginx/nginx.conf", "/etc/nginx"), host.read, host.glob)
    for each in nginx.hosts(found):
        nginx.to_site(each, "front")
        each.rank("www.a.test")


def read_apache(host: Memory) -> None:
    found = apache.read_configuration(apache.ReaderContext("/etc/apache2/a.conf", "/etc/apache2"), host.read, host.glob)
    for each in apache.hosts(found):
        apache.to_site(each, "front")
        each.answers("www.a.test")


def read_dovecot(host: Memory) -> None:
    dovecot.listens(dovecot.read_configuration("/etc/dovecot/d.conf", host.read, host.glob))


def read_lighttpd(host: Memory) -> None:
    found = lighttpd.read_configuration("/etc/lighttpd/l.conf", host.read, host.glob)
    found.listens()
    found.holding("www.a.test", tls=True)


def read_postfix(host: Memory) -> None:
    found = postfix.read_configuration("/etc/postfix/main.cf", host.read)
    for each in found.services:
        postfix.listens(found, each)


_CONFIG = b"""home = "h"
[authority.q]
directory = "https://ca.test/"
[server.f]
kind = "files"
root = "/srv/{domain}"
files = [{ path = "/a/b.pem", form = "combined" }]
[certificate.a]
names = ["a.test"]
authority = "q"
via = "f"
"""
_BLOCK = (b"-----BEGIN CERTIFICATE-----\n", b"-----END CERTIFICATE-----\n", b"-----BEGIN ", b"-----", b"MI", b":", b"=")
_DER = (
    b"\x30\x80",
    b"\x30\x82\xff\xff",
    b"\x02\x01\xff",
    b"\x06\x08+\x06\x01\x05\x05\x07\x01\x18",
    b"\x00\x00",
    b"\x13\x00",
)
_JSON = (
    b"[",
    b"{",
    b'"a":',
    b"1e999",
    b"-",
    b"\\u0000",
    b"\\ud800",
    b'"',
    b"null",
    b"9" * 40,
    b"http://[",
    b'"2026-01-01T00:00:00Z"',
)
_CONF = (b"include *;\n", b"{", b"}", b";", b'"', b"'", b"\\", b"#", b"$", b"${a}", b"\n", b"\r", b"\x0c", b"\xe2\x80\xa8",
         b"server {", b"listen 443 ssl;", b"server_name ~^(a+)+$;", b"<VirtualHost *:443>\n", b"</VirtualHost>\n", b"Define a ${a}${a}\n",
         b"Use m\n", b"<Macro m>\n", b"bind :443 ssl crt /a\n", b"frontend f\n", b"!include *\n", b"service imap-login {\n",
         b'$SERVER["socket"] == ":443" {', b'var.a = var.a + var.a\n', b"include \"*\"\n", b"smtp inet n - - - - smtpd\n", b"a = $a\n")  # fmt: skip


def recipe_seed() -> bytes:
    """Return a recipe that has everything."""
    return resources.files("inkstamp.config").joinpath("recipes", "brinehaven.toml").read_bytes()


def read_persistent(data: bytes) -> object:
    """Read a validation record that stays, and judge it."""
    text = data.decode("utf-8", "replace")
    wanted = WantedRecord(issuers=("quayside.test",), account="https://ca.test/1", wildcard=True)
    return good_record([text], wanted, NOW), reasons([text], wanted, NOW), is_ours(text, wanted)


READERS = {
    each.name: each
    for each in (
        Reader("pem", read_certificates, [pem()], _BLOCK),
        Reader("pem-parts", certificates_in, [pem()], _BLOCK),
        Reader("bundle", one_certificate, [der(), pem(), pkcs12_seed(),
               pkcs7.serialize_certificates([pki()[0]], serialization.Encoding.DER)], (*_BLOCK, *_DER, b"PK\x03\x04")),
        Reader("ocsp", lambda data: read_ocsp(data, pki()[0], pki()[0], NOW), [ocsp_seed()], _DER, (ValueError,)),
        Reader("crl", read_crl, [crl_seed()], _DER, (ValueError,)),
        Reader("request", read_request, [request_seed()], (*_DER, *_BLOCK)),
        Reader("ca", read_ca, [b'{"newNonce":"/n","newAccount":"/a","newOrder":"/o","status":"valid","finalize":"/f",'
               b'"identifiers":[{"type":"dns","value":"a"}],"authorizations":["/x"],"challenges":[],'
               b'"suggestedWindow":{"start":"2026-01-01T00:00:00Z","end":"2027-01-01T00:00:00Z"}}'], _JSON),
        Reader("url", read_url, [b"//b.test:8/c?d", b'<https://ca.test/i>;rel="up"', b"Mon, 23 Nov 2026 12:00:30 GMT"],
               (b"[", b"]", b"://", b"@", b":", b"%", b"\\", b"<", b">", b";rel=up", b"9999", b"\x00", b"\xff")),
        Reader("program", read_json, [b'{"done": true}'], _JSON),
        Reader("text", read_text, [b"a\x1b[2Jb\xff", "\u202e\u2066\u2028".encode()], (b"\x1b[", b"\x9b", b"\xed\xa0\x80", b"\n")),
        Reader("tsig", lambda data: read_tsig(data, "f"), [b'key "k" { algorithm hmac-sha256; secret "c2VjcmV0"; };'],
               (b"key ", b"{", b"}", b" ", b"secret ", b'"', b";")),
        Reader("expression", lambda data: matches(data.decode("utf-8", "replace"), "a" * 200 + "!"),
               [b"^(www\\.)?(.+)$", b"(a+)+$"], (b"(", b")", b"+", b"*", b"{9,}", b"[a-z]", b"|", b".*", b"\\1", b"?")),
        Reader("configuration", lambda data: parse_config(data, Path("/etc/inkstamp/inkstamp.toml")), [_CONFIG],
               (b"[[", b"]]", b"files = 5\n", b"= 9" + b"9" * 50, b"[", b"{", b'"', b"\\u0000", b"1e9", b"names = 1\n", b"\n[", b".")),
        Reader("recipe", lambda data: parse_recipe(data, Path("/etc/inkstamp/tides.toml")), [recipe_seed()],
               (b"[add]\n", b"[zone]\n", b'"{+a,b*}"', b"{", b"}", b'"/~2"', b'url = "{"\n', b"json = ", b"[[", b"= 9\n", b"{?page}")),
        Reader("persistent", read_persistent, [b"quayside.test; accounturi=https://ca.test/1; policy=wildcard; persistUntil=1800000000"],
               (b";", b"=", b" ", b"\t", b"accounturi", b"persistUntil=", b"9" * 40, b"\xff", b".")),
        Reader("nginx", server(read_nginx), [b"http { server { listen 443 ssl; server_name a.test; root /a; } }"], _CONF),
        Reader("apache", server(read_apache), [b"Listen 443\n<VirtualHost *:443>\nServerName a.test\n</VirtualHost>\n"], _CONF),
        Reader("haproxy", server(lambda host: haproxy.read_configuration("/etc/haproxy/h.cfg", host)),  # type: ignore[arg-type]
               [b"frontend f\n  bind :443 ssl crt /a/b.pem\n"], _CONF),
        Reader("dovecot", server(read_dovecot), [b"protocols = imap\nservice imap-login {\n inet_listener a {\n port = 9\n }\n}\n"], _CONF),
        Reader("lighttpd", server(read_lighttpd), [b'server.port = 80\n$SERVER["socket"] == ":443" { ssl.engine = "enable" }\n'], _CONF),
        Reader("postfix", server(read_postfix), [b"inet_interfaces = all\nsmtp inet n - y - - smtpd\n -o a=b\n"], _CONF),
    )
}  # fmt: skip
