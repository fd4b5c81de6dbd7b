"""Passphrases of keys in configurations of nginx and Apache httpd: what is added, what goes, what is refused."""

import subprocess
from pathlib import Path

import pytest
from msgspec.structs import replace

from inkstamp.errors import ServerTrouble
from inkstamp.reach.local import LocalHost
from inkstamp.servers.apache.passphrases import check_undo, tell_passphrase
from inkstamp.servers.apache.reading import ReaderContext, Reading, hosts, read_configuration
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import FileChange, Supply
from inkstamp.servers.nginx.server import NginxServer
from inkstamp.servers.text import changes

SUPPLY = Supply(certificate="club", served="/e/served.pem", key="/e/key.pem", leaf="/e/leaf.pem",
                issuers="/e/issuers.pem", combined="/e/c.pem", passphrase_file="/e/club.pass", ours=("/e/",),
                algorithm="ecdsa")  # fmt: skip


def nginx(folder: Path, inside: str, supply: Supply, outer: str = "") -> str:
    """The server block's text after an install."""
    file = folder / "nginx.conf"
    file.write_text(f"http {{\n{outer}server {{\n    listen 443 ssl;\n    server_name club.test;\n{inside}}}\n}}\n")
    server = NginxServer("front", LocalHost(), Fitting(program="true", main_file=str(file), prefix=str(folder)))
    found = server.plan_install(["club.test"], supply)
    return (found[0].after or b"").decode() if found else file.read_text()


PAIR = "    ssl_certificate /x/a.pem;\n    ssl_certificate_key /x/a.key;\n"
OURS = "    ssl_certificate /e/served.pem;\n    ssl_certificate_key /e/key.pem;\n"


@pytest.mark.parametrize(
    ("inside", "outer", "line"),
    [
        (PAIR, "", "    ssl_password_file /e/club.pass;\n"),
        (PAIR + "    ssl_password_file /x/a.pass; # theirs\n", "", "    ssl_password_file /e/club.pass; # theirs\n"),
        (OURS + "    ssl_password_file old.pass;\n", "", "    ssl_password_file /e/club.pass;\n"),
        (OURS, "ssl_password_file /x/all.pass;\n", "    ssl_password_file /e/club.pass;\n"),
    ],
)
def test_nginx_is_named_the_passphrases_once_for_each_block(tmp_path: Path, inside: str, outer: str, line: str) -> None:
    after = nginx(tmp_path, inside, SUPPLY, outer)
    assert line in after
    assert after.count("    ssl_password_file") == 1
    assert nginx(tmp_path, OURS + line, SUPPLY, outer).count("ssl_password_file") == 1 + bool(outer)


def test_nginx_no_longer_names_passphrases_when_its_only_key_is_plain_again(tmp_path: Path) -> None:
    plain = replace(SUPPLY, passphrase_file="")
    kept = "    # kept\n"
    assert nginx(tmp_path, OURS + "    ssl_password_file /e/club.pass;\n" + kept, plain) == nginx(
        tmp_path, OURS + kept, plain
    )
    beside = "    ssl_certificate /e/b.pem;\n    ssl_certificate_key /e/b.key;\n    ssl_password_file /e/b.pass;\n"
    assert "ssl_password_file /e/b.pass;" in nginx(tmp_path, OURS + beside, plain)


def test_two_keys_of_a_block_share_one_file_of_passphrases_or_are_refused(tmp_path: Path) -> None:
    two = OURS + "    ssl_certificate /e/b.pem;\n    ssl_certificate_key /e/b.key;\n    ssl_password_file {};\n"
    assert nginx(tmp_path, two.format("/e/club.pass"), SUPPLY).count("ssl_password_file") == 1
    with pytest.raises(ServerTrouble, match="the block has another key, whose passphrase is in") as caught:
        nginx(tmp_path, two.format("/e/b.pass"), SUPPLY)
    assert "decrypt = true" in caught.value.advice


def apache(text: str) -> Reading:
    return read_configuration(ReaderContext("/etc/httpd.conf", "/etc"), lambda _: text.encode(), lambda _: [])


def host(name: str) -> str:
    return f"<VirtualHost *:8443>\n{f'ServerName {name}' if name else ''}\nSSLEngine on\n</VirtualHost>\n"


