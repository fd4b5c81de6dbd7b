"""`check` on a real nginx with good and deliberately bad set-ups; `openssl` is asked where it has an opinion."""

import csv
import io
import socket
import subprocess
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from html.parser import HTMLParser
from pathlib import Path

import pytest
from authority_of_tests import Signer
from browser import widths_in_a_browser
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509 import ocsp
from cryptography.x509.oid import AuthorityInformationAccessOID
from more_servers import apache, open_folder
from world import Nginx, Ran, inkstamp_program, running, wait_for_port, write_nginx

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
        done = subprocess.run(command, capture_output=True, text=True, timeout=60, check=False)
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


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sites]:
    folder = tmp_path_factory.mktemp("check")
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


class _Clock:
    def now(self) -> datetime:
        return datetime.now(UTC)

    def monotonic(self) -> float:  # pragma: no cover  the words do not wait
        return 0.0

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
    sites.add("two", [leaf("two"), MIDDLE])
    sites.nameserver.table["two.saltmarsh.test"] = ["127.0.0.1", "127.0.0.9"]


CASES = [
    ("good", "sound", "", 0, True),
    ("expired", "broken", "dates", 1, False),
    ("name", "broken", "name", 1, False),
    ("missing", "broken", "trust", 1, False),
    ("order", "works, with warnings", "chain", 0, True),
    ("root", "sound", "", 0, True),
    ("stranger", "works, with warnings", "chain", 0, True),
    ("weak", "broken", "key", 1, None),
    ("old", "broken", "protocols", 1, None),
    ("also-old", "works, with warnings", "protocols", 0, True),
    ("static", "works, with warnings", "ciphers", 0, True),
    ("plain", "works, with warnings", "plain HTTP", 0, True),
    ("staple", "broken", "stapling", 1, None),
    ("revoked", "broken", "revocation", 1, True),
    ("silent", "sound", "", 0, True),
    ("stapled", "sound", "", 0, True),
    ("stapled-revoked", "broken", "revocation", 1, True),
    ("sha1", "broken", "signature", 1, None),
    ("fetched", "broken", "trust", 1, False),
    ("pair", "sound", "", 0, True),
    ("crossed", "works, with warnings", "chain", 0, True),
    ("swallowed", "works, with warnings", "proof path", 0, True),
    ("two", "broken", "connection", 1, True),
]


@pytest.mark.parametrize(("case", "verdict", "topic", "status", "openssl"), CASES, ids=[each[0] for each in CASES])
def test_each_set_up_gets_the_verdict_it_must(
    sites: Sites, case: str, verdict: str, topic: str, status: int, openssl: bool | None
) -> None:
    name = f"{case}.saltmarsh.test"
    done = sites.run(f"{name}:{sites.old_port}" if case == "old" else name, "--json")
    (report,) = done.json["names"]
    told = [f"{each['severity']} {each['topic']}: {each['seen']}" for each in report["findings"]]
    assert report["verdict"] == verdict, told
    assert done.status == status
    wrong = [each for each in report["findings"] if each["severity"] in {"warn", "bad"}]
    assert (topic in {each["topic"] for each in wrong}) if topic else wrong == [], told
    assert all(each["remedy"] for each in wrong)
    if openssl is not None:
        assert sites.openssl_verifies(name) is openssl


def test_what_is_good_and_what_is_not_known_is_told_too(sites: Sites) -> None:
    done = sites.run("good.saltmarsh.test")
    assert done.out.startswith("good.saltmarsh.test: sound\n")
    for told in ("speaks TLS 1.2 and TLS 1.3", "offers HTTP/2", "is not revoked (asked)", "leads to HTTPS in one step",
                 "come back by HTTPS alone for 365 days", "ecdsa-p256, signed with sha256"):  # fmt: skip
        assert told in done.flat
    assert "the CA does not say whether it is revoked" in sites.run("silent.saltmarsh.test").flat
    assert "cessationOfOperation" in sites.run("revoked.saltmarsh.test").flat
    assert "an OCSP answer is stapled" in sites.run("stapled.saltmarsh.test").flat
    assert "is not revoked (stapled)" in sites.run("stapled.saltmarsh.test").flat
    assert "keyCompromise (stapled)" in sites.run("stapled-revoked.saltmarsh.test").flat
    pair = sites.run("pair.saltmarsh.test").flat
    assert "clients that want rsa are served another certificate" in pair
    assert "is served the certificate for" in pair, "the first site answers where no name is said"
    missing = sites.run("fetched.saltmarsh.test")
    assert "which --fetch-issuers tries" in missing.flat
    fetched = sites.run("fetched.saltmarsh.test", "--fetch-issuers")
    assert fetched.status == 1, "it is as broken as before, but it is told how to mend it"
    assert (
        "“Saltmarsh Test CA” is missing; with it the chain leads to the trusted root “Saltmarsh Test Root”"
        in fetched.flat
    )
    assert sites.run("weak.saltmarsh.test", "--quick").status == 0, "keys are not looked at"
    assert sites.run("plain.saltmarsh.test", "--strict").status == 1


