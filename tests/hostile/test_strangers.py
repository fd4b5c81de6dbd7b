"""Each stranger of docs/security.md beside three good certificates, which are renewed in the same run all the same."""

import json
import os
import socket
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from datetime import timedelta
from pathlib import Path

import pytest
from attackers import CUSTOMER, Ground, attacker
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.x509 import ocsp
from fuzzing import NOW, pki
from more_servers import open_folder, ssh_machine
from neighbours import GOOD, ON_PATH, Street, dripping, listening, odd_certificate, saying, words
from world import plain_site

from inkstamp.standins.ports import free_ports

AWAY = "127.0.0.66"
"""Where a stranger's own server answers."""
STRANGER = "stranger.saltmarsh.test"


def entry(street: Street, authority: str = "quayside") -> str:
    """A certificate for the stranger, with a name of its own each time: one that failed before would rest."""
    return (
        f'\n[certificate.stranger-{street.rounds}]\nnames = ["{STRANGER}"]\nauthority = "{authority}"\nvia = "front"\n'
        'install = ["front"]\n'
    )


@contextmanager
def site_of_a_stranger(street: Street, more: str = "", root: str = "", address: str = "127.0.0.1") -> Iterator[None]:
    world = street.world
    folder = Path(root) if root else world.folder / "www" / "stranger"
    if not root:
        folder.mkdir(parents=True, exist_ok=True)
    world.nginx.sites_file(plain_site([STRANGER], world.nginx.http_port, folder, more), "stranger")
    world.nameserver.table[STRANGER] = [address]
    world.nginx.reload()
    try:
        yield
    finally:
        street.forget("stranger")


