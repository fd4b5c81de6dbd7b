"""Sites of a real nginx, good ones and deliberately bad ones, for `check` to judge."""

import os
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import forked
from authority_of_tests import Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509 import ocsp
from cryptography.x509.oid import AuthorityInformationAccessOID
from world import Nginx, Ran, inkstamp_program, running, write_nginx

from inkstamp.standins.ca_words import CaWords
from inkstamp.standins.hierarchy import Issuer
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn

BEGIN = datetime.now(UTC).replace(microsecond=0) - timedelta(days=10)
ROOT = Signer("Saltmarsh Test Root", start=BEGIN, days=3650)
MIDDLE = Signer("Saltmarsh Test CA", ROOT, start=BEGIN, days=1000)
STRANGER = Signer("Saltmarsh Strange CA", ROOT, start=BEGIN, days=1000)


class Words(StandIn):
    """Says which certificates are revoked, and gives the issuer's."""

    def __init__(self, port: int, words: CaWords) -> None:
        class _Handler(QuietHandler):
            def do_GET(self) -> None:
                if self.path == "/issuer":
                    self.send(200, MIDDLE.certificate.public_bytes(serialization.Encoding.DER), "application/pkix-cert")
                else:
                    self.send(200, words.crl(), "application/pkix-crl")

        self._server = QuietServer(("127.0.0.1", port), _Handler)


FORGOTTEN = "127.0.0.8"
"""The address of a server that nobody thought of for a while."""


