"""One certificate for web, SMTP, IMAP and POP at once, on a real nginx, Postfix and Dovecot."""

import hashlib
import os
import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from more_servers import Mail, mail
from world import World, real_world

from inkstamp.pki.tlsa import record_for
from inkstamp.standins.ports import free_ports

WEB, MAIL = "club.saltmarsh.test", "mail.saltmarsh.test"

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="Postfix starts as root alone")


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.site("club", [WEB])
        made.site("mail", [MAIL])
        yield made


@pytest.fixture(scope="module")
def post(world: World, folder: Path) -> Iterator[Mail]:
    with mail(folder / "mail", free_ports(5), MAIL) as made:
        entry = f'[certificate.club]\nnames = ["{WEB}", "{MAIL}"]\nauthority = "quayside"\nvia = "front"\n'
        install = 'install = ["front", "post", "boxes"]\n'
        world.config.write_text(world.config.read_text() + made.entries() + entry + install)
        yield made


def seen(post: Mail, service: str, name: str = MAIL) -> tuple[bytes, int]:
    """The leaf (DER) and the number of certificates that `openssl` is shown at a mail service's port."""
    upgrade = [] if service.endswith("s") else ["-starttls", service]
    command = ["openssl", "s_client", "-connect", f"127.0.0.1:{post.ports[service]}", *upgrade, "-servername", name]
    done = subprocess.run([*command, "-showcerts"], input="", capture_output=True, text=True, timeout=20, check=False)
    found = re.findall(r"-----BEGIN CERTIFICATE-----.*?-----END CERTIFICATE-----", done.stdout, re.DOTALL)
    assert found, done.stdout + done.stderr
    leaf = x509.load_pem_x509_certificate(found[0].encode())
    return leaf.public_bytes(serialization.Encoding.DER), len(found)


def everywhere(world: World, post: Mail) -> set[bytes]:
    return {world.served(WEB), *(seen(post, each)[0] for each in post.ports)}


def test_one_certificate_is_served_by_web_smtp_imap_and_pop_and_undo_brings_the_old_ones_back(
    world: World, post: Mail
) -> None:
    before, first = post.texts(), seen(post, "smtp")[0]
    done = world.run("stamp", "club")
    assert done.status == 0, done.err
    post.expect_sound()
    for each in ("smtp", "smtps", "imap", "imaps", "pop3"):
        assert seen(post, each) == (world.edition("club", 1), 2), each
    assert world.served(WEB) == world.edition("club", 1)
    shelf = world.home / "shelf" / "club" / "current"
    main_cf, master_cf, dovecot = post.texts()
    assert main_cf.endswith(f"\nsmtpd_tls_cert_file={shelf}/served.pem\nsmtpd_tls_key_file =\n    {shelf}/key.pem\n")
    wanted = f"  -o smtpd_tls_cert_file={shelf}/served.pem -o {{ smtpd_tls_key_file = {shelf}/key.pem }}\n"
    assert wanted in master_cf
    assert f"\nssl_cert = <{shelf}/served.pem  # of our own making\nssl_key = <{shelf}/key.pem\n" in dovecot
    assert len(main_cf.splitlines()) == len(before[0].splitlines())
    assert world.run("stamp", "club", "--reissue").status == 0
    assert everywhere(world, post) == {world.edition("club", 2)}
    assert post.texts() == (main_cf, master_cf, dovecot)
    targets = [f"{each}://{MAIL}:{post.ports[each]}" for each in ("smtp", "imap", "pop3")]
    checked = world.run("--json", "check", *targets)
    assert checked.status == 0, checked.err
    for report in checked.json["names"]:
        assert report["name"] in targets
        assert report["chain"][0]["sha256"] == hashlib.sha256(world.edition("club", 2)).hexdigest()
        assert {each["topic"] for each in report["findings"]} >= {"trust", "key", "protocols"}
        assert "plain HTTP" not in {each["topic"] for each in report["findings"]}
    shown = x509.load_der_x509_certificate(world.edition("club", 2))
    place = f"_{post.ports['smtp']}._tcp.{MAIL}"
    for record, secure, severity in (
        ("", True, "note"),
        (str(record_for(shown.public_key())), True, "ok"),
        (str(record_for(shown.public_key())), False, "note"),
        (f"3 1 1 {'00' * 32}", True, "bad"),
        (f"3 1 1 {'00' * 32}", False, "warn"),
        (f"1 1 1 {'00' * 32}", True, "warn"),
    ):
        world.nameserver.records[place, "TLSA"] = [record] if record else []
        world.nameserver.secure = secure
        (report,) = world.run("--json", "check", targets[0]).json["names"]
        (finding,) = [each for each in report["findings"] if each["topic"] == "tlsa"]
        assert finding["severity"] == severity, finding
        assert severity == "ok" or not secure or f"{place} TLSA {record_for(shown.public_key())}" in finding["remedy"]
    world.nameserver.secure = False
    sites = {each["site"]["server"]: each for each in world.run("--json", "survey").json["sites"]}
    assert sites["post"]["certificate"]["names"] == [WEB, MAIL] == sites["boxes"]["certificate"]["names"]
    for _ in range(2):
        assert world.run("undo", "club").status == 0
    assert post.texts() == before
    post.expect_sound()
    assert seen(post, "smtp")[0] == seen(post, "pop3")[0] == first