ANSWERS = {
    "a redirect to what is no URL": saying(b"HTTP/1.1 302 Found\r\nLocation: http://[\r\nContent-Length: 0\r\n\r\n"),
    "a header without end": dripping(b"HTTP/1.1 200 OK\r\nX: ", b"a"),
    "chunks without end": dripping(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", b"1\r\na\r\n"),
    "words that steer a terminal": saying(
        b"HTTP/1.1 200 OK\r\nVia: \x1b]0;owned\x07\r\nContent-Length: 40\r\n\r\n\x1b[2J<0>forged\n\xe2\x80\xaeesrever"
    ),
}


@pytest.mark.parametrize("answer", ANSWERS)
def test_a_customers_site(street: Street, answer: str) -> None:
    port = street.world.nginx.http_port
    with site_of_a_stranger(street, address=AWAY), listening(AWAY, port, ANSWERS[answer]):
        done = street.renew(f"customer with a site: {answer}", entry(street))
    assert done.status == 1
    assert STRANGER in words(done)
    assert not {"\x1b", "\x07", "\u202e"} & set(done.out + done.err)


def test_a_name_with_many_silent_addresses(street: Street) -> None:
    port = street.world.nginx.http_port
    many = [f"127.0.66.{number}" for number in range(1, 9)]
    with site_of_a_stranger(street), ExitStack() as stack:
        street.world.nameserver.table[STRANGER] = many
        for each in many:
            stack.enter_context(listening(each, port, dripping(b"HTTP/1.1 200 OK\r\nX: ", b"a")))
        done = street.renew("customer with a zone: 8 addresses that keep silent", entry(street))
    assert done.status == 1
    assert STRANGER in words(done)


@pytest.mark.parametrize("kind", ["a link", "a byte that is no UTF-8", "a line end"])
def test_a_customers_document_root(street: Street, kind: str) -> None:
    top = street.world.folder / "www"
    prize = street.world.folder / "prize"
    prize.mkdir(exist_ok=True)
    (prize / "file").write_text("precious")
    if kind == "a link":
        root = os.fsdecode(os.fsencode(top / "linked"))
        os.makedirs(root, exist_ok=True)
        with ExitStack() as stack:
            stack.callback(os.unlink, f"{root}/.well-known")
            os.symlink(prize, f"{root}/.well-known")
            stack.enter_context(site_of_a_stranger(street, root=root))
            done = street.renew("customer with a document root: a link", entry(street))
        assert done.status == 1
        assert "symbolic link" in words(done)
    else:
        name = b"m\xfcller" if kind.startswith("a byte") else b"two\nlines"
        bytes_root = os.path.join(os.fsencode(top), name)
        os.makedirs(bytes_root, exist_ok=True)
        text = plain_site([STRANGER], street.world.nginx.http_port, Path("ROOT")).encode()
        site = street.world.nginx.folder / "sites" / "stranger.conf"
        site.write_bytes(text.replace(b"root ROOT;", b'root "' + bytes_root + b'";'))
        street.world.nameserver.table[STRANGER] = ["127.0.0.1"]
        street.world.nginx.reload()
        try:
            done = street.renew(f"customer with a document root: {kind}", entry(street))
            assert done.status == 0, done.err  # such a site is as good as any other
            assert os.listdir(bytes_root) == []
            for form in ((), ("--json",)):
                shown = street.world.run("survey", *form)
                assert "Traceback" not in shown.err
                assert form == () or json.loads(shown.out)["command"] == "survey"
        finally:
            street.forget("stranger")
    assert [each.name for each in prize.iterdir()] == ["file"]


FEATURE = x509.UnrecognizedExtension(x509.ObjectIdentifier("1.3.6.1.5.5.7.1.24"), bytes.fromhex("3006020105020163"))
CERTIFICATES = {
    "a TLS feature that nobody knows": ((FEATURE,), b""),
    "a name of odd bytes": ((x509.UnrecognizedExtension(x509.ObjectIdentifier("2.5.29.31"), b"\x30\x01"),), b""),
    "a mebibyte of dashes behind it": ((), b"-----BEGIN " * 95_000),
}


@pytest.mark.parametrize("kind", CERTIFICATES)
def test_a_customers_certificate_file(street: Street, kind: str) -> None:
    extensions, behind = CERTIFICATES[kind]
    world = street.world
    cert, key = odd_certificate(world.folder, STRANGER, *extensions)
    cert.write_bytes(cert.read_bytes() + behind)
    tls = (
        f"    listen 127.0.0.1:{world.nginx.https_port} ssl;\n    ssl_certificate {cert};\n"
        f"    ssl_certificate_key {key};\n"
    )
    with site_of_a_stranger(street, tls):
        done = street.renew(f"customer with a certificate file: {kind}", entry(street))
        assert done.status == 0, done.err  # it is replaced by a good one
        surveyed = world.run("survey", "--live")
        checked = world.run("check", STRANGER, *(f"{name}.saltmarsh.test" for name in GOOD))
    for each in (surveyed, checked):
        assert "internal error" not in words(each)
        assert "Traceback" not in each.err


CAS = {
    "silent": dripping(b"", b""),
    "headers without end": dripping(b"HTTP/1.1 200 OK\r\n", b"X: a\r\n"),
}


@pytest.mark.parametrize("kind", CAS)
def test_a_hostile_ca(street: Street, kind: str) -> None:
    (port,) = free_ports(1)
    authority = f'\n[authority.pirate]\ndirectory = "https://{AWAY}:{port}/dir"\nagree_terms = true\n' + entry(
        street, "pirate"
    )
    with site_of_a_stranger(street), listening(AWAY, port, CAS[kind]):
        done = street.renew(f"CA: {kind}", authority)
    assert done.status == 1
    assert "stranger" in words(done)


def test_a_hostile_mail_server_and_a_hostile_webhook(street: Street) -> None:
    mail, hook = free_ports(2)
    key = street.world.folder / "hook.key"
    key.write_text("secret")
    key.chmod(0o600)
    messengers = (
        f'\n[messenger.post]\nkind = "mail"\nserver = "{AWAY}:{mail}"\ntls = "none"\nsender = "a@saltmarsh.test"\n'
        f'to = ["b@saltmarsh.test"]\nabout = ["renewed"]\n[messenger.hook]\nkind = "webhook"\n'
        f'url = "https://{AWAY}:{hook}/"\nkey_file = "hook.key"\nabout = ["renewed"]\n'
    )
    with (
        listening(AWAY, mail, dripping(b"220-mail", b"220-more\r\n", 0.2)),
        listening(AWAY, hook, dripping(b"HTTP/1.1 200 OK\r\n", b"X")),
    ):
        done = street.renew("mail server and webhook that never end", messengers)
    assert done.status == 0, done.err
    assert "post: could not send the notification" in words(done)
    assert "hook: could not send the notification" in words(done)


def forged_answer() -> bytes:
    """An OCSP answer in good order that says revoked, by a key that no CA knows."""
    certificate, key = pki()
    builder = ocsp.OCSPResponseBuilder().add_response(
        cert=certificate, issuer=certificate, algorithm=hashes.SHA1(), cert_status=ocsp.OCSPCertStatus.REVOKED,  # noqa: S303
        this_update=NOW, next_update=NOW + timedelta(days=999), revocation_time=NOW, revocation_reason=None,
    )  # fmt: skip
    made = builder.responder_id(ocsp.OCSPResponderEncoding.HASH, certificate).certificates([certificate])
    body = made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.DER)
    return b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(body) + body


