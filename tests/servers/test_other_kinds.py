"""HAProxy, lighttpd, Postfix and Dovecot: configurations read as those programs read them, broken ones told."""

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import pytest
from authority_of_tests import Signer
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inkstamp.errors import ServerTrouble
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.keys import to_pem as key_to_pem
from inkstamp.reach.local import LocalHost
from inkstamp.servers.base import Fitting, TextServer
from inkstamp.servers.dovecot import syntax as dovecot_syntax
from inkstamp.servers.dovecot.server import DovecotServer
from inkstamp.servers.haproxy import syntax as haproxy_syntax
from inkstamp.servers.haproxy.server import HaproxyServer
from inkstamp.servers.interface import Supply
from inkstamp.servers.lighttpd import syntax as lighttpd_syntax
from inkstamp.servers.lighttpd.server import LighttpdServer
from inkstamp.servers.postfix.server import PostfixServer

SUPPLY = Supply(certificate="s", served="/e/served.pem", key="/e/key.pem", leaf="/e/leaf.pem", issuers="/e/issuers.pem",
                combined="/e/combined.pem")  # fmt: skip


def fitting(file: Path, text: str) -> Fitting:
    file.write_text(text)
    return Fitting(program="none", main_file=str(file))


@pytest.mark.parametrize(
    ("line", "words"),
    [
        ("bind :443 ssl # crt /x", ["bind", ":443", "ssl"]),
        (r"acl a path_beg /a\ b\#c '#d' \x41", ["acl", "a", "path_beg", "/a b#c", "#d", "A"]),
        (r"""log-format "a \"b\" \\ \$x" 'it'"'"'s' """, ["log-format", r'a "b" \ $x', "it's"]),
        ('  \t server s "${HOST}":80', ["server", "s", "${HOST}:80"]),
    ],
)
def test_words_are_read_as_haproxy_reads_them(line: str, words: list[str]) -> None:
    text = f"# first\n\n{line}\r\n"
    (directive,) = haproxy_syntax.parse(text, "f")
    assert [word.value for word in directive.words] == words
    assert directive.line == 3
    assert text[directive.words[0].start : directive.words[0].end] == words[0]


@given(st.text(st.characters(blacklist_categories=["Cs", "Cc"]), min_size=1))
def test_what_is_written_for_haproxy_is_read_back_the_same(value: str) -> None:
    (directive,) = haproxy_syntax.parse(f"crt {haproxy_syntax.quote(value)} x", "f")
    assert directive.arguments[-2:] == (value, "x") or not value.strip()


def test_haproxy_is_read_with_its_lists_and_folders_and_an_added_word_is_all_that_changes(tmp_path: Path) -> None:
    (tmp_path / "certs").mkdir()
    (tmp_path / "list").write_text(f"{tmp_path}/one.pem [alpn h2 ocsp-update on] a.test !b.test *.c.test\n# none\n")
    text = (
        "global\n  stats socket ipv4@127.0.0.1:9 level admin\n  stats socket /run/h.sock mode 600 level admin\n"
        f"  crt-base {tmp_path}\ndefaults\n  mode http\nfrontend web\n"
        "  bind :80,[::]:80\n  bind *:8443-8444 ssl crt certs\n"
        f"  bind :443,:::443 v4v6 ssl crt-list {tmp_path}/list alpn h2 # kept\nbackend b\n  server s 127.0.0.1:1\n"
    )
    server = HaproxyServer("edge", LocalHost(), fitting(tmp_path / "h.cfg", text))
    (listed,) = server.sites()
    assert listed.names == ("a.test", "*.c.test")
    assert [str(each) for each in listed.listens] == ["*:443 tls", "[::]:443 tls", "*:443 tls"]
    (change,) = server.plan_install(["new.test"], SUPPLY)
    assert (change.path, change.after) == (f"{tmp_path}/list", (change.before or b"") + b"/e/combined.pem\n")
    (change,) = server.plan_install(["a.test"], SUPPLY)
    assert change.after == (change.before or b"").replace(f"{tmp_path}/one.pem".encode(), b"/e/combined.pem")
    for wrong, told in (('frontend "x\n', 'a " is not closed'), ('frontend f\n  bind :1 ssl crt "$X"\n', "variable")):
        with pytest.raises(ServerTrouble) as caught:
            HaproxyServer("edge", LocalHost(), fitting(tmp_path / "bad.cfg", wrong)).sites()
        assert told in caught.value.what
        assert "bad.cfg, line" in caught.value.where


def certificate(file: Path, *names: str) -> str:
    """Write a certificate of a CA with its key."""
    leaf = Signer(names[0], Signer("Middle", Signer("Root")), ca=False, names=names, start=datetime.now(UTC), days=90)
    file.write_bytes(to_pem(leaf.certificate) + key_to_pem(leaf.key))
    return str(file)