def test_a_certificate_for_mail_alone_is_looked_at_where_mail_is(world: World, post: Mail) -> None:
    text = world.config.read_text()
    entry = f'[certificate.postal]\nnames = ["{MAIL}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["post"]\n'
    world.config.write_text(text + entry)
    done = world.run("stamp", "postal")
    assert done.status == 0, done.out + done.err
    assert seen(post, "smtp")[0] == world.edition("postal", 1)
    assert world.run("undo", "postal").status == 0
    world.config.write_text(text)


def test_a_name_of_its_own_in_dovecot_gets_the_certificate_and_others_keep_theirs(world: World, post: Mail) -> None:
    names = post.dovecot.parent / "names"
    names.mkdir()
    other = "other.saltmarsh.test"
    world.site("other", [other])
    pair = f'  ssl_cert = <{post.folder}/{MAIL}.pem\n  ssl_key = "<{post.folder}/{MAIL}.key"\n'
    own = f"local_name {other} {{\n  # its own\n{pair}}}\n"
    (names / "other.conf").write_text(own)
    text, default = post.dovecot.read_text(), seen(post, "imaps")[0]
    entry = f'[certificate.other]\nnames = ["{other}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["boxes"]\n'
    world.config.write_text(world.config.read_text() + entry)
    done = world.run("install", "other") if world.run("stamp", "other").status else world.run("status")
    assert done.status in (0, 3), done.err
    assert seen(post, "imaps", other)[0] == world.edition("other", 1)
    assert seen(post, "imaps")[0] == default
    assert post.dovecot.read_text() == text
    shelf = world.home / "shelf" / "other" / "current"
    expected = own.replace(f"{post.folder}/{MAIL}.pem", f"{shelf}/served.pem")
    assert (names / "other.conf").read_text() == expected.replace(f'"<{post.folder}/{MAIL}.key"', f"<{shelf}/key.pem")


@pytest.mark.parametrize(
    ("file", "text", "told"),
    [
        ("main_cf", "default_process_limit = many\n", "mail/postfix/log for what is wrong"),
        ("master_cf", "nonsense here\n", "line 12"),
        ("dovecot", "nonsense = here\n", "Unknown setting: nonsense"),
    ],
)
def test_a_configuration_that_is_broken_before_is_told_with_its_place_and_left(
    world: World, post: Mail, file: str, text: str, told: str
) -> None:
    path: Path = getattr(post, file)
    good, live = path.read_text(), seen(post, "imap")[0]
    path.write_text(good + text)
    broken = post.texts()
    done = world.run("stamp", "club", "--reissue")
    left = post.texts()
    path.write_text(good)
    assert (done.status, left) == (1, broken)
    assert "is broken already" in done.flat
    assert told in done.flat
    assert seen(post, "imap")[0] == live


def test_a_mail_server_that_is_down_has_every_file_put_back(world: World, post: Mail) -> None:
    before = post.texts()
    postfix = ["postfix", "-c", str(post.main_cf.parent)]
    subprocess.run([*postfix, "stop"], check=True, capture_output=True)
    try:
        done = world.run("stamp", "club", "--reissue")
        assert (done.status, "could not be reloaded" in done.flat) == (1, True)
        assert post.texts() == before
    finally:
        subprocess.run([*postfix, "start"], check=True, capture_output=True)
    again = world.run("stamp", "club")
    assert again.status == 0, again.err
    assert len(everywhere(world, post)) == 1