ON_THE_WAY = {
    "trailers without end": dripping(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n", b"X: a\r\n"),
    "a forged answer": saying(forged_answer()),
    "a redirect inside": saying(b"HTTP/1.1 302 Found\r\nLocation: http://[::1]:22/\r\nContent-Length: 0\r\n\r\n"),
}


@pytest.mark.parametrize("kind", ON_THE_WAY)
def test_one_who_stands_on_the_way_to_ocsp(street: Street, kind: str) -> None:
    if not street.rounds:
        street.renew("nobody: the first editions")
    asked: list[bytes] = []

    def answer(stream: socket.socket) -> None:
        asked.append(b"")
        ON_THE_WAY[kind](stream)

    with listening(ON_PATH, street.ocsp_port, answer):
        done = street.renew(f"on the way to OCSP: {kind}")
    assert done.status == 0, done.err
    assert asked, "nobody asked for a status"
    assert "revoked" not in words(done) + words(street.world.run("status"))


def test_a_customers_zone_whose_primary_never_answers(street: Street) -> None:
    (port,) = free_ports(1)
    records = street.world.nameserver.records
    records[STRANGER, "SOA"] = [f"ns.{STRANGER}. a.{STRANGER}. 1 1 1 1 1"]
    records[STRANGER, "NS"] = [f"ns{number}.{STRANGER}." for number in range(64)]
    street.world.nameserver.table |= {f"ns{number}.{STRANGER}": [f"127.0.68.{number}"] for number in range(1, 64)}
    more = (
        f'\n[nameserver.theirs]\naddress = "{AWAY}:{port}"\n\n[certificate.stranger-{street.rounds}]\n'
        f'names = ["{STRANGER}"]\nauthority = "quayside"\nproof = "dns-01"\nvia = "theirs"\n'
    )
    with listening(AWAY, port, dripping(b"", b"\x00")):
        done = street.renew("customer with a zone: a primary that never answers", more)
    del records[STRANGER, "SOA"], records[STRANGER, "NS"]
    assert done.status == 1
    assert "stranger" in words(done)


@pytest.mark.needs_root
@pytest.mark.skipif(os.geteuid() != 0, reason="only root has something to give away")
def test_a_user_of_another_machine_who_exchanges_what_copies_go_to(street: Street) -> None:
    (port,) = free_ports(1)
    with (
        open_folder() as top,
        ssh_machine(top / "machine", "127.0.0.1", port) as machine,
        site_of_a_stranger(street),
    ):
        ground = Ground(top)
        more = entry(street).replace('["front"]', '["box"]') + (
            f'\n[server.box]\nkind = "files"\nreach = "ssh://127.0.0.1:{port}"\nssh_config = "{machine.client}"\n'
            f'files = [{{ path = "{ground.file}", form = "combined", mode = "0640", owner = "{CUSTOMER}" }}]\n'
        )
        with attacker(ground.spam_links), attacker(ground.exchange):
            done = street.renew("user of another machine", more)
        assert ground.state() == ground.before
        assert done.status in {0, 1}  # he may well keep his own copy from being written
        assert [each for each in ground.home.rglob(".inkstamp*") if each.lstat().st_uid == 0] == []


@pytest.mark.needs_root
@pytest.mark.skipif(os.geteuid() != 0, reason="only root is misled by others")
@pytest.mark.parametrize("what", ["configuration", "home", "secret"])
def test_a_local_user_who_owns_what_root_would_rely_on(street: Street, what: str) -> None:
    config, home = street.world.config, street.world.home
    mode, owner = config.stat().st_mode, 12345
    try:
        if what == "configuration":
            config.chmod(0o666)
        elif what == "home":
            os.chown(home, owner, owner)
        else:
            os.chown(home / "accounts" / "quayside.pem", owner, owner)
        done = street.world.run(*(("authority", "rollover", "quayside") if what == "secret" else ("status",)))
        told = words(done)
    finally:
        config.chmod(mode)
        os.chown(home, 0, 0)
        os.chown(home / "accounts" / "quayside.pem", 0, 0)
    assert "root must not rely on" in told, told
    assert ("0666" in told) if what == "configuration" else ("12345" in told)


def test_an_exception_that_nobody_foresaw_stays_with_its_certificate_and_is_recorded(
    street: Street, tmp_path: Path
) -> None:
    """One certificate's work throws at each place in turn; the three good ones do not notice."""
    program = tmp_path / "thrower"
    program.write_text(
        "import os, sys\n"
        "from inkstamp.__main__ import main\n"
        "class Panic(BaseException): pass\n"
        "def throw(event, arguments):\n"
        "    if event == os.environ['THROW_AT'] and 'stranger' in str(arguments[0]):\n"
        "        raise (Panic if os.environ['THROW_AT'] == 'inkstamp.order' else ZeroDivisionError)('thrown')\n"
        "sys.addaudithook(throw)\nmain()\n"
    )
    world = street.world
    for place in ("decide", "order", "install", "publish", "prepare", "change", "effect", "look", "record"):
        with site_of_a_stranger(street):
            before = (world.nginx.folder / "sites" / "stranger.conf").read_bytes()
            done = street.renew(f"an exception at {place}", entry(street), program=str(program),
                                env={"THROW_AT": f"inkstamp.{place}"})  # fmt: skip
            assert done.status == 1, (place, done.out, done.err)
            assert "internal error" in words(done), place
            after = (world.nginx.folder / "sites" / "stranger.conf").read_bytes()
            assert after == before, f"what was changed before {place} was not put back"
            name = f"stranger-{street.rounds - 1}"
            shown = world.run("why", name, "--debug")
            assert "thrown" in shown.out, (place, shown.out)
            assert "Traceback" in shown.out
            assert "Traceback" not in world.run("why", name).out
            assert world.left_behind() == []
    with site_of_a_stranger(street):
        assert street.renew("nothing thrown any more", entry(street)).status == 0
