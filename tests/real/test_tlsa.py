"""TLSA records of mail servers while keys change: a real Postfix and Dovecot, and a real BIND that has the zone."""

import hashlib
import os
import re
import sqlite3
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass

import pytest
from bind_world import PRIMARY, SECONDARY, BindWorld, bind_world
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from killing import killed_at
from more_servers import Mail, mail, open_folder

from inkstamp.standins.ports import free_ports

MAIL = "mail.saltmarsh.test"
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="Postfix starts as root alone")


@dataclass
class Post:
    """Mail servers, and where their records are."""

    world: BindWorld
    mail: Mail
    text: str
    """The configuration that each test begins with."""

    @property
    def place(self) -> str:
        return f"_{self.mail.ports['smtp']}._tcp.{MAIL}"

    def key(self, number: int) -> str:
        """The record for the key of an edition."""
        return _record_of(x509.load_der_x509_certificate(self.world.edition("post", number)))

    def records(self, server: str = PRIMARY) -> list[str]:
        """What a nameserver has; by its own program, in small letters and without blanks in the data."""
        found = []
        for line in self.world.records(self.place, "TLSA", server):
            usage, selector, matching, *data = line.lower().split()
            found.append(f"{usage} {selector} {matching} {''.join(data)}")
        return sorted(found)

    def publish(self, *values: str, ttl: int = 2) -> None:
        adds = [f"update add {self.place} {ttl} TLSA {each}" for each in values]
        self.world.change(f"update delete {self.place} TLSA", *adds)

    def configure(self, more: str) -> None:
        self.world.config.write_text(self.text + more + "\n")

    def served(self) -> str:
        """The record for what the mail server serves, by `openssl`."""
        where = ["-connect", f"127.0.0.1:{self.mail.ports['smtp']}", "-starttls", "smtp", "-servername", MAIL]
        done = subprocess.run(["openssl", "s_client", *where], input="", capture_output=True, text=True, check=False)
        leaf = re.search(r"-----BEGIN CERTIFICATE-----.*?-----END CERTIFICATE-----", done.stdout, re.DOTALL)
        assert leaf, done.stderr
        return _record_of(x509.load_pem_x509_certificate(leaf[0].encode()))

    def newest(self) -> int:
        """The number of the newest edition."""
        return max(int(each.name) for each in (self.world.home / "shelf" / "post").glob("0*"))


def _record_of(leaf: x509.Certificate) -> str:
    spki = leaf.public_key().public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    return f"3 1 1 {hashlib.sha256(spki).hexdigest()}"


@pytest.fixture(scope="module")
def post(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Post]:
    with (
        open_folder() as folder,
        bind_world(tmp_path_factory.mktemp("tlsa")) as world,
        mail(folder / "mail", free_ports(5), MAIL) as servers,
    ):
        world.change(f"update add {MAIL} 60 A 127.0.0.1")
        text = world.config.read_text() + '\n[nameserver.primary]\nkey_file = "primary.tsig"\nseconds = 30\n'
        text += servers.entries()
        text += f'\n[certificate.post]\nnames = ["{MAIL}"]\nauthority = "quayside"\ninstall = ["post", "boxes"]\n'
        text += 'via = "primary"\nproof = "dns-01"\n'
        made = Post(world, servers, text)
        made.configure("")
        done = world.run("stamp", "post")
        assert done.status == 0, done.err
        yield made


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def test_a_new_key_is_published_before_it_is_installed_and_the_old_one_taken_out_afterwards(post: Post) -> None:
    stranger = "3 1 1 " + "ab" * 32
    post.configure("")
    post.publish(post.key(1), stranger)
    done = post.world.run("stamp", "post", "--reissue")
    assert done.status == 0, done.err
    told = flat(done.err)
    steps = [
        "TLSA record for the new key",
        "resolvers may have the TLSA records of before",
        "installing",
        "are taken out",
    ]
    assert sorted(steps[:2] + steps[3:], key=told.index) == steps[:2] + steps[3:], told
    assert post.served() == post.key(2)
    for server in (PRIMARY, SECONDARY):
        wait_until(lambda server=server: post.records(server) == sorted([post.key(2), stranger]))  # type: ignore[misc]
    back = post.world.run("undo", "post")
    assert back.status == 0, back.err
    assert post.served() == post.key(1)
    assert post.key(1) in post.records()
    assert post.world.run("install", "post").status == 0
    assert post.records() == sorted([post.key(2), stranger])
    checked = post.world.run("check", f"smtp://{MAIL}:{post.mail.ports['smtp']}")
    assert "TLSA 3 1 1 matches what is served" in flat(checked.out), checked.out


