"""nginx configurations: read as nginx reads them, edited with the fewest bytes."""

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

import crossplane  # type: ignore[import-untyped]
import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.errors import InkStampError, ServerTrouble
from inkstamp.reach.interface import Ran
from inkstamp.reach.local import LocalHost
from inkstamp.reach.ports import ListeningProgram
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import Supply
from inkstamp.servers.nginx.reading import Folders, best_hosts, hosts, place_of, read_configuration
from inkstamp.servers.nginx.server import NginxServer
from inkstamp.servers.nginx.syntax import parse
from inkstamp.servers.text import Directive

PARTS = (".well-known", "acme-challenge", "tok")


def paths(served: str, key: str) -> Supply:
    return Supply(certificate="s", served=served, key=key, leaf="/leaf.pem", issuers="/issuers.pem", combined="/c.pem")


def server(tmp_path: Path, text: str) -> NginxServer:
    (tmp_path / "nginx.conf").write_bytes(text.encode())
    fitting = Fitting(program="nginx", main_file=str(tmp_path / "nginx.conf"), prefix=str(tmp_path))
    return NginxServer("front", LocalHost(), fitting)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ('a "b c" d;', ["a", "b c", "d"]),
        ("a 'it''s';", ["a", "it", "s"]),
        (r"a 'it\'s' x\ y;", ["a", "it's", r"x\ y"]),
        ("a b#c d; # note; {", ["a", "b#c", "d"]),
        ("a ${b}c $d;", ["a", "${b}c", "$d"]),
        (r"a ~^(\d+)\.x$ '~^y{2}$';", ["a", r"~^(\d+)\.x$", "~^y{2}$"]),
        ("a\n\tb # ; }\n c;", ["a", "b", "c"]),
        ('a "x;{}#y";', ["a", "x;{}#y"]),
        ("a " + "é" * 3 + ";", ["a", "ééé"]),
    ],
)
def test_words_are_read_as_nginx_reads_them(text: str, words: list[str]) -> None:
    (directive,) = parse(text, "f")
    assert [word.value for word in directive.words] == words
    assert text[directive.start : directive.end].endswith(";")


def test_a_block_of_another_language_is_passed_over() -> None:
    text = "server { content_by_lua_block { if a then b = { 1; } end } listen 80; }"
    (block,) = parse(text, "f")
    assert [each.name for each in block.block or ()] == ["content_by_lua_block", "listen"]


@pytest.mark.parametrize(
    ("text", "line"),
    [
        ("a {\n b;\n", 3),
        ("a;\n}\n", 2),
        ("a b", 1),
        ('a "b;\n', 1),
        (";", 1),
        ("\n{ }", 2),
        ("a { b }", 1),
        ("a {" * 100, 1),
    ],
)
def test_a_broken_file_is_told_with_its_line(text: str, line: int) -> None:
    with pytest.raises(ServerTrouble) as caught:
        parse(text, "site.conf")
    assert caught.value.where == f"site.conf, line {line}"


@given(st.text("ab \n\t;{}#\"'\\$é", max_size=60))
def test_any_text_is_read_or_refused_and_positions_hold(text: str) -> None:
    try:
        found = parse(text, "f")
    except InkStampError:
        return
    for directive in found:
        assert text[directive.start : directive.end][-1] in ";}"
        for word in directive.words:
            assert set(word.value) <= set(text[word.start : word.end])


CONFIGURATION = """
http {
  include sites/*.conf;
  root html;
  ssl_certificate wide.pem;
  server { listen 80 default_server; return 301 https://$host$request_uri; }
}
"""
SITES = {
    "a.conf": "server { listen [::]:80 ipv6only=on; listen 8080; server_name A.test .b.test; root /srv/a; }",
    "b.conf": 'server { listen 127.0.0.1:443 ssl; server_name *.a.test a.*; include "/x/tls.inc"; }',
    "c.conf": "server { listen unix:/run/x.sock ssl; listen 443 ssl; server_name '~^(?<n>www\\d)\\.a\\.test$' _; }",
}


def read(extra: dict[str, str] | None = None) -> list[object]:
    files = {f"/etc/nginx/sites/{name}": text for name, text in SITES.items()}
    files |= {"/etc/nginx/nginx.conf": CONFIGURATION, "/x/tls.inc": "ssl_certificate own.pem;"} | (extra or {})
    reading = read_configuration(
        Folders("/etc/nginx/nginx.conf", "/usr/share/nginx"),
        lambda path: files[path].encode(),
        lambda pattern: sorted(path for path in files if path.startswith(pattern.partition("*")[0])),
    )
    return list(hosts(reading))