def test_a_wildcard_of_others_keeps_its_place_and_the_new_certificate_stands_beside_it(tmp_path: Path) -> None:
    wide = certificate(tmp_path / "wide.pem", "*.a.test", "a.test")
    text = f"frontend web\n  bind :443 ssl crt {wide}\n  bind :9443 ssl crt {wide}\n"
    proxy = HaproxyServer("edge", LocalHost(), fitting(tmp_path / "h.cfg", text))
    (change,) = proxy.plan_install(["shop.a.test"], replace(SUPPLY, names=("shop.a.test",)))
    assert (change.after or b"").decode() == text.replace(
        f":443 ssl crt {wide}", f":443 ssl crt {wide} crt /e/combined.pem", 1
    )
    with pytest.raises(ServerTrouble, match="does not cover"):
        proxy.plan_install(["a.test"], replace(SUPPLY, names=("a.test",)))
    text = f'server.port = 80\n$SERVER["socket"] == ":443" {{ ssl.engine = "enable" ssl.pemfile = "{wide}" }}\n'
    light = LighttpdServer("light", LocalHost(), fitting(tmp_path / "l.conf", text))
    (change,) = light.plan_install(["shop.a.test"], replace(SUPPLY, names=("shop.a.test",)))
    assert (change.after or b"").startswith(text.encode() + b'$HTTP["host"] == "shop.a.test" {\n    ssl.pemfile')


def test_postfix_values_are_read_with_continued_lines_and_the_last_one_counts(tmp_path: Path) -> None:
    main = (
        "# smtpd_tls_cert_file = /no\nmyhostname = mail.a.test\nbase = /etc/x\nsmtpd_tls_cert_file = /first\n"
        "smtpd_tls_cert_file =\n  # in between\n\t${base}/cert.pem\nsmtpd_tls_security_level = may\n"
        "inet_interfaces = 192.0.2.1, [2001:db8::1]\n"
    )
    (tmp_path / "master.cf").write_text(
        "smtp inet n - y - - smtpd\n#465 inet n - y - - smtpd\nsubmissions inet n - y - - smtpd\n"
        "  -o { smtpd_tls_wrappermode = yes }\n127.0.0.1:10025 inet n - y - - smtpd -o smtpd_tls_security_level=none\n"
        "smtp unix - - y - - smtp\n"
    )
    server = PostfixServer("post", LocalHost(), fitting(tmp_path / "main.cf", main))
    plain, wrapped, inner = server.sites()
    assert plain.certificate_file == "/etc/x/cert.pem"
    assert [(str(each), each.upgrade) for each in plain.listens] == [
        ("192.0.2.1:25 tls", "smtp"), ("[2001:db8::1]:25 tls", "smtp"),
    ]  # fmt: skip
    assert [(each.port, each.upgrade) for each in wrapped.listens] == [(465, ""), (465, "")]
    assert [(str(each), each.tls) for each in inner.listens] == [("127.0.0.1:10025", False)]
    (change,) = server.plan_install(["mail.a.test"], SUPPLY)
    after = (change.after or b"").decode()
    assert after == (
        main.replace("= /first", "= /first")
        .replace("# in between\n\t${base}/cert.pem", "/e/served.pem")
        + "smtpd_tls_key_file = /e/key.pem\n"
    )  # fmt: skip


def test_dovecot_is_read_through_includes_and_both_ways_of_naming_certificates(tmp_path: Path) -> None:
    (tmp_path / "conf.d").mkdir()
    (tmp_path / "conf.d" / "ssl.conf").write_text(
        'ssl_cert = </a.pem # one\nlocal_name "*.b.test" {\n  ssl_cert = </b.pem\n}\n'
    )
    text = (
        "protocols = imap\nlisten = *\n!include conf.d/*.conf\n!include_try none/*.conf\n"
        "service imap-login {\n  inet_listener imap {\n    port = 0\n  }\n}\n"
    )
    server = DovecotServer("boxes", LocalHost(), fitting(tmp_path / "d.conf", text))
    for_all, named = server.sites()
    assert (for_all.certificate_file, named.certificate_file, named.names) == ("/a.pem", "/b.pem", ("*.b.test",))
    assert [str(each) for each in for_all.listens] == ["*:993 tls"]
    (change,) = server.plan_install(["x.b.test"], SUPPLY)
    assert b"  ssl_cert = </e/served.pem\n}" in (change.after or b"")
    assert b"\n  ssl_key = </e/key.pem\n" in (change.after or b"")
    newer = DovecotServer("boxes", LocalHost(), fitting(tmp_path / "n.conf", "dovecot_config_version = 2.4.0\n"))
    (change,) = newer.plan_install(["a.test"], SUPPLY)
    wanted = b"ssl_server_cert_file = /e/served.pem\nssl_server_key_file = /e/key.pem\n"
    assert (change.after or b"").endswith(wanted)
    for wrong in ("service x {\n", "}\n"):
        with pytest.raises(ServerTrouble, match="clos"):
            dovecot_syntax.parse(wrong, "f")