def test_many_are_listed_with_the_most_urgent_first_and_one_that_is_lost_stops_none(
    sites: Sites, tmp_path: Path
) -> None:
    names = tmp_path / "names"
    cases = ("root", "plain", "expired", "good")
    names.write_text(
        "# all of them\n" + "".join(f"{each}.saltmarsh.test  # a site\n" for each in cases) + "gone.test\n"
    )
    done = sites.run("--from", str(names), "--csv", str(tmp_path / "list.csv"))
    assert done.status == 1
    rows = [line.split()[0].partition(".")[0] for line in done.out.splitlines()[2:7]]
    assert rows == ["expired", "gone", "plain", "good", "root"]
    assert "5 looked at: 2 broken, 1 works, with warnings, 2 sound" in done.out
    assert done.err.count(": sound\n") == 2
    table = list(csv.DictReader(io.StringIO((tmp_path / "list.csv").read_text())))
    assert next(each["topic"] for each in table if each["name"] == "expired.saltmarsh.test") == "dates"
    assert {each["verdict"] for each in table} == {"broken", "works, with warnings", "sound"}
    assert sites.run("--from", str(tmp_path / "none")).status == 1
    (tmp_path / "empty").write_text("# nothing\n")
    assert sites.run("--from", str(tmp_path / "empty")).status == 2
    assert sites.run("ftp://good.saltmarsh.test").status == 2


def test_an_address_of_a_kind_that_this_machine_cannot_reach_is_no_fault_of_the_site(sites: Sites) -> None:
    name = "good.saltmarsh.test"
    sites.nameserver.table[name] = ["127.0.0.1", "2001:db8::1"]
    done = sites.run(name, "--json")
    sites.nameserver.table[name] = ["2001:db8::1"]
    alone = sites.run(name)
    sites.nameserver.table[name] = ["127.0.0.1"]
    with socket.socket(socket.AF_INET6) as probe:
        there_is_a_way = probe.connect_ex(("2001:db8::1", 9)) not in {97, 99, 101}
    assert "2001:db8::1" in str(done.json), "it is told in any case"
    if not there_is_a_way:
        assert (done.status, done.json["names"][0]["verdict"]) == (0, "sound")
        assert "no way to that kind of address" in str(done.json)
        assert alone.status == 1
        assert "none of its addresses can be reached from this machine" in alone.flat


def test_what_changed_since_the_last_look_is_told_and_nothing_else(sites: Sites) -> None:
    two, good = "two.saltmarsh.test", "good.saltmarsh.test"
    first = sites.run(two, good, "--since")
    assert first.status == 1
    assert "looked at for the first time: 2 of 2" in first.out
    assert "2 looked at, 0 otherwise than the last time" in sites.run(two, good, "--since").out
    sites.nameserver.table[two] = ["127.0.0.1"]
    done = sites.run(two, good, "--since")
    sites.nameserver.table[two] = ["127.0.0.1", "127.0.0.9"]
    assert done.status == 0
    assert "the address 127.0.0.9 is gone" in done.out
    assert "over, was bad: 127.0.0.9" in done.out
    assert "was “broken”, is “sound”" in done.flat
    assert good not in done.out
    (changed, _) = sorted(
        sites.run(two, good, "--since", "--json").json["changed"], key=lambda each: -len(each["changes"])
    )
    assert changed["name"] == two
    assert any("127.0.0.9 is new" in each for each in changed["changes"])
    assert changed["since"]


def test_caa_that_forbids_the_next_edition_is_told_of_a_configured_name(sites: Sites) -> None:
    name = "good.saltmarsh.test"
    text = (sites.folder / "inkstamp.toml").read_text()
    (sites.folder / "inkstamp.toml").write_text(
        f'{text}[authority.quayside]\ndirectory = "https://localhost:1/"\ncaa = ["quayside.test"]\n'
        f'[certificate.good]\nnames = ["{name}"]\nauthority = "quayside"\nvia = "listener"\n'
    )
    sites.nameserver.records[name, "CAA"] = ['0 issue "fogbell.test"']
    forbidden = sites.run("good", "--json")
    sites.nameserver.records[name, "CAA"] = ['0 issue "quayside.test"']
    allowed = sites.run("good", "--json")
    (sites.folder / "inkstamp.toml").write_text(text)
    stranger = sites.run(name, "--json")
    del sites.nameserver.records[name, "CAA"]
    found = [next(each for each in done.json["names"][0]["findings"] if each["topic"] == "caa")
             for done in (forbidden, allowed, stranger)]  # fmt: skip
    assert [each["severity"] for each in found] == ["warn", "good", "note"]
    assert "does not let quayside issue" in found[0]["seen"]
    assert "lets only these issue: “quayside.test”" in found[2]["seen"]


