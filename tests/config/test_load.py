"""The configuration file: mistakes are told with their line, and what is added leaves every byte as it was."""

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.config import load
from inkstamp.config.carrying import file_servers, methods_for, other_ways, record_carrier
from inkstamp.config.load import parse
from inkstamp.config.model import Authority, Certificate, Configuration, Server
from inkstamp.config.record_changers import Nameserver
from inkstamp.config.toml_file import read_home
from inkstamp.config.write import with_entry
from inkstamp.errors import ConfigurationError
from inkstamp.view.point import read_resolver

FILE = Path("/etc/inkstamp/inkstamp.toml")
GOOD = """\
# the certificates of Saltmarsh Hosting
home = "home"

[authority.quayside]   # speaks ACME
directory = "https://acme.quayside.test/directory"
trust = "api.pem"

[server.front]
kind = "nginx"

[certificate.rowing]
names = ["Rowing.saltmarsh.test.", "www.rowing.saltmarsh.test"]
authority = "quayside"
via = "front"
install = ["front"]

[view]
resolver = "127.0.0.1:8053"
"""


def test_a_good_file_is_read_with_paths_made_absolute_and_names_normalised() -> None:
    whole = parse(GOOD.encode(), FILE)
    assert whole.home == "/etc/inkstamp/home"
    assert whole.authority["quayside"].trust == "/etc/inkstamp/api.pem"
    assert whole.certificate["rowing"].names == ("rowing.saltmarsh.test", "www.rowing.saltmarsh.test")
    assert whole.server["front"].program == ""
    assert read_home(GOOD.encode(), FILE) == whole.home


@pytest.mark.parametrize(
    ("old", "new", "line", "told"),
    [
        ("directory =", "directry =", 5, "did you mean “directory”"),
        ("[view]", "[veiw]", 17, "did you mean “view”"),
        ("[certificate.rowing]", "[certificate.Rowing]", 11, "lower-case"),
        ('via = "front"', 'via = "frnt"', 14, "did you mean “front”"),
        ('install = ["front"]', 'install = ["back"]', 15, "[server.back]"),
        ('authority = "quayside"', 'authority = "quay"', 13, "did you mean “quayside”"),
        ('kind = "nginx"', 'kind = "bakery"', 9, "nginx"),
        (
            "[view]",
            '[authority.b]\ndirectory = "https://b/"\ndefault = true\n[authority.c]\n'
            'directory = "https://c/"\ndefault = true\n[view]',
            22,
            "[authority.b] is the default as well",
        ),
        ('via = "front"\n', "", 11, "add a line via"),
        ('names = ["Rowing', 'names = ["*.Rowing', 12, "wildcard"),
        ('names = ["Rowing', 'names = ["Row ing', 12, "is not a domain name"),
        ('resolver = "127.0.0.1:8053"', "http_port = 'eighty'", 18, "Expected `int`"),
        ("[view]", "[view", 17, "line 17"),
        ('via = "front"', 'via = ["front", "listener", "front"]', 14, "is empty or names one twice"),
        ('via = "front"', "via = []", 14, "is empty or names one twice"),
        ('via = "front"', 'via = "front"\nproof = "dns-01"', 14, "“front” cannot be used for dns-01"),
        ('via = "front"', 'via = "front"\nproof = ["http-01", "tls-alpn-01"]', 14, "name listener there"),
        ('via = "front"', 'via = ["front", "by-hand"]', 14, "“by-hand” cannot be used for http-01"),
        ('via = "front"', 'via = "front"\nproof = "lighthouse-01"', 15, "known values: http-01"),
        ('via = "front"', 'via = "front"\nproof = ["http-01", "cname"]', 15, "is for portals"),
        ('kind = "nginx"', 'kind = "files"', 9, "lacks the key “root”"),
        ('kind = "nginx"', 'kind = "files"\nroot = "/srv/{site}"', 10, "known: {domain}"),
        ('kind = "nginx"', 'kind = "nginx"\nroot = "/srv"', 10, "“root” does not apply to kind"),
        ('kind = "nginx"', 'kind = "nginx"\nssh_config = "/c"', 10, 'add a line reach = "ssh://host"'),
        ('kind = "nginx"', 'kind = "nginx"\nreach = "ssh://-oProxyCommand=x"', 10, "write ssh://user@host:port"),
        ('kind = "nginx"', 'kind = "files"\nroot = "/srv"', 16, "takes no certificates"),
        ('kind = "nginx"', 'kind = "nginx"\nlook = ["x:1"]', 10, "“look” does not apply to kind"),
        (
            'kind = "nginx"',
            'kind = "files"\nfiles = [{ path = "/a", form = "peach" }]',
            10,
            "Invalid enum value 'peach'",
        ),
        ('kind = "nginx"', 'kind = "files"\nfiles = [{ path = "/a", from = "key" }]', 10, "did you mean “form”"),
        ('kind = "nginx"', 'kind = "files"\nfiles = [{ path = "a", form = "key" }]', 10, "begin it with /"),
        (
            'kind = "nginx"',
            'kind = "files"\nfiles = [{ path = "/a", form = "key", mode = "0644" }]',
            10,
            "read the key",
        ),
        ('kind = "nginx"', 'kind = "files"\nfiles = [{ path = "/a", form = "key", mode = "rw" }]', 10, "in octal"),
        ('kind = "nginx"', 'kind = "files"\nfiles = [{ path = "/a", form = "pkcs12" }]', 10, "needs “passphrase_file”"),
        ('kind = "nginx"', 'kind = "files"\nroot = "/a"\nlook = ["here"]', 11, "write host:port"),
        ('kind = "nginx"', 'kind = "postfix"', 14, "“front” cannot be used for http-01"),
        ("[server.front]", "[server.listener]", 8, "has a meaning of its own"),
    ],
)
def test_a_mistake_is_told_with_its_line_and_what_to_write_instead(old: str, new: str, line: int, told: str) -> None:
    assert old in GOOD
    with pytest.raises(ConfigurationError) as caught:
        parse(GOOD.replace(old, new).encode(), FILE)
    error = caught.value
    everything = f"{error.what} {error.where} {error.said} {error.advice}"
    assert f"line {line}" in everything
    assert told in everything
    assert error.exit_status == 2