@dataclass
class Sites:
    folder: Path
    nginx: Nginx
    old_port: int
    """Where nothing newer than TLS 1.1 is spoken; nginx has one list of versions for a port."""
    nameserver: Nameserver
    words: CaWords
    crl: str

    def add(
        self, case: str, chain: Sequence[Signer], more: str = "", plain: str = "redirect", port: int | None = None
    ) -> str:
        """Have nginx serve a chain, leaf first, for a name of the case."""
        name = f"{case}.saltmarsh.test"
        pem = b"".join(each.certificate.public_bytes(serialization.Encoding.PEM) for each in chain)
        (self.folder / f"{case}.pem").write_bytes(pem)
        (self.folder / f"{case}.key").write_bytes(
            chain[0].key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        onward = f"return 301 https://{name}:{self.nginx.https_port}$request_uri;"
        text = (
            f"server {{ listen 127.0.0.1:{port or self.nginx.https_port} ssl http2; server_name {name};\n"
            f"  ssl_certificate {self.folder}/{case}.pem; ssl_certificate_key {self.folder}/{case}.key;\n"
            f"  {more or 'ssl_protocols TLSv1.2 TLSv1.3;'} ssl_prefer_server_ciphers on;\n"
            f"  add_header Strict-Transport-Security max-age=31536000; return 200 ok; }}\n"
        )
        if plain:
            text += (
                f"server {{ listen 127.0.0.1:{self.nginx.http_port}; server_name {name}; "
                f"{({'redirect': onward, 'serves': 'return 200 plain;'}).get(plain, plain)} }}\n"
            )
        self.nginx.sites_file(text, case)
        self.nameserver.table[name] = ["127.0.0.1"]
        return name

    def run(self, *arguments: str) -> Ran:
        command = [inkstamp_program(), "--config", str(self.folder / "inkstamp.toml"), "check", *arguments]
        done = forked.run(command, os.environ)
        return Ran(done.returncode, done.stdout, done.stderr)

    def openssl_verifies(self, name: str) -> bool:
        at = f"127.0.0.1:{self.nginx.https_port}"
        ask = ["openssl", "s_client", "-connect", at, "-servername", name, "-CAfile", str(self.folder / "roots.pem")]
        command = [*ask, "-verify_hostname", name, "-verify_return_error"]
        done = subprocess.run(command, input="", capture_output=True, text=True, timeout=20, check=False)
        return done.returncode == 0


def leaf(case: str, issuer: Signer = MIDDLE, **more: object) -> Signer:
    given = {"start": BEGIN, "names": (f"{case}.saltmarsh.test",), **more}
    return Signer(f"{case}.saltmarsh.test", issuer, ca=False, **given)  # type: ignore[arg-type]


class _Clock:
    def now(self) -> datetime:
        return datetime.now(UTC)

    def monotonic(self) -> float:  # pragma: no cover  the words do not wait
        return 0.0

    def stop_waiting(self) -> None:  # pragma: no cover
        raise AssertionError("nobody stops it")

    def sleep(self, seconds: float) -> None:  # pragma: no cover
        raise AssertionError(seconds)


def _access(method: x509.ObjectIdentifier, url: str) -> x509.AuthorityInformationAccess:
    return x509.AuthorityInformationAccess([x509.AccessDescription(method, x509.UniformResourceIdentifier(url))])


def _signed_with_sha1(folder: Path) -> Signer:
    """What our own library does not make any more."""
    made = leaf("sha1")
    pem = serialization.Encoding.PEM
    plain = (serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    for name, signer in (("sha1-leaf", made), ("sha1-ca", MIDDLE)):
        (folder / f"{name}.key").write_bytes(signer.key.private_bytes(pem, *plain))
    (folder / "sha1-ca.pem").write_bytes(MIDDLE.certificate.public_bytes(pem))
    (folder / "sha1.ext").write_text("subjectAltName=DNS:sha1.saltmarsh.test\nbasicConstraints=critical,CA:FALSE\n")
    asking = ["openssl", "req", "-new", "-key", f"{folder}/sha1-leaf.key", "-subj", "/CN=sha1.saltmarsh.test"]
    request = subprocess.run(asking, check=True, capture_output=True).stdout
    command = ["openssl", "x509", "-req", "-sha1", "-days", "60", "-CA", f"{folder}/sha1-ca.pem", "-CAkey",
               f"{folder}/sha1-ca.key", "-set_serial", "77", "-extfile", f"{folder}/sha1.ext"]  # fmt: skip
    done = subprocess.run(command, input=request, check=True, capture_output=True)
    made.certificate = x509.load_pem_x509_certificate(done.stdout)
    return made


def _set_up(sites: Sites) -> None:
    point = x509.CRLDistributionPoints(
        [x509.DistributionPoint([x509.UniformResourceIdentifier(sites.crl)], None, None, None)]
    )
    staple = x509.TLSFeature([x509.TLSFeatureType.status_request])
    old = "ssl_protocols TLSv1 TLSv1.1; ssl_ciphers ALL:@SECLEVEL=0;"
    sites.add("good", [leaf("good", more=[point]), MIDDLE])
    sites.add("expired", [leaf("expired", days=9), MIDDLE])
    sites.add("name", [leaf("name", names=("another.saltmarsh.test",)), MIDDLE])
    sites.add("missing", [leaf("missing")])
    between = Signer("Saltmarsh Lower CA", MIDDLE, start=BEGIN, days=900)
    sites.add("order", [leaf("order", between), MIDDLE, between])
    sites.add("root", [leaf("root"), MIDDLE, ROOT])
    sites.add("stranger", [leaf("stranger"), MIDDLE, STRANGER])
    weak = rsa.generate_private_key(public_exponent=65537, key_size=1024)  # noqa: S505  it is to be found
    loose = "ssl_protocols TLSv1.2 TLSv1.3; ssl_ciphers ALL:@SECLEVEL=0;"
    sites.add("weak", [leaf("weak", key=weak), MIDDLE], loose)
    sites.add("old", [leaf("old"), MIDDLE], old, port=sites.old_port)
    sites.add(
        "also-old", [leaf("also-old"), MIDDLE], "ssl_protocols TLSv1.1 TLSv1.2 TLSv1.3; ssl_ciphers ALL:@SECLEVEL=0;"
    )
    static = "ssl_protocols TLSv1.2 TLSv1.3; ssl_ciphers AES128-GCM-SHA256:ECDHE-RSA-AES128-GCM-SHA256:@SECLEVEL=0;"
    strong = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    sites.add("static", [leaf("static", key=strong), MIDDLE], static)
    sites.add("plain", [leaf("plain"), MIDDLE], plain="serves")
    sites.add("staple", [leaf("staple", more=[staple]), MIDDLE])
    revoked = leaf("revoked", more=[point])
    sites.add("revoked", [revoked, MIDDLE])
    sites.words.revoke(revoked.certificate, x509.ReasonFlags.cessation_of_operation)
    sites.add(
        "silent", [leaf("silent", more=[_access(AuthorityInformationAccessOID.OCSP, "http://127.0.0.1:1/")]), MIDDLE]
    )
    hostile = Signer(
        "<script>alert(1)</script>\x1b[31m", MIDDLE, ca=False, start=BEGIN, names=("hostile.saltmarsh.test",)
    )
    sites.add("hostile", [hostile, MIDDLE])
    sites.add(
        "fetched",
        [
            leaf(
                "fetched",
                more=[_access(AuthorityInformationAccessOID.CA_ISSUERS, sites.crl.replace("/crl", "/issuer"))],
            )
        ],
    )
    other = leaf("pair", key=strong)
    sites.add("pair-rsa", [other, MIDDLE])
    both = f"ssl_certificate {sites.folder}/pair-rsa.pem; ssl_certificate_key {sites.folder}/pair-rsa.key;"
    sites.add("pair", [leaf("pair"), MIDDLE], f"{both} ssl_protocols TLSv1.2 TLSv1.3; ssl_ciphers ECDHE;")
    old_root = Signer("Saltmarsh Elder Root", start=BEGIN, days=3650)
    crossed = Signer("Saltmarsh Test Root", old_root, key=ROOT.key, start=BEGIN - timedelta(days=100), days=90)
    for case in ("stapled", "stapled-revoked"):
        made = leaf(case, more=[x509.AuthorityKeyIdentifier.from_issuer_public_key(MIDDLE.key.public_key())])
        sites.words.remember(made.certificate, "")
        if case == "stapled-revoked":
            sites.words.revoke(made.certificate, x509.ReasonFlags.key_compromise)
        asked = ocsp.OCSPRequestBuilder().add_certificate(made.certificate, MIDDLE.certificate, hashes.SHA1())  # noqa: S303
        (sites.folder / f"{case}.ocsp").write_bytes(
            sites.words.ocsp_answer(asked.build().public_bytes(serialization.Encoding.DER))
        )
        stapling = f"ssl_stapling on; ssl_stapling_file {sites.folder}/{case}.ocsp;"
        sites.add(case, [made, MIDDLE], f"{stapling} ssl_protocols TLSv1.2 TLSv1.3;")
    sites.add("sha1", [_signed_with_sha1(sites.folder), MIDDLE], loose)
    sites.add("crossed", [leaf("crossed"), MIDDLE, crossed])
    sites.add("swallowed", [leaf("swallowed"), MIDDLE],
              plain=f"return 301 https://swallowed.saltmarsh.test:{sites.nginx.https_port}/;")  # fmt: skip
    sites.add("forgotten", [leaf("forgotten"), MIDDLE])
    before = leaf("forgotten", more=[point], key=strong)
    sites.words.revoke(before.certificate, x509.ReasonFlags.superseded)
    sites.add("forgotten-one", [before, MIDDLE], plain="serves")
    text = (sites.nginx.folder / "sites" / "forgotten-one.conf").read_text()
    moved = text.replace("127.0.0.1:", f"{FORGOTTEN}:").replace("forgotten-one.saltmarsh", "forgotten.saltmarsh")
    sites.nginx.sites_file(moved, "forgotten-one")
    sites.nameserver.table["forgotten.saltmarsh.test"] = ["127.0.0.1", FORGOTTEN]
    sites.add("two", [leaf("two"), MIDDLE])
    sites.nameserver.table["two.saltmarsh.test"] = ["127.0.0.1", "127.0.0.9"]


@contextmanager
def running_sites(folder: Path) -> Iterator[Sites]:
    """Bring up the nginx with all its sites, the nameserver, and who says which certificates are revoked."""
    folder.chmod(0o755)
    http_port, https_port, old_port, dns_port, crl_port = free_ports(5)
    nginx = write_nginx(folder / "nginx", http_port, https_port)
    words = CaWords(Issuer(MIDDLE.certificate, MIDDLE.key), _Clock())
    (folder / "roots.pem").write_bytes(ROOT.certificate.public_bytes(serialization.Encoding.PEM))
    (folder / "inkstamp.toml").write_text(
        f'home = "home"\n[view]\nresolver = "127.0.0.1:{dns_port}"\nhttp_port = {http_port}\n'
        f'https_port = {https_port}\nroots = "roots.pem"\n'
    )
    with ExitStack() as stack:
        nameserver = stack.enter_context(Nameserver(dns_port, {}))
        stack.enter_context(Words(crl_port, words))
        made = Sites(folder, nginx, old_port, nameserver, words, f"http://127.0.0.1:{crl_port}/crl")
        _set_up(made)
        stack.enter_context(running(nginx.command("-g", "daemon off;"), folder / "nginx.log", https_port))
        yield made
