"""`check` on a real nginx with good and deliberately bad set-ups; `openssl` is asked where it has an opinion."""

import csv
import io
import socket
from collections import Counter
from collections.abc import Iterator
from html.parser import HTMLParser
from pathlib import Path

import pytest
from browser import widths_in_a_browser
from check_sites import FORGOTTEN, MIDDLE, Sites, leaf, running_sites
from more_servers import apache, open_folder
from world import wait_for_port

from inkstamp.standins.ports import free_ports


@pytest.fixture(scope="module")
def sites(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sites]:
    with running_sites(tmp_path_factory.mktemp("check")) as made:
        yield made


CASES = [
    ("good", "ok", "", 0, True),
    ("expired", "broken", "dates", 1, False),
    ("name", "broken", "name", 1, False),
    ("missing", "broken", "trust", 1, False),
    ("order", "warnings", "chain", 0, True),
    ("root", "ok", "", 0, True),
    ("stranger", "warnings", "chain", 0, True),
    ("weak", "broken", "key", 1, None),
    ("old", "broken", "protocols", 1, None),
    ("also-old", "warnings", "protocols", 0, True),
    ("static", "warnings", "ciphers", 0, True),
    ("plain", "warnings", "plain HTTP", 0, True),
    ("staple", "broken", "stapling", 1, None),
    ("revoked", "broken", "revocation", 1, True),
    ("silent", "ok", "", 0, True),
    ("stapled", "ok", "", 0, True),
    ("stapled-revoked", "broken", "revocation", 1, True),
    ("sha1", "broken", "signature", 1, None),
    ("fetched", "broken", "trust", 1, False),
    ("pair", "ok", "", 0, True),
    ("crossed", "warnings", "chain", 0, True),
    ("swallowed", "warnings", "challenge path", 0, True),
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
    assert done.out.startswith("good.saltmarsh.test: ok\n")
    for told in ("accepts TLS 1.2 and TLS 1.3", "offers HTTP/2", "is not revoked (asked)",
                 "redirects to HTTPS in one redirect", "browsers use HTTPS only for 365 days",
                 "ecdsa-p256, signed with sha256"):  # fmt: skip
        assert told in done.flat
    assert "the revocation status is unknown" in sites.run("silent.saltmarsh.test").flat
    assert "cessationOfOperation" in sites.run("revoked.saltmarsh.test").flat
    assert "an OCSP response is stapled" in sites.run("stapled.saltmarsh.test").flat
    assert "is not revoked (stapled)" in sites.run("stapled.saltmarsh.test").flat
    assert "keyCompromise (stapled)" in sites.run("stapled-revoked.saltmarsh.test").flat
    pair = sites.run("pair.saltmarsh.test").flat
    assert "clients that want rsa are served another certificate" in pair
    assert "are served the certificate for" in pair, "the first site answers where no name is said"
    missing = sites.run("fetched.saltmarsh.test")
    assert "which --fetch-issuers tries" in missing.flat
    fetched = sites.run("fetched.saltmarsh.test", "--fetch-issuers")
    assert fetched.status == 1, "it is as broken as before, but it is told how to fix it"
    assert (
        "intermediate missing: “Saltmarsh Test CA”; with it the chain leads to the trusted root “Saltmarsh Test Root”"
        in fetched.flat
    )
    assert sites.run("weak.saltmarsh.test", "--quick").status == 0, "keys are not looked at"
    assert sites.run("plain.saltmarsh.test", "--strict").status == 1


def test_what_one_address_of_several_does_otherwise_is_told_with_its_address(sites: Sites) -> None:
    done = sites.run("forgotten.saltmarsh.test", "--json")
    assert done.status == 1
    found = {(each["severity"], each["topic"], each["subject"]): each["seen"]
             for each in done.json["names"][0]["findings"]}  # fmt: skip
    name, far = "forgotten.saltmarsh.test", f"{FORGOTTEN}:{sites.nginx.https_port}"
    assert "was revoked" in found["bad", "revocation", far]
    assert ("warn", "addresses", name) in found
    assert "no redirect from HTTP to HTTPS" in found["warn", "plain HTTP", far]
    assert "redirects to HTTPS in one redirect" in found["ok", "plain HTTP", f"127.0.0.1:{sites.nginx.https_port}"]
    assert sum(1 for _, topic, _ in found if topic == "hsts") == 1, "what is the same at all is told once"


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
    assert "5 checked: 2 broken, 1 warnings, 2 ok" in done.out
    assert done.err == ""
    table = list(csv.DictReader(io.StringIO((tmp_path / "list.csv").read_text())))
    assert next(each["topic"] for each in table if each["name"] == "expired.saltmarsh.test") == "dates"
    assert {each["verdict"] for each in table} == {"broken", "warnings", "ok"}
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
        assert (done.status, done.json["names"][0]["verdict"]) == (0, "ok")
        assert "no way to that kind of address" in str(done.json)
        assert alone.status == 1
        assert "none of its addresses can be reached from this machine" in alone.flat


def test_what_changed_since_the_last_look_is_told_and_nothing_else(sites: Sites) -> None:
    two, good = "two.saltmarsh.test", "good.saltmarsh.test"
    first = sites.run(two, good, "--since")
    assert first.status == 1
    assert "checked for the first time: 2 of 2" in first.out
    assert "2 checked, 0 changed since the last check" in sites.run(two, good, "--since").out
    sites.nameserver.table[two] = ["127.0.0.1"]
    done = sites.run(two, good, "--since")
    sites.nameserver.table[two] = ["127.0.0.1", "127.0.0.9"]
    assert done.status == 0
    assert "the address 127.0.0.9 is gone" in done.out
    assert "over, was bad: 127.0.0.9" in done.out
    assert "was “broken”, is “ok”" in done.flat
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
    assert [each["severity"] for each in found] == ["warn", "ok", "note"]
    assert "does not allow quayside to issue" in found[0]["seen"]
    assert "allows only these to issue: “quayside.test”" in found[2]["seen"]


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
    assert verdicts == {"tidy": "ok", "torn": "broken"}, told
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
    assert page.tags["details"] > 0
    assert '<dt class="ok">ok</dt>' in text, "what is ok is there, and folded"
    for told in ("10 broken", "warnings", "has expired", "the intermediates are served in the wrong order"):
        assert told in " ".join(page.text.split()) + text
    for window in (1280, 390):
        seen = widths_in_a_browser(file, window, tmp_path)
        assert seen.page <= seen.window, f"nothing is cut off at the right of a window of {window}"
        assert seen.title.startswith("Certificates as the public sees them")
        assert seen.shown >= len(names), "every name is there to be seen"
