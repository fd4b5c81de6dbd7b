"""Apache httpd's configuration as text: read as the server itself reads it, edited in the fewest bytes."""

import re
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from more_servers import MODULES
from world import find_program

from inkstamp.errors import FileTrouble, ServerTrouble
from inkstamp.servers.apache import passage
from inkstamp.servers.apache.reading import (
    ReaderContext,
    Reading,
    VirtualHost,
    answering,
    hosts,
    read_configuration,
    read_environment,
)
from inkstamp.servers.apache.syntax import parse
from inkstamp.servers.interface import Place
from inkstamp.servers.text import changes

MAIN = "/etc/apache2/apache2.conf"
PARTS = (".well-known", "acme-challenge", "tok")
FOLDER = "/.well-known/acme-challenge/"

WHOLE = r"""
ServerRoot "/etc/apache2"
Define SITES /srv/www
Define docroot ${SITES}/club
LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so
<IfModule !ssl_module>
    Include nowhere.conf
</IfModule>
<IfModule mod_ssl.c>
    Listen 443
</IfModule>
<IfDefine NEVER>
    Include nowhere.conf
</IfDefine>
<IfVersion >= 2.4.10>
    Define NEW
</IfVersion>
<IfVersion < 2.2>
    Include nowhere.conf
</IfVersion>
# a comment that goes on \
Include nowhere.conf
<Macro Site $name $where>
    <VirtualHost *:80>
        ServerName $name
        DocumentRoot "$where/$name"
    </VirtualHost>
</Macro>
Use Site a.test /m
Use Site b.test '/m n'
IncludeOptional sites/*.conf
"""
SITE = r"""<VirtualHost 192.0.2.1:80 [2001:db8::1]:80>
    ServerName http://Club.test:80
    ServerAlias www.club.test *.old.test \
        club?.test
    DocumentRoot ${docroot}
    <IfDefine NEW>
        Alias /.well-known/acme-challenge/ "/srv/with space/proofs/"
    </IfDefine>
</VirtualHost>
<VirtualHost _default_:443>
    ServerName club.test
    SSLEngine on
    SSLCertificateFile tls/club.pem
    DocumentRoot /srv/tls
</VirtualHost>
"""


def read(files: dict[str, str] | None = None, main: str = WHOLE) -> Reading:
    known = {MAIN: main, "/etc/apache2/sites/club.conf": SITE} if files is None else {MAIN: main, **files}

    def fetch(path: str) -> bytes:
        if path not in known:
            raise FileTrouble(f"cannot read {path}")
        return known[path].encode()

    def glob(pattern: str) -> list[str]:
        return sorted(path for path in known if path.startswith(pattern.partition("*")[0]) and "*" in pattern)

    return read_configuration(ReaderContext(MAIN, "/etc/apache2", version=(2, 4, 57)), fetch, glob)


def test_conditions_variables_macros_and_continued_lines_lead_to_the_virtual_hosts_in_force() -> None:
    first, second, club, tls = hosts(read())
    assert (first.names, first.path("documentroot")) == (("a.test",), "/m/a.test")
    assert second.path("documentroot") == "/m n/b.test"
    assert club.names == ("club.test", "www.club.test", "*.old.test", "club?.test")
    assert [str(each) for each in club.listens] == ["192.0.2.1:80", "[2001:db8::1]:80"]
    assert (club.path("documentroot"), club.tls) == ("/srv/www/club", False)
    assert (tls.tls, tls.path("sslcertificatefile")) == (True, "/etc/apache2/tls/club.pem")
    assert str(tls.listens[0]) == "*:443 tls"


@pytest.mark.parametrize(
    ("name", "tls", "expected"),
    [("a.test", False, [0]), ("club.test", False, [2]), ("x.old.test", False, [2]), ("club7.test", False, [2]),
     ("club.test", True, [3]), ("www.club.test", True, []), ("nobody.test", False, [])],
)  # fmt: skip
def test_the_virtual_host_that_the_server_would_choose_is_chosen(name: str, tls: bool, expected: list[int]) -> None:
    everything = hosts(read())
    assert answering(everything, name, tls=tls) == [everything[number] for number in expected]


def site(inside: str) -> tuple[VirtualHost, str, Reading]:
    text = f"<VirtualHost *:80>\n    ServerName s.test\n    DocumentRoot /srv/s\n{inside}</VirtualHost>\n"
    reading = read({}, main=text)
    (host,) = hosts(reading)
    return host, text, reading


@pytest.mark.parametrize(
    ("inside", "place"),
    [
        ("", Place("/srv/s", PARTS)),
        ("Alias /other /srv/o\n", Place("/srv/s", PARTS)),
        ("Alias /.well-known /srv/a/.well-known\n", Place("/srv/a", PARTS)),
        ("Alias /.well-known/acme-challenge/ /srv/p/\nAlias /.well-known /no\n", Place("/srv/p", ("tok",))),
    ],
)
def test_a_file_lies_where_the_first_alias_or_the_document_root_leads(inside: str, place: Place) -> None:
    assert passage.place_of(site(inside)[0], PARTS) == place


@pytest.mark.parametrize(
    ("broken", "line"),
    [
        ("<VirtualHost *:80>\n", 1),
        ("\n</VirtualHost>\n", 2),
        ("<A>\n<B>\n</A>\n</B>\n", 2),
        ("<A\n", 1),
        ("x\n<>\n", 2),
    ],
)
def test_what_breaks_the_grammar_is_told_with_its_line(broken: str, line: int) -> None:
    with pytest.raises(ServerTrouble) as caught:
        parse(broken, "f.conf")
    assert caught.value.where == f"f.conf, line {line}"