def test_virtual_hosts_are_found_through_includes_with_what_they_inherit() -> None:
    first, second, third, default = read()
    assert first.names == ("a.test", ".b.test")  # type: ignore[attr-defined]
    assert [str(each) for each in first.listens] == ["[::]:80", "*:8080"]  # type: ignore[attr-defined]
    assert second.certificate_file == "/etc/nginx/own.pem"  # type: ignore[attr-defined]
    assert third.certificate_file == "/etc/nginx/wide.pem"  # type: ignore[attr-defined]
    assert default.listens[0].default  # type: ignore[attr-defined]
    assert place_of(first, PARTS).root == "/srv/a"  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("name", "tls", "expected"),
    [
        ("a.test", False, 0),
        ("x.b.test", False, 0),
        ("b.test", False, 0),
        ("x.a.test", True, 1),
        ("a.example.org", True, 1),
        ("www7.a.test", True, 1),
        ("nobody.test", True, None),
    ],
)
def test_the_block_that_nginx_would_choose_is_chosen(name: str, tls: bool, expected: int | None) -> None:
    everything = read()
    chosen = best_hosts(everything, name, tls=tls)  # type: ignore[arg-type]
    assert chosen == ([] if expected is None else [everything[expected]])


@pytest.mark.parametrize(
    ("inside", "root"),
    [
        ("root /r;", "/r"),
        ("root rel;", "/usr/share/nginx/rel"),
        ("", "/usr/share/nginx/html"),
        ("root /r; location / { root /s; }", "/s"),
        ("root /r; location ^~ /.well-known/ { root /t; } location / { root /s; }", "/t"),
        ("location /.well-known/acme-challenge/ { alias /u/.well-known/acme-challenge/; }", "/u"),
        ("root /r; location = / { root /s; } location ~ x { root /v; }", "/r"),
    ],
)
def test_the_folder_of_a_proof_is_that_of_its_best_location(inside: str, root: str) -> None:
    block = f"server {{ listen 80; server_name p.test; {inside} }}"
    found = best_hosts(read({"/etc/nginx/sites/p.conf": block}), "p.test", tls=False)  # type: ignore[arg-type]
    assert place_of(found[0], PARTS).root == root


ODD = r"""
user  www-data;# at once
events { worker_connections 7; }
http {
    # a comment with { ; } and "quotes"
    map $http_upgrade $how { default close; "~^a{2}$" 'it is'; ~*\.(gif|png)$ "a;b" ; }
    log_format main '$remote_addr - "$request"'
                    '$status';
    server { server_name A.test *.b.test ~^(?<n>\d+)\.c\.test$ "" .d.test;
        server_name e.test
            f.test;
        listen 80 default_server; listen [::]:80 ipv6only=on; listen unix:/run/x.sock;
        set $x ${y}z; set $v "${x}{}"; rewrite ^/(.*)$ /$1? last;
        location ~ \.php$ { return 200 "x;{}#y"; } location = /a\ b { return 204; }
        if ($x ~ "}") { return 403; }
        add_header X-A "a \"b\" \\ c" always;
    }
}
"""


def test_another_reader_of_nginx_configurations_finds_the_same_directives(tmp_path: Path) -> None:
    file = tmp_path / "odd.conf"
    file.write_text(ODD)
    (parsed,) = crossplane.parse(str(file), single=True)["config"]
    assert parsed["status"] == "ok", parsed

    def words(name: str, arguments: Sequence[str]) -> tuple[str, ...]:
        # It takes the parentheses of `if` away, and lets double backslashes stand.
        shown = [each.replace("\\\\", "\\") for each in arguments]
        return (name, *"  ".join(shown).strip("() ").split("  ")) if name == "if" else (name, *shown)

    def theirs(found: list[dict[str, Any]]) -> list[Any]:
        return [
            (words(each["directive"], each["args"]), each["line"], theirs(each["block"]) if "block" in each else None)
            for each in found
        ]

    def ours(found: Iterable[Directive]) -> list[Any]:
        return [
            (words(each.name, each.arguments), each.line, ours(each.block) if each.block is not None else None)
            for each in found
        ]

    assert ours(parse(ODD, str(file))) == theirs(parsed["parsed"])


BLOCKS = st.builds(
    lambda comment, listens, extra, end: end.join(
        [
            f"# {comment}",
            "server {",
            *[f"\tlisten {each};" for each in listens],
            "  server_name s.test;",
            extra,
            "}",
            "",
        ]
    ),
    st.text("abc é;{}\"'", max_size=20),
    st.lists(st.sampled_from(["80", "127.0.0.1:80", "[::1]:80", "80 default_server"]), unique=True, max_size=3),
    st.sampled_from(["", "root /srv; # docs", "location / { return 200 'x;}'; }", "#"]),
    st.sampled_from(["\n", "\r\n"]),
)