@pytest.mark.parametrize("data", [b"\xff", b"home = 3", b"certificate = 3", b"[certificate]\na = 3", b"[server.a]"])
def test_what_is_no_configuration_at_all_is_one_clear_error(data: bytes) -> None:
    with pytest.raises(ConfigurationError):
        parse(data, FILE)


@given(st.lists(st.text(st.characters(exclude_characters="\r\n\x00", exclude_categories=["Cs", "Cc"])), max_size=5),
       st.booleans())  # fmt: skip
def test_adding_an_entry_keeps_every_byte_that_stood_there(comments: list[str], newline: bool) -> None:
    before = (GOOD + "\n".join(f"# {line}" for line in comments) + ("\n" if newline else "")).encode()
    entry = Certificate(names=("bakery.saltmarsh.test",), authority="quayside", via="front")
    after, whole = with_entry(before, FILE, "certificate", "bakery", entry)
    assert after.startswith(before)
    assert whole.certificate["bakery"] == entry
    assert parse(after, FILE) == whole


def test_several_ways_and_carriers_addresses_and_machines_are_read_and_written_back() -> None:
    entry = Certificate(
        names=("club.test", "*.club.test", "2001:db8::1"), authority="quayside", via=("west", "listener", "by-hand"),
        proof=("http-01", "dns-01"),
    )  # fmt: skip
    west = Server(kind="files", root="/srv/{domain}", reach="ssh://me@west:2222", sudo=True)
    data, _ = with_entry(GOOD.encode(), FILE, "server", "west", west)
    _, whole = with_entry(data, FILE, "certificate", "club", entry)
    assert whole.certificate["club"] == entry
    assert whole.server["west"] == west
    assert methods_for(entry, "*.club.test") == ("dns-01",)
    assert methods_for(entry, "2001:db8::1") == ("http-01",)
    assert methods_for(entry, "club.test") == ("http-01", "dns-01")
    assert file_servers(whole, entry) == ("west",)
    assert record_carrier(whole, entry) == "by-hand"


@pytest.mark.parametrize(
    ("names", "proof", "via", "others"),
    [
        (("a.test",), None, "front", {"dns-01": "primary"}),
        (("a.test",), "dns-01", "primary", {"http-01": "front"}),
        (("*.a.test",), "dns-01", "primary", {}),
        (("192.0.2.1",), None, "front", {}),
        (("a.test",), ("http-01", "dns-01"), ("front", "primary"), {}),
    ],
)
def test_another_way_is_suggested_where_something_configured_can_go_it(
    names: tuple[str, ...], proof: Any, via: Any, others: dict[str, str]
) -> None:
    entry = Certificate(names=names, authority="quayside", via=via, proof=proof)
    whole = Configuration(server={"front": Server(kind="nginx")}, nameserver={"primary": Nameserver()})
    assert other_ways(whole, entry) == others