def test_apache_is_judged_as_nginx_is(sites: Sites) -> None:
    with open_folder() as folder, apache(folder / "httpd", "127.0.0.3", sites.nginx.http_port) as httpd:
        text = ""
        for case, chain in (("tidy", [leaf("tidy"), MIDDLE]), ("torn", [leaf("torn")])):
            name = sites.add(case, chain, port=free_ports(1)[0], plain="")
            (sites.nginx.folder / "sites" / f"{case}.conf").unlink()
            sites.nameserver.table[name] = ["127.0.0.3"]
            for end in ("pem", "key"):
                (folder / f"{case}.{end}").write_bytes((sites.folder / f"{case}.{end}").read_bytes())
            at = f"127.0.0.3:{sites.nginx.https_port}"
            text += (
                f"<VirtualHost {at}>\n ServerName {name}\n SSLEngine on\n SSLProtocol TLSv1.2 TLSv1.3\n"
                f" SSLCipherSuite ECDHE\n SSLCertificateFile {folder}/{case}.pem\n"
                f" SSLCertificateKeyFile {folder}/{case}.key\n</VirtualHost>\n"
                f"<VirtualHost 127.0.0.3:{sites.nginx.http_port}>\n ServerName {name}\n"
                f" Redirect permanent / https://{name}:{sites.nginx.https_port}/\n</VirtualHost>\n"
            )
        (httpd.folder / "sites" / "tls.conf").write_text(f"Listen 127.0.0.3:{sites.nginx.https_port}\n{text}")
        httpd.reload()
        wait_for_port(sites.nginx.https_port, None, folder / "httpd" / "error.log", "127.0.0.3")
        done = sites.run("tidy.saltmarsh.test", "torn.saltmarsh.test", "--json")
    verdicts = {each["name"].partition(".")[0]: each["verdict"] for each in done.json["names"]}
    told = [f"{each['severity']} {each['topic']}: {each['seen']}" for each in done.json["names"][1]["findings"]]
    assert verdicts == {"tidy": "sound", "torn": "broken"}, told
    assert any("an intermediate may be missing" in each["seen"] for each in done.json["names"][0]["findings"])


class Page(HTMLParser):
    """What a browser would find in a page."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.tags: Counter[str] = Counter()
        self.links: set[str] = set()
        self.ids: set[str] = set()
        self.text = ""
        self.feed(text)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags[tag] += 1
        given = dict(attrs)
        self.links |= {value for key in ("href", "src") if (value := given.get(key))}
        self.ids |= {value for key, value in attrs if key == "id" and value}

    def handle_data(self, data: str) -> None:
        self.text += data


def test_the_report_is_one_page_that_needs_nothing_else_and_believes_no_stranger(sites: Sites, tmp_path: Path) -> None:
    file = tmp_path / "report.html"
    names = [f"{case}.saltmarsh.test" for case, *_ in CASES if case != "old"]
    done = sites.run(*names, "hostile.saltmarsh.test", "--report", str(file), "--at-once", "4")
    assert done.status == 1
    text = file.read_text()
    page = Page(text)
    assert page.links == {f"#n{number}" for number in range(1, len(names) + 2)}
    assert {link[1:] for link in page.links} <= page.ids
    assert page.tags["script"] == page.tags["link"] == page.tags["img"] == 0
    assert "url(" not in text
    assert page.tags["section"] == page.tags["h3"] == len(names) + 1
    assert "<script>alert(1)</script>" in page.text, "it is told as it stands in the certificate, and does nothing"
    assert page.tags["rect"] == len(names) + 1
    for told in ("10 broken", "works, with warnings", "has expired", "the intermediates are served in the wrong order"):
        assert told in " ".join(page.text.split()) + text
    for window in (1280, 390):
        seen = widths_in_a_browser(file, window, tmp_path)
        assert seen.page <= seen.window, f"nothing is cut off at the right of a window of {window}"
        assert seen.title.startswith("Certificates as the public sees them")
        assert seen.shown >= len(names), "every name is there to be seen"
