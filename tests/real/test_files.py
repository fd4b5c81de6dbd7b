"""Any other program: copies in the form, with the owner and mode, and by the commands that the configuration says."""

import grp
import os
import stat
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.serialization import pkcs12
from world import Nginx, World, make_tls_pair, real_world, running, write_nginx

from inkstamp.view.handshake import shake_hands

ADDRESS, NAME = "127.0.0.9", "store.saltmarsh.test"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.site("store", [NAME])
        made.nameserver.table[NAME] = [ADDRESS]
        yield made


@pytest.fixture(scope="module")
def program(world: World, folder: Path) -> Iterator[Nginx]:
    """A program that nothing is known of but its files: it serves TLS from two of them."""
    made = write_nginx(folder / "program", world.nginx.http_port, world.nginx.https_port)
    cert, key = make_tls_pair(made.folder, NAME)
    made.sites_file(
        f"server {{ listen {ADDRESS}:{made.https_port} ssl; ssl_certificate {cert}; ssl_certificate_key {key}; }}\n"
        f"server {{ listen {ADDRESS}:{made.http_port}; "
        f"location / {{ proxy_pass http://127.0.0.1:{made.http_port}; proxy_set_header Host $host; }} }}\n"
    )
    (made.folder / "words").write_text("tide and mud\n")
    (made.folder / "words").chmod(0o600)
    with running(made.command("-g", "daemon off;"), made.folder / "log", made.https_port, address=ADDRESS):
        yield made


def entry(world: World, program: Nginx, more: str = "", reload: str = "") -> None:
    """Configure the program's table, and the certificate once."""
    cert, key = program.folder / f"{NAME}.pem", program.folder / f"{NAME}.key"
    group = grp.getgrgid(os.getgid()).gr_name
    quoted = ", ".join(f'"{each}"' for each in program.command("-s", "reload"))
    tested = ", ".join(f'"{each}"' for each in program.command("-t"))
    text = world.config.read_text().partition("\n[server.store]")[0]
    copies = (
        f'{{ path = "{cert}", form = "served" }}, {{ path = "{key}", form = "key", mode = "0640", group = "{group}" }},'
        f'{{ path = "{program.folder}/store.p12", form = "pkcs12", passphrase_file = "{program.folder}/words" }}'
    )
    world.config.write_text(
        f'{text}\n[server.store]\nkind = "files"\ntest = [{tested}]\nreload = [{reload or quoted}]\n'
        f'look = ["{ADDRESS}:{program.https_port}"]\nfiles = [{copies}{more and ", "}{more}]\n'
        f'[certificate.store]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["store"]\n'
    )


def served(program: Nginx) -> bytes:
    found = shake_hands(ADDRESS, program.https_port, NAME)
    return found.chain[0].public_bytes(serialization.Encoding.DER)


def state(folder: Path) -> dict[str, tuple[bytes, int]]:
    """Bytes and modes of all files of a folder but logs."""
    return {
        each.name: (each.read_bytes(), stat.S_IMODE(each.stat().st_mode))
        for each in folder.iterdir() if each.is_file() and "log" not in each.name and "pid" not in each.name
    }  # fmt: skip


def test_a_program_gets_its_files_takes_them_and_gets_those_of_before_back(world: World, program: Nginx) -> None:
    entry(world, program)
    before = state(program.folder)
    done = world.run("stamp", "store")
    assert done.status == 0, done.err
    assert served(program) == world.edition("store", 1)
    key = program.folder / f"{NAME}.key"
    assert stat.S_IMODE(key.stat().st_mode) == 0o640
    assert key.read_bytes() == (world.home / "shelf" / "store" / "0001" / "key.pem").read_bytes()
    store = pkcs12.load_pkcs12((program.folder / "store.p12").read_bytes(), b"tide and mud")
    assert store.cert is not None
    assert store.cert.certificate.public_bytes(serialization.Encoding.DER) == world.edition("store", 1)
    assert len(store.additional_certs) == 1
    after = state(program.folder)
    assert world.run("install", "store").status == 0
    assert state(program.folder) == after  # a PKCS#12 that holds the same is not written anew
    preview = world.run("install", "store", "--edition", "1", "--preview").flat
    assert "nothing" in preview or "no " in preview
    assert world.run("undo", "store").status == 0  # of the first one: the other changed nothing
    assert state(program.folder) == before