def test_an_entry_that_is_there_is_not_written_over() -> None:
    entry = Authority(directory="https://other.test/")
    with pytest.raises(ConfigurationError, match="already"):
        with_entry(GOOD.encode(), FILE, "authority", "quayside", entry)


def test_the_first_entry_goes_into_an_empty_file() -> None:
    data, whole = with_entry(b"", FILE, "server", "front", Server(kind="nginx", prefix="/srv"))
    assert data == b'[server.front]\nkind = "nginx"\nprefix = "/srv"\n'
    assert set(whole.server) == {"front"}


def test_the_kept_copy_serves_only_the_very_bytes_that_it_was_made_from(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "inkstamp.toml"
    text = GOOD + "".join(
        f'[certificate.c{n}]\nnames = ["c{n}.test"]\nauthority = "quayside"\nvia = "front"\n' for n in range(200)
    )
    first = load.load(text.encode(), file, tmp_path / "cache")
    parsed: list[bytes] = []
    original = load.parse

    def counting(data: bytes, where: Path, *, leave_out: bool = False) -> Configuration:
        parsed.append(data)
        return original(data, where, leave_out=leave_out)

    monkeypatch.setattr(load, "parse", counting)
    assert load.load(text.encode(), file, tmp_path / "cache") == first
    assert parsed == []
    changed = load.load(text.replace("c7.test", "d7.test").encode(), file, tmp_path / "cache")
    assert changed.certificate["c7"].names == ("d7.test",)
    (tmp_path / "cache" / "configuration.msgpack").write_bytes(b"\x93broken")
    assert load.load(text.encode(), file, tmp_path / "cache") == first
    assert len(parsed) == 2


@pytest.mark.parametrize(
    ("text", "expected"),
    [("", None), ("127.0.0.1:8053", ("127.0.0.1", 8053)), ("192.0.2.1", ("192.0.2.1", 53)), ("::1", ("::1", 53)),
     ("[::1]:8053", ("::1", 8053)), ("[::1]", ("::1", 53))],
)  # fmt: skip
def test_a_resolver_is_an_address_with_a_port_or_without(text: str, expected: tuple[str, int] | None) -> None:
    assert read_resolver(text) == expected


@pytest.mark.parametrize("text", ["dns.test:53", "127.0.0.1:", "127.0.0.1:0", "127.0.0.1:99999", ":53", "a"])
def test_a_resolver_that_is_no_address_is_refused(text: str) -> None:
    with pytest.raises(ConfigurationError):
        read_resolver(text)


PORTAL = """\
[authority.fogbell]
kind = "portal"
record = "_d.{domain}"
value = "{sha1}.proof.test"

[subject]
organisation = "Saltmarsh Hosting"

[certificate.shop]
names = ["*.shop.test"]
authority = "fogbell"
proof = "cname"

[certificate.shop.subject]
country = "GB"
"""


def test_a_portal_its_rule_and_its_subjects_are_read() -> None:
    whole = parse(PORTAL.encode(), FILE)
    assert whole.authority["fogbell"].record_type == "cname"
    assert whole.certificate["shop"].via == "by-hand"
    assert whole.subject.organisation == "Saltmarsh Hosting"
    assert whole.certificate["shop"].subject is not None
    assert whole.certificate["shop"].subject.country == "GB"


@pytest.mark.parametrize(
    ("old", "new", "line", "told"),
    [
        ('kind = "portal"', 'directory = "https://x"', 3, "remove the line"),
        ('kind = "portal"', 'kind = "portal"\ndirectory = "https://x"', 3, "remove the line"),
        ("{sha1}", "{sha512}", 4, "unknown placeholder {sha512}"),
        ('value = "{sha1}.proof.test"\n', "", 3, "“record” needs “value”"),
        ('record = "_d.{domain}"', 'path = "/x"', 3, "“path” needs “lines”"),
        ('proof = "cname"', 'proof = "file"', 10, "cannot validate the wildcard"),
        ('proof = "cname"', 'proof = "http-01"', 12, "known values: file, cname, txt, email"),
        ('proof = "cname"', 'proof = "dns"', 12, "email"),
        ("organisation =", "organization =", 7, "did you mean “organisation”"),
        ('"Saltmarsh Hosting"', "7", 7, "is wrong"),
        ("country =", "land =", 15, "known here"),
        ('kind = "portal"', "", 1, "lacks the key “directory”"),
    ],
)
def test_a_mistake_about_a_portal_is_told_with_its_line(old: str, new: str, line: int, told: str) -> None:
    with pytest.raises(ConfigurationError) as caught:
        parse(PORTAL.replace(old, new, 1).encode(), FILE)
    assert f"line {line}" in caught.value.where
    assert told in f"{caught.value.what} {caught.value.advice}"


FLEET = GOOD.replace('kind = "nginx"', 'kind = "nginx"\nmachines = ["web*"]\nstanding = true').replace(
    'install = ["front"]',
    'install = ["front"]\nrollout = ["web1", 2, 10]\nrollout_wait_minutes = 15\n\n[ledger]\n'
    'database = "postgresql://db.saltmarsh.test/inkstamp"\nseal_key_file = "seal.keys"\nworkers = ["ops*"]',
)


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ('machines = ["web*"]\n', "", "does not say on which machines it is"),
        ('["web*"]', '["web/1"]', "“web/1” names no machines"),
        ('machines = ["web*"]', 'reach = "ssh://w.test"\nmachines = ["web*"]', "is on none of “machines”"),
        ("standing = true\n", "", "any machine may order this certificate"),
        ("postgresql://", "mysql://", "is no URL of a PostgreSQL database"),
        ('database = "postgresql://db.saltmarsh.test/inkstamp"\n', "", "“seal_key_file” goes with “database”"),
        ('seal_key_file = "seal.keys"\n', "", "needs “seal_key_file” or “seal_program”"),
        ('workers = ["ops*"]', 'workers = ["OPS"]', "“OPS” names no machines"),
        ("workers", "lease_seconds = 1\nworkers", "between 5 and 600"),
        ('workers = ["ops*"]', "", "“rollout” is for machines that install what others order"),
        ('["web1", 2, 10]', '["web1", 0]', "a step of “rollout” has no machine"),
        ('["web1", 2, 10]', '["web 1"]', "“web 1” names no machines"),
        ('["web1", 2, 10]', "[1.5]", "“rollout” is wrong"),
        ('rollout = ["web1", 2, 10]\n', "", "“rollout_wait_minutes” goes with “rollout”"),
        ("minutes = 15", "minutes = -1", "from 0 to 10080"),
        ("minutes = 15", "minutes = nan", "is no number that can be meant"),
    ],
)
def test_a_mistake_about_machines_that_share_a_ledger_is_told_with_what_to_write(old: str, new: str, told: str) -> None:
    assert parse(FLEET.encode(), FILE).certificate["rowing"].rollout == ("web1", 2, 10)
    assert old in FLEET
    with pytest.raises(ConfigurationError) as caught:
        parse(FLEET.replace(old, new).encode(), FILE)
    assert told in f"{caught.value.what} {caught.value.said} {caught.value.advice}"
    assert ", line " in caught.value.where


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('[server.w]\nkind = "iis"\n', "lacks the key “reach”"),
        ('[server.w]\nkind = "iis"\nreach = "ssh://w.test"\nsudo = true\n', "“sudo” does not apply"),
        ('[server.w]\nkind = "iis"\nreach = "ssh://w.test"\nstore = "Root"\n', "“store” is wrong"),
        ('[server.w]\nkind = "iis"\nreach = "ssh://w.test"\nfriendly_name = "{certificate}"\n', "tell editions apart"),
        ('[server.w]\nkind = "iis"\nreach = "ssh://w.test"\nhttp2 = true\n', "“http2” does not apply"),
        ('[server.w]\nkind = "windows"\nreach = "ssh://w.test"\n', "lacks the key “script”"),
        ('[server.w]\nkind = "windows"\nreach = "ssh://w.test"\nscript = "bind.ps1"\n', "lacks the key “script”"),
        ('[server.w]\nkind = "nginx"\nstore = "WebHosting"\n', "do not apply to kind = “nginx”"),
        ('[server.f]\nkind = "files"\nfiles = 5\n', "files"),
        (f"[renewal]\nwith_left = {'9' * 5000}\n", "TOML"),
        ("home = " + "[" * 100_000, "nested too deep"),
        ("home = " + "{a=" * 100_000, "nested too deep"),
        ('[nameserver.n]\naddress = "192.0.2.1\\u0000"\n', "does not print"),
        ('[nameserver.n]\naddress = "192.0.2.1\\u202e"\n', "does not print"),
        ("subject = 5\n", "subject"),
        ('[subject]\ncountry = ["GB"]\n', "country"),
        ("certificate = []\n", "certificate"),
        ("[view]\nhttp_port = 99999999999999999999999\n", "http_port"),
        ("[view]\nhttp_port = nan\n", "http_port"),
    ],
)
def test_odd_values_are_one_error_of_ours(text: str, told: str) -> None:
    with pytest.raises(ConfigurationError) as caught:
        parse(text.encode(), FILE)
    assert told in caught.value.what + caught.value.where + caught.value.said
    assert "Traceback" not in caught.value.said