def told(folder: Path, text: str, supply: Supply = SUPPLY) -> tuple[str, Path]:
    """Apache's configuration, and the program, once it is written."""
    reading, path = apache(text), folder / "program"
    given = [(each, ()) for each in hosts(reading)]
    splices, program = tell_passphrase(LocalHost(), reading, given, replace(supply, passphrase_program=str(path)))
    for each in program:
        path.write_bytes(each.after or b"")
        path.chmod(0o700)
    found = changes(reading.texts, splices)
    return (found[0].after or b"").decode() if found else text, path


def ask(program: Path, asked: str) -> tuple[str, int]:
    done = subprocess.run([program, asked, "RSA"], capture_output=True, text=True, check=False)
    return done.stdout, done.returncode


@pytest.mark.parametrize(
    ("name", "asked"),
    [
        ("club.test", "club.test:443"),
        ("Club.test:8443", "Club.test:8443"),
        ("https://club.test", "club.test:443"),
        ("[2001:db8::1]", "[2001:db8::1]:443"),
        ("it's;$(touch x)", "it's;$(touch x):443"),
    ],
)
def test_the_program_answers_as_httpd_asks_and_for_no_other_host(tmp_path: Path, name: str, asked: str) -> None:
    words = tmp_path / "it's $here"
    words.write_bytes(b"a 'quoted' $HOME\\n `x`\r\nolder\n")
    text, program = told(tmp_path, host(f'"{name}"'), replace(SUPPLY, passphrase_file=str(words)))
    assert text.endswith(f"SSLPassPhraseDialog exec:{program}\n")
    assert ask(program, asked) == ("a 'quoted' $HOME\\n `x`\n", 0)
    assert ask(program, "other.test:443") == ("", 1)
    words.write_bytes(b"no end of line")
    assert ask(program, asked) == ("no end of line\n", 0)
    assert told(tmp_path, text, replace(SUPPLY, passphrase_file=str(words)))[0] == text, "nothing to do again"


def test_hosts_of_others_are_handed_on_to_the_program_that_was_there_before(tmp_path: Path) -> None:
    other = tmp_path / "their own"
    other.write_text('#!/bin/sh\necho "for $1 $2"\n')
    other.chmod(0o700)
    words = tmp_path / "words"
    words.write_text("gulls\n")
    given = replace(SUPPLY, passphrase_file=str(words))
    text, program = told(tmp_path, f'SSLPassPhraseDialog "exec:{other}"\n{host("club.test")}', given)
    assert text.startswith(f"SSLPassPhraseDialog exec:{program}\n")
    told(tmp_path, text + host("quay.test"), replace(given, certificate="quay"))
    assert (ask(program, "club.test:443"), ask(program, "quay.test:443")) == (("gulls\n", 0), ("gulls\n", 0))
    assert ask(program, "other.test:443") == ("for other.test:443 RSA\n", 0)
    both = program.read_bytes()
    change = FileChange(str(program), both, None, shared=True)
    with pytest.raises(ServerTrouble, match="the passphrases of club are told by the program") as caught:
        check_undo("quay", [change])
    assert caught.value.advice == "undo those first: inkstamp undo club"


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (host(""), "has no ServerName"),
        (f"SSLPassPhraseDialog |/usr/bin/pipe\n{host('club.test')}", "cannot be handed on to"),
    ],
)
def test_what_httpd_could_not_be_told_is_refused_with_the_way_out(tmp_path: Path, text: str, said: str) -> None:
    with pytest.raises(ServerTrouble, match=said) as caught:
        told(tmp_path, text)
    assert "decrypt = true" in caught.value.advice
    assert "line" in caught.value.where


def test_a_table_that_somebody_has_broken_is_told_with_its_line(tmp_path: Path) -> None:
    text, program = told(tmp_path, host("club.test"))
    program.write_text(program.read_text().replace("club.test:443)", "'club.test:443)"))
    with pytest.raises(ServerTrouble, match="a line of the program") as caught:
        told(tmp_path, text)
    assert "'club.test:443)" in caught.value.said


def test_a_second_key_of_a_host_has_the_same_passphrase_or_is_refused(tmp_path: Path) -> None:
    text, _ = told(tmp_path, host("club.test"))
    told(tmp_path, text, replace(SUPPLY, certificate="club-rsa"))
    with pytest.raises(ServerTrouble, match="also has the key of “club”, with a passphrase of its own"):
        told(tmp_path, text, replace(SUPPLY, certificate="third", passphrase_file="/e/third.pass"))
