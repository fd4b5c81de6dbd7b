"""Standing answers as text: what is put into configurations, for whom, and that a second time changes nothing."""

import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.errors import ServerTrouble
from inkstamp.reach.local import LocalHost
from inkstamp.servers.apache.reading import ReaderContext, read_configuration
from inkstamp.servers.apache.standing import expect_able
from inkstamp.servers.base import Fitting
from inkstamp.servers.haproxy.server import HaproxyServer
from inkstamp.servers.haproxy.standing import standing_lines
from inkstamp.servers.interface import StandingAnswer
from inkstamp.servers.nginx.server import NginxServer

KEY, OTHER = "k" * 43, "o" * 43
WISH = StandingAnswer(thumbprint=KEY)
ANY, LISTED = "HEAD) [^ ]* /", "HEAD) (?:{}) /"


def nginx(folder: Path, servers: str) -> NginxServer:
    file = folder / "nginx.conf"
    file.write_text(f"http {{\n{servers}\n}}\n")
    return NginxServer("front", LocalHost(), Fitting(program="true", main_file=str(file), prefix=str(folder)))


def planned(server: NginxServer | HaproxyServer, wish: StandingAnswer) -> str:
    """The text after the change, which is written; empty for no change."""
    found = server.plan_standing(wish)
    for each in found:
        Path(each.path).write_bytes(each.after or b"")
    server.forget()
    return "".join((each.after or b"").decode() for each in found)


DEFAULT = "server { listen 80 default_server; return 444; }\n"


@pytest.mark.parametrize(
    ("servers", "wish", "asked"),
    [
        ("server { listen 80; server_name a.test; }", WISH, LISTED.format(r"a\.test")),  # the first one, by accident
        (DEFAULT + "server { listen 80; server_name a.test; }", WISH, ANY),
        ("server { listen 80; server_name *.a.test b.*; }", WISH, LISTED.format(r"[^ ]+\.a\.test|b\.[^ ]+")),
        ("server { listen 80; server_name .a.test; }", WISH, LISTED.format(r"(?:[^ ]+\.)?a\.test")),
        ("server { listen 80; server_name a.test; }", StandingAnswer(thumbprint=KEY, default_hosts=True), ANY),
        ("server { listen 80; }", StandingAnswer(thumbprint=KEY, default_hosts=True), ANY),
        ("server { listen 80; }", WISH, ""),
        (r"server { listen 80; server_name ~^x\d+\.test$; }", WISH, ""),
        (DEFAULT + r"server { listen 80; server_name ~^x\d+\.test$; }", WISH, ANY),
    ],
)
def test_nginx_answers_for_the_names_of_sites_and_for_others_when_told(
    tmp_path: Path, servers: str, wish: StandingAnswer, asked: str
) -> None:
    server = nginx(tmp_path, servers)
    after = planned(server, wish)
    assert after.count("return 200") == bool(asked)
    assert asked in after
    assert planned(server, wish) == ""


def test_nginx_gives_a_site_with_https_alone_a_block_for_plain_http(tmp_path: Path) -> None:
    server = nginx(tmp_path, "server { listen 443 ssl; server_name a.test; ssl_certificate /c; }\n")
    assert server.standing("a.test") == frozenset()
    after = planned(server, WISH)
    assert re.search(r"server \{\s+listen 80;\s+server_name a\.test;", after)
    assert "location / { return 301 https://$host$request_uri; }" in after
    assert server.standing("a.test") == {KEY}
    assert server.standing("b.test") == frozenset()


def test_another_key_takes_the_place_of_the_one_before_and_nothing_else_changes(tmp_path: Path) -> None:
    server = nginx(tmp_path, DEFAULT + "server {\r\n    listen 80;\r\n    server_name a.test;\r\n}\r\n")
    first = planned(server, WISH)
    assert server.standing("a.test") == {KEY}
    assert planned(server, StandingAnswer(thumbprint=OTHER)) == first.replace(KEY, OTHER)
    assert server.standing("a.test") == {OTHER}