def test_an_include_in_a_circle_a_missing_file_and_an_unknown_macro_are_told() -> None:
    for main, told in (
        ("Include apache2.conf\n", "circle"),
        ("Include no.conf\n", "cannot read"),
        ("Use No\n", "no macro"),
    ):
        with pytest.raises(ServerTrouble, match=told):
            read({}, main=main)


def test_the_environment_file_is_read_as_far_as_it_says_so_in_plain_words() -> None:
    found = read_environment('unset HOME\nSUFFIX="-x"\nexport APACHE_RUN_DIR=/run/apache2$SUFFIX\n# A=b\n')
    assert found == {"SUFFIX": "-x", "APACHE_RUN_DIR": "/run/apache2-x"}


REDIRECTS = [
    ("Redirect / https://s.test/", 'RedirectMatch "^(?!/\\.well-known/acme-challenge/)/(.*)$" "https://s.test/$1"'),
    ("RedirectPermanent / https://s.test/", 'RedirectMatch permanent "^(?!/\\.well-known/acme-challenge/)/(.*)$" '
     '"https://s.test/$1"'),
    ('RedirectMatch 301 "^/(.*)$" https://s.test/$1', 'RedirectMatch 301 "^(?!/\\.well-known/acme-challenge/)/(.*)$" '
     "https://s.test/$1"),
]  # fmt: skip


@pytest.mark.parametrize(("before", "after"), REDIRECTS)
def test_a_redirect_spares_the_proof_path_and_still_takes_every_other(before: str, after: str) -> None:
    host, text, reading = site(f"    {before}\n")
    assert passage.redirects(host, FOLDER + "tok")
    (change,) = changes(reading.texts, passage.open_way(host, text, FOLDER, "/p"))
    edited = (change.after or b"").decode()
    assert f"    {after}\n" in edited
    again = hosts(read({}, main=edited))[0]
    assert not passage.redirects(again, FOLDER + "tok")
    assert passage.redirects(again, "/index.html")
    assert passage.place_of(again, PARTS) == Place("/p", PARTS)
    with pytest.raises(ServerTrouble, match="already"):
        passage.open_way(again, edited, FOLDER, "/p")


WORDS = st.text(st.characters(whitelist_categories=("L", "N"), whitelist_characters="/.-_$%^"), min_size=1, max_size=9)
LINES = st.lists(
    st.one_of(
        st.builds(lambda word: f"  # {word}", WORDS),
        st.builds(lambda first, second: f'\tHeader {first} \\\n   "{second} x"', WORDS, WORDS),
        st.builds(lambda word: f"  <Directory /srv/{word}>\n    Require all denied\n  </Directory>", WORDS),
        st.just(""),
        st.just("  Redirect / https://s.test/"),
        st.just("  ProxyPass / http://127.0.0.1:9/"),
    ),
    max_size=6,
)


@given(LINES, LINES, st.sampled_from(["\n", "\r\n"]))
def test_opening_a_way_leaves_every_other_byte_and_reads_back_open(
    before: list[str], inside: list[str], end: str
) -> None:
    lines = [*before, "<VirtualHost *:80>", "  ServerName s.test", *inside, "</VirtualHost>", *before]
    text = end.join("\n".join(lines).split("\n")) + end
    reading = read({}, main=text)
    (host,) = hosts(reading)
    (change,) = changes(reading.texts, passage.open_way(host, text, FOLDER, "/p"))
    edited = (change.after or b"").decode("utf-8", "surrogateescape")
    kept = [line for line in edited.split(end) if line in text.split(end)]
    gone = [line for line in text.split(end) if line not in edited.split(end)]
    assert all("Redirect" in line for line in gone)
    assert len(kept) >= len(text.split(end)) - len(gone) - text.count("Redirect")
    again = hosts(read({}, main=edited))[0]
    assert passage.place_of(again, PARTS) == Place("/p", PARTS)
    assert not passage.redirects(again, FOLDER + "tok")
    assert not [each for each in passage.obstacles(again, FOLDER + "tok") if "application" in each.what]


def test_the_server_s_own_dump_of_its_virtual_hosts_says_the_same(tmp_path: Path) -> None:
    """`apache2 -t -D DUMP_VHOSTS` is the witness."""
    modules = "".join(f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n" for name in MODULES)
    sites = tmp_path / "sites"
    sites.mkdir()
    (sites / "club.conf").write_text(SITE.replace("    SSLEngine on\n    SSLCertificateFile tls/club.pem\n", ""))
    text = WHOLE.replace("/etc/apache2", str(tmp_path)).replace("LoadModule ssl_module", "# LoadModule ssl_module")
    main = tmp_path / "apache.conf"
    main.write_text(f"{modules}ServerName localhost\nPidFile {tmp_path}/pid\n{text}")
    done = subprocess.run(
        [find_program("apache2"), "-d", str(tmp_path), "-f", str(main), "-t", "-D", "DUMP_VHOSTS"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "VirtualHost configuration" in done.stdout, done.stdout + done.stderr
    theirs = re.findall(r" +(?:namevhost +)?(\S+) \((.*)\)$", done.stdout.lower(), re.MULTILINE)

    def glob(pattern: str) -> list[str]:
        folder, _, name = pattern.rpartition("/")
        return sorted(map(str, Path(folder).glob(name)))

    reading = read_configuration(ReaderContext(str(main), str(tmp_path)), lambda path: Path(path).read_bytes(), glob)
    ours = {(host.names[0], f"{host.block.file}:{host.block.line}") for host in hosts(reading)}
    assert {name for name, _ in theirs} == {name for name, _ in ours}
    # Where a macro wrote a host, the server names the macro and not the place.
    assert {each for each in theirs if "macro" not in each[1]} == {each for each in ours if "club.conf" in each[1]}