@pytest.mark.parametrize(
    ("more", "reload", "told"),
    [
        ("", '"/bin/false"', "could not be reloaded"),
        ('{ path = "FOLDER/strange", form = "leaf", owner = "nobody-at-all" }', "", "no such user or group"),
        ('{ path = "FOLDER/link/leaf.pem", form = "leaf" }', "", "symbolic link “link”"),
        ('{ path = "FOLDER/leaf-link", form = "leaf" }', "", "is a symbolic link"),
        ('{ path = "FOLDER/words/leaf", form = "leaf" }', "", "there is no folder"),
        ('{ path = "FOLDER/not-there/leaf", form = "leaf" }', "", "there is no folder"),
    ],
)
def test_an_install_that_fails_leaves_bytes_and_modes_as_they_were(
    world: World, program: Nginx, more: str, reload: str, told: str
) -> None:
    elsewhere = program.folder.parent / "elsewhere"
    elsewhere.mkdir(exist_ok=True)
    if "/link/" in more:
        if os.geteuid() != 0:
            pytest.skip("only root can make a link that is a stranger's")
        (program.folder / "link").symlink_to(elsewhere)
        os.chown(program.folder / "link", 65534, 65534, follow_symlinks=False)
    if "leaf-link" in more:
        (program.folder / "leaf-link").symlink_to(elsewhere / "leaf")
    entry(world, program, more.replace("FOLDER", str(program.folder)), reload)
    before = state(program.folder)
    # As its file says: a worker of before the last reload may still answer in this moment.
    live = x509.load_pem_x509_certificate(before[f"{NAME}.pem"][0]).public_bytes(serialization.Encoding.DER)
    done = world.run("stamp", "store", "--reissue")
    assert (done.status, told in done.flat) == (1, True), done.err
    assert state(program.folder) == before
    assert served(program) == live
    assert list(elsewhere.iterdir()) == []
    for name in ("link", "leaf-link"):
        (program.folder / name).unlink(missing_ok=True)


def test_files_named_by_edition_and_expiry_take_the_place_of_those_of_before(world: World, program: Nginx) -> None:
    dated = program.folder / "dated"
    dated.mkdir()
    files = (
        f'{{ path = "{dated}/{{certificate}}-{{year}}-{{month}}-{{edition}}.pem", form = "served" }}, '
        f'{{ path = "{dated}/{{edition}}.key", form = "key" }}, {{ path = "{dated}/{{edition}}.p12", form = "pkcs12", '
        f'passphrase_file = "{program.folder}/words" }}'
    )
    entry(world, program, files)

    def names() -> list[str]:
        return sorted(each.name for each in dated.iterdir())

    def expected(edition: int) -> list[str]:
        leaf = x509.load_der_x509_certificate(world.edition("store", edition))
        return sorted([f"store-{leaf.not_valid_after_utc:%Y-%m}-{edition}.pem", f"{edition}.key", f"{edition}.p12"])

    assert world.run("stamp", "store", "--reissue").status == 0
    first = world.run("status", "--json").json["certificates"][0]["edition"]
    assert names() == expected(first)
    (dated / f"{first + 7}.key").write_text("somebody else's")
    assert world.run("stamp", "store", "--reissue").status == 0
    preview = world.run("install", "store", "--edition", str(first), "--preview")
    assert f"{first + 1}.key on store (removed)" in preview.flat
    assert "PRIVATE KEY" not in preview.out + preview.err
    assert names() == sorted([*expected(first + 1), f"{first + 7}.key"])
    back = world.run("undo", "store")
    assert back.status == 0, back.err
    assert names() == sorted([*expected(first), f"{first + 7}.key"])
    entry(world, program, files, '"/bin/false"')
    assert world.run("install", "store").status == 1
    assert names() == sorted([*expected(first), f"{first + 7}.key"])  # all is as before
    for wrong, told in (
        (f'{{ path = "{dated}/{{month}}.pem", form = "served" }}', "is the same name every year"),
        (f'{{ path = "{dated}/{{edition}}/leaf.pem", form = "leaf" }}', "changes with each edition"),
        (f'{{ path = "{dated}/{{day}}.pem", form = "leaf" }}', "known: {certificate}, {edition}, {year}, {month}"),
    ):
        entry(world, program, wrong)
        assert told in world.run("survey").flat
    entry(world, program)