def test_lighttpd_is_read_with_variables_conditions_and_includes(tmp_path: Path) -> None:
    (tmp_path / "more.conf").write_text(
        '$HTTP["host"] =~ "(^|\\.)b\\.test$" {\n server.document-root = var.home + "/b" }\n'
    )
    text = (
        f'var.home = "{tmp_path}"\nserver.modules = ( "mod_access", # x\n "mod_openssl" )\nserver.port = 8080\n'
        'server.document-root = var.home + "/all"\nmimetype.assign = ( ".html" => "text/html", )\ninclude "more.conf"\n'
        '$SERVER["socket"] == "[::]:443" { ssl.engine = "enable" ssl.pemfile = "/a.pem" }\n'
        '$HTTP["host"] == "c.test" { server.document-root = "/c" } else $HTTP["host"] =^ "d" { server.tag = "d" }\n'
        "else { }\n"
        'include_shell "echo x"\n'
    )
    server = LighttpdServer("light", LocalHost(), fitting(tmp_path / "l.conf", text))
    roots = {name: server.places(name, ("x",))[0].root for name in ("a.test", "www.b.test", "c.test")}
    assert roots == {"a.test": f"{tmp_path}/all", "www.b.test": f"{tmp_path}/b", "c.test": "/c"}
    assert [str(each) for each in server.sites()[0].listens] == ["*:8080", "[::]:443 tls"]
    (change,) = server.plan_install(["a.test"], SUPPLY)
    wanted = b'ssl.pemfile = "/e/served.pem"\nssl.privkey = "/e/key.pem" }'
    assert (change.after or b"").replace(b"    ", b"").count(wanted) == 1
    for wrong in ('a = "x', "a = ( 1", '$HTTP["host"] == "x" {', "}", "a == 1", "a = = 2"):
        with pytest.raises(ServerTrouble, match="f"):
            lighttpd_syntax.parse(wrong, "f")


def test_mail_servers_without_tls_are_given_it(tmp_path: Path) -> None:
    (tmp_path / "master.cf").write_text("smtp inet n - y - - smtpd\n")
    text = "myhostname = mail.a.test"
    (change,) = PostfixServer("post", LocalHost(), fitting(tmp_path / "main.cf", text)).plan_install(["a.test"], SUPPLY)
    wanted = "smtpd_tls_chain_files = /e/key.pem, /e/served.pem\nsmtpd_tls_security_level = may\n"
    assert (change.after or b"").decode() == f"{text}\n{wanted}"
    text = "ssl = no # for now\n"
    (change,) = DovecotServer("boxes", LocalHost(), fitting(tmp_path / "d.conf", text)).plan_install(["a.test"], SUPPLY)
    wanted = "ssl_cert = </e/served.pem\nssl_key = </e/key.pem\n"
    assert (change.after or b"").decode() == f"ssl = yes # for now\n{wanted}"


@dataclass(frozen=True)
class _Texts:
    texts: Mapping[str, str]


class _Changing(TextServer[_Texts]):
    """One whose configuration is changed, and forgotten, by another thread while it is read for the first time."""

    reads = 0

    def _read(self) -> _Texts:
        self.reads += 1
        if self.reads == 1:
            self.forget()
        return _Texts({f"/etc/read-{self.reads}": ""})

    def _usual_test(self) -> list[str]:
        return []

    _usual_reload = _usual_start = _usual_test


@pytest.mark.parametrize(
    ("kind", "path", "told"),
    [
        (PostfixServer, "/srv/ink stamp", "a blank"),
        (PostfixServer, "/srv/a,b", "a comma"),
        (DovecotServer, "/srv/a#b", "#"),
        (HaproxyServer, "/srv/$HOME", "$"),
        (LighttpdServer, "/srv/${a}", "$"),
    ],
)
def test_a_path_that_a_server_would_read_otherwise_is_refused_and_the_character_named(
    tmp_path: Path, kind: type[PostfixServer | DovecotServer | HaproxyServer | LighttpdServer], path: str, told: str
) -> None:
    (tmp_path / "master.cf").write_text("smtp inet n - y - - smtpd\n")
    server = kind("s", LocalHost(), fitting(tmp_path / "main.cf", "\n"))
    supply = replace(SUPPLY, **dict.fromkeys(("served", "key", "combined"), f"{path}/current/key.pem"))
    with pytest.raises(ServerTrouble, match="has another meaning in its configuration") as refused:
        server.plan_install(["a.test"], supply)
    assert f"without {told} in its path" in refused.value.advice


def test_what_was_read_before_a_change_is_not_taken_for_what_is_there_after_it() -> None:
    server = _Changing("west", LocalHost(), Fitting(program="", main_file=""))
    assert server.files_read() == ["/etc/read-1"], "who asked before the change"
    assert server.files_read() == server.files_read() == ["/etc/read-2"]
    assert server.reads == 2