def test_two_sites_of_a_name_that_differ_need_files_or_are_told_apart(tmp_path: Path) -> None:
    sites = "".join(f"server {{ listen 10.0.0.{n}:80; server_name a.test; }}\n" for n in (1, 2))
    server = nginx(tmp_path, DEFAULT + sites)
    planned(server, WISH)
    file = tmp_path / "nginx.conf"
    file.write_text(file.read_text()[::-1].replace(KEY[::-1], OTHER[::-1], 1)[::-1])
    server.forget()
    assert server.standing("a.test") == {KEY, OTHER}


def test_a_name_that_only_the_default_site_answers_is_refused_unless_told(tmp_path: Path) -> None:
    server = nginx(tmp_path, "server { listen 80 default_server; root /srv; }\n")
    with pytest.raises(ServerTrouble, match="is answered by the default virtual host") as caught:
        server.plan_standing(StandingAnswer(thumbprint=KEY, names=("a.test",)))
    assert "--default-hosts" in caught.value.advice
    with pytest.raises(ServerTrouble, match="no virtual host answers for"):
        nginx(tmp_path, "").plan_standing(StandingAnswer(thumbprint=KEY, names=("a.test",)))


@given(st.lists(st.from_regex(r"[a-z0-9-]{1,40}(\.[a-z0-9-]{1,20}){1,3}", fullmatch=True), max_size=300, unique=True))
def test_haproxys_lines_hold_every_name_and_are_none_too_long(names: list[str]) -> None:
    lines = standing_lines(KEY, names)
    assert all(len(each) < 2000 and len(each.split()) <= 60 for each in lines)
    assert [name for each in lines[1:-1] for name in each.split()[5:]] == names
    assert lines[-1].endswith(" inkstamp_name") is bool(names)


def haproxy(folder: Path, text: str) -> HaproxyServer:
    file = folder / "haproxy.cfg"
    file.write_text(text)
    return HaproxyServer("edge", LocalHost(), Fitting(program="true", main_file=str(file)))


def test_haproxy_answers_before_its_other_rules_and_keeps_names_of_before(tmp_path: Path) -> None:
    server = haproxy(tmp_path, "frontend web\n    bind :80\n    http-request deny\nfrontend other\n    bind :8080\n")
    one = StandingAnswer(thumbprint=KEY, names=("a.test",))
    after = planned(server, one)
    assert after.index("http-request return") < after.index("http-request deny") < after.index("frontend other")
    assert after.count("http-request return") == 1
    assert planned(server, StandingAnswer(thumbprint=KEY, names=("b.test",))).count("a.test b.test") == 1
    assert server.standing("a.test") == {KEY}
    assert server.standing("c.test") == frozenset()
    with pytest.raises(ServerTrouble, match="answered for another account key, and HAProxy answers for one"):
        server.plan_standing(StandingAnswer(thumbprint=OTHER, names=("c.test",)))
    with pytest.raises(ServerTrouble, match="it is not known which names"):
        haproxy(tmp_path, "frontend web\n    bind :80\n").plan_standing(WISH)
    with pytest.raises(ServerTrouble, match="answers plain HTTP at port 80"):
        haproxy(tmp_path, "frontend web\n    bind :443 ssl\n").plan_standing(one)


@pytest.mark.parametrize(
    ("version", "modules", "trouble"),
    [((2, 4, 7), "alias", "takes 2.4.13"), ((2, 4, 62), "mime", "mod_alias is not loaded")],
)
def test_an_apache_that_cannot_answer_says_why(version: tuple[int, ...], modules: str, trouble: str) -> None:
    text = f"LoadModule {modules}_module m.so\nListen 80\n<VirtualHost *:80>\nServerName a.test\n</VirtualHost>\n"
    setting = ReaderContext("/a/a.conf", "/a", frozenset(), version, {})
    with pytest.raises(ServerTrouble, match=trouble):
        expect_able(read_configuration(setting, lambda _path: text.encode(), lambda _pattern: []))