def test_a_long_ttl_is_left_to_the_next_run_and_mail_goes_on_with_the_old_key(post: Post) -> None:
    old = post.newest()
    post.configure("")
    post.publish(post.key(old), ttl=3600)
    waiting = post.world.run("stamp", "post", "--reissue")
    assert waiting.status == 3, waiting.err
    assert f"edition {old + 1} of “post” is installed from 20" in flat(waiting.err)
    assert post.records() == sorted([post.key(old), post.key(old + 1)])
    assert post.served() == post.key(old)
    again = post.world.run("renew")
    assert again.status == 0, "nobody has to act"
    assert "until then resolvers may have its TLSA records" in flat(again.out + again.err), again.out + again.err
    assert post.served() == post.key(old)
    with closing(sqlite3.connect(post.world.home / "ledger.db")) as ledger, ledger:  # an hour goes by
        ledger.execute("UPDATE tlsa_change SET seen = seen - 3600")
    done = post.world.run("renew")
    assert done.status == 0, done.out + done.err
    assert post.served() == post.key(old + 1)
    assert post.records() == [post.key(old + 1)]


def test_where_nobody_can_write_the_zone_the_install_waits_for_a_person_and_says_what_to_publish(post: Post) -> None:
    old = post.newest()
    post.configure("")
    config = post.world.config.read_text()
    post.world.config.write_text(config.replace('via = "primary"\nproof = "dns-01"\n', 'via = "front"\n'))
    post.world.site("mail", [MAIL])
    post.publish(post.key(old), ttl=1)
    waiting = post.world.run("stamp", "post", "--reissue")
    assert waiting.status == 3, waiting.err
    assert f"record {post.place} type TLSA value {post.key(old + 1)}" in flat(waiting.err)
    assert post.records() == [post.key(old)]
    why = flat(post.world.run("why", "post").out)
    assert "waits for TLSA records that you create" in why, why
    assert post.key(old + 1) in why
    post.world.change(f"update add {post.place} 1 TLSA {post.key(old + 1)}")
    done = post.world.run("install", "post")
    assert done.status == 0, done.err
    assert f"may be removed: {post.key(old)}" in flat(done.err)
    assert post.served() == post.key(old + 1)


def test_a_key_that_stays_needs_no_other_record(post: Post) -> None:
    old = post.newest()
    post.configure("key_stays = true")
    post.publish(post.key(old), ttl=3600)
    done = post.world.run("stamp", "post", "--reissue")
    assert done.status == 0, done.err
    assert post.key(old + 1) == post.key(old)
    assert post.world.edition("post", old + 1) != post.world.edition("post", old)
    assert post.records() == [post.key(old)]
    shown = post.world.run("certificate", "show", "post")
    assert "key_stays" in shown.out
    post.publish(post.key(old), ttl=1)
    replaced = post.world.run("revoke", "post", "--reason", "key-compromise", "--and-replace", "--yes")
    assert replaced.status == 0, replaced.err
    assert post.served() == post.key(old + 2) != post.key(old), "a key that others may have does not stay"
    assert post.records() == [post.key(old + 2)]


@pytest.mark.parametrize("share", [0.2, 0.5, 0.8, 0.98])
def test_killed_at_any_step_mail_is_never_without_a_record_that_fits_and_the_next_run_ends_it(
    post: Post, share: float
) -> None:
    post.configure("")
    newest, older = post.newest(), post.newest() - 2
    assert post.key(newest) != post.key(older)
    counts, command = post.world.folder / "places", ["install", "post"]
    post.publish(post.served(), ttl=1)
    assert post.world.run(*command, "--edition", str(older)).status == 0
    if not PLACES:
        done, places = killed_at(0, counts, post.world.config, command)
        assert done.returncode == 0, done.stderr
        PLACES.append(len(places))
        assert post.world.run(*command, "--edition", str(older)).status == 0
    assert post.records() == [post.key(older)]
    done, _ = killed_at(max(int(share * PLACES[0]), 1), counts, post.world.config, command)
    assert done.returncode == -9
    assert post.served() in post.records()
    again = post.world.run("renew")
    assert again.status == 0, again.out + again.err
    assert post.served() == post.key(newest)
    assert post.records() == [post.key(newest)]


PLACES: list[int] = []
"""How many there are, once that is known."""


def wait_until(condition: Callable[[], bool]) -> None:
    end = time.monotonic() + 10
    while not condition():
        assert time.monotonic() < end
        time.sleep(0.1)