@given(BLOCKS, BLOCKS)
def test_adding_tls_keeps_every_other_byte_and_is_read_back_as_meant(first: str, second: str) -> None:
    text = f"events {{}}\nhttp {{\n{first}{second.replace('s.test', 't.test')}}}\n"
    host = _Memory({"/n.conf": text.encode()})
    nginx = NginxServer("n", host, Fitting(program="nginx", main_file="/n.conf", prefix="/p"))
    (change,) = nginx.plan_install(["s.test"], paths("/shelf/served.pem", "/shelf/key.pem"))
    before, after = (change.before or b"").decode(), (change.after or b"").decode()
    common = next((n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), len(before))
    rest = before[common:]
    assert after.endswith(rest)  # one insertion, and nothing else
    assert after[:common] == before[:common]
    host.files["/n.conf"] = after.encode()
    nginx.forget()
    ours, theirs = nginx.sites()
    assert ours.certificate_file == "/shelf/served.pem"
    assert ours.tls
    assert not theirs.tls
    assert nginx.plan_install(["s.test"], paths("/shelf/served.pem", "/shelf/key.pem")) == []


class _Memory(LocalHost):
    def __init__(self, files: dict[str, bytes]) -> None:
        self.files = files

    def read(self, path: str) -> bytes:
        return self.files[path]

    def run(self, command: object, seconds: float, data: bytes = b"") -> Ran:
        raise AssertionError("nothing is run while a configuration is read")


def test_only_the_values_change_where_tls_is_there(tmp_path: Path) -> None:
    text = (
        "http { server { listen 443 ssl; server_name s.test; ssl_certificate  'old cert.pem' ; # keep\n"
        "ssl_certificate_key old.key; } }"
    )
    (change,) = server(tmp_path, text).plan_install(["s.test"], paths("/new/a b.pem", "/new.key"))
    expected = text.replace("'old cert.pem'", '"/new/a b.pem"').replace("old.key", "/new.key")
    assert (change.after or b"").decode() == expected


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("http { server { listen 80; server_name other.test; } }", "no virtual host"),
        (
            "http { server { listen 443 ssl; server_name s.test; ssl_certificate a; ssl_certificate b; } }",
            "has 2 certificates",
        ),
        ("http { server { listen 80; server_name s.test; } include gone.conf; }", "cannot read"),
        ("http { include nginx.conf; }", "circle"),
    ],
)
def test_what_cannot_be_edited_safely_is_refused(tmp_path: Path, text: str, told: str) -> None:
    with pytest.raises(ServerTrouble, match=told):
        server(tmp_path, text).plan_install(["s.test"], paths("/a.pem", "/a.key"))


def test_a_line_that_another_virtual_host_includes_too_is_not_edited(tmp_path: Path) -> None:
    (tmp_path / "tls.inc").write_text("ssl_certificate a.pem; ssl_certificate_key a.key;")
    blocks = "".join(f"server {{ listen 443 ssl; server_name {n}.test; include tls.inc; }}" for n in "st")
    nginx = server(tmp_path, f"http {{ {blocks} }}")
    with pytest.raises(ServerTrouble, match=r"t\.test"):
        nginx.plan_install(["s.test"], paths("/a.pem", "/a.key"))
    changes = nginx.plan_install(["s.test", "t.test"], paths("/a.pem", "/a.key"))
    assert [change.after for change in changes] == [b"ssl_certificate /a.pem; ssl_certificate_key /a.key;"]


class _Listening(LocalHost):
    """A machine on which others may listen."""

    def __init__(self, *others: ListeningProgram) -> None:
        self.others, self.asked = others, list[int]()

    def listeners(self, port: int) -> list[ListeningProgram]:
        self.asked.append(port)
        return [each for each in self.others if each.port == port]


def test_a_machine_is_asked_once_who_listens_on_a_port_for_all_sites_and_whoever_is_in_the_way_is_told(
    tmp_path: Path,
) -> None:
    names = [f"s{number}.test" for number in range(5)]
    blocks = "".join(f"server {{ listen 127.0.0.1:80; server_name {each}; root /srv; }}\n" for each in names)
    (tmp_path / "nginx.conf").write_text(f"http {{ {blocks} }}")
    fitting = Fitting(program="nginx", main_file=str(tmp_path / "nginx.conf"), prefix=str(tmp_path))
    free = _Listening(ListeningProgram("127.0.0.2", 443, "haproxy", 7), ListeningProgram("127.0.0.1", 443, "nginx", 8))
    (change,) = NginxServer("front", free, fitting).plan_install(names, paths("/a.pem", "/a.key"))
    assert (change.after or b"").count(b"127.0.0.1:443 ssl") == len(names)
    assert free.asked == [443]
    taken = _Listening(ListeningProgram("127.0.0.1", 443, "haproxy", 7))
    with pytest.raises(ServerTrouble, match=r"is taken by haproxy \(process 7\)"):
        NginxServer("front", taken, fitting).plan_install(names, paths("/a.pem", "/a.key"))
