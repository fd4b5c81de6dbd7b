"""Certificates that servers have already: taken over with their keys, and nothing changed until the next edition."""

import shutil
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID
from world import World, make_tls_pair, real_world

GROUP = '\n[group.web]\nauthority = "quayside"\nvia = "front"\n'


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.config.write_text(made.config.read_text() + GROUP)
        yield made


def with_certificate(world: World, label: str, *, key_of: str = "", encrypted: bool = False) -> Path:
    """A site whose certificate somebody got by other means; returns the folder of its files."""
    name = f"{label}.saltmarsh.test"
    names = [name, f"www.{name}"]
    world.site(label, names)
    assert world.run("stamp", *names, "--as", label).status == 0
    folder = world.folder / "elsewhere" / label
    shutil.copytree(world.home / "shelf" / label / "0001", folder)
    assert world.run("remove", label, "--servers", "undo", "--keys", "destroy", "--yes").status == 0
    key = folder / "key.pem"
    if key_of:
        shutil.copy(world.folder / "elsewhere" / key_of / "key.pem", key)
    served = key
    if encrypted:
        loaded = serialization.load_pem_private_key(key.read_bytes(), None)
        served = folder / "open.pem"
        key.rename(served)
        key.write_bytes(
            loaded.private_bytes(
                serialization.Encoding.PEM,
                serialization.PrivateFormat.PKCS8,
                serialization.BestAvailableEncryption(b"x"),
            )
        )
    file = world.nginx.folder / "sites" / f"{label}.conf"
    tls = (
        f"    listen 127.0.0.1:{world.nginx.https_port} ssl;\n    ssl_certificate {folder}/served.pem;\n"
        f"    ssl_certificate_key {folder}/key.pem;\n"
    )
    if not key_of and not encrypted:
        file.write_text(file.read_text().replace("    server_name", f"{tls}    server_name", 1))
        world.nginx.reload()
    return folder


@pytest.mark.parametrize("where", ["the file", "the roster"])
def test_a_certificate_whose_key_is_not_there_is_watched_and_asks_for_a_csr_when_its_time_comes(
    world: World, where: str
) -> None:
    label = "tiller" if where == "the file" else "helm"
    name = f"{label}.saltmarsh.test"
    folder = with_certificate(world, label)
    more = ["--group", "web"] if where == "the roster" else []
    source = ["--certificate", str(folder / "served.pem")] if where == "the file" else [name]
    if where == "the file":
        refused = world.run("adopt", *source)
        assert (refused.status, "--key-elsewhere" in refused.flat) == (2, True), refused.err
        more += ["--via", "front"]
    done = world.run("adopt", *source, *more, "--key-elsewhere")
    assert done.status == 0, done.err
    assert world.edition(name, 1) == world.served(name)
    assert "serves edition 1, the newest" in world.run("check", name).flat
    assert world.run("renew").status == 0
    assert world.run("install", name).status == 2
    waits = world.run("stamp", name, "--reissue")
    assert (waits.status, f"inkstamp stamp {name} --csr FILE" in waits.flat) == (3, True), waits.err


@pytest.mark.parametrize("where", ["the file", "the roster"])
def test_what_a_site_has_becomes_its_first_edition_and_the_next_one_can_be_undone(world: World, where: str) -> None:
    label = "bow" if where == "the file" else "cox"
    name = f"{label}.saltmarsh.test"
    folder = with_certificate(world, label)
    site = world.nginx.folder / "sites" / f"{label}.conf"
    before, config = site.read_bytes(), world.config.read_text()
    asked = ["adopt", name, *(["--group", "web", "--customer", "Crew"] if where == "the roster" else [])]
    preview = world.run(*asked, "--preview")
    assert preview.status == 0, preview.err
    assert "would be adopted" in preview.out
    assert world.config.read_text() == config
    orders = world.ca.orders()
    done = world.run(*asked)
    assert done.status == 0, done.err
    assert site.read_bytes() == before
    assert world.edition(name, 1) == world.served(name)
    assert (world.home / "shelf" / name / "0001" / "key.pem").read_bytes() == (folder / "key.pem").read_bytes()
    assert world.run("renew").status == 0
    assert (world.ca.orders(), site.read_bytes()) == (orders, before), "it is good, and where it should be"
    (row,) = [each for each in world.run("status", "--all", "--json").json["certificates"] if each["name"] == name]
    assert (row["state"], row["edition"], row["servers"]) == ("ok", 1, ["front"])
    again = world.run(*asked)
    assert again.status == 1
    assert f"{name} is in certificate “{name}” already" in again.flat

    assert world.run("stamp", name, "--reissue").status == 0
    assert world.served(name) == world.edition(name, 2)
    assert world.run("undo", name).status == 0
    assert site.read_bytes() == before
    assert world.comes_to_serve(name, world.edition(name, 1))
    assert world.run("remove", name, "--servers", "leave", "--yes").status == 0


def test_an_interrupted_adoption_goes_on(world: World) -> None:
    with_certificate(world, "pier")
    world.config.write_text(
        f'{world.config.read_text()}\n[certificate."pier.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
        'names = ["pier.saltmarsh.test", "www.pier.saltmarsh.test"]\ninstall = ["front"]\n'
    )
    done = world.run("adopt", "pier.saltmarsh.test")
    assert done.status == 0, done.err
    assert world.edition("pier.saltmarsh.test", 1) == world.served("pier.saltmarsh.test")


def test_all_sites_are_taken_over_but_those_whose_certificate_nobody_believes(world: World) -> None:
    with_certificate(world, "stroke")
    cert, key = make_tls_pair(world.folder, "shed.saltmarsh.test")
    root = world.site("shed", ["shed.saltmarsh.test"])
    world.nginx.sites_file(
        f"server {{ listen 127.0.0.1:{world.nginx.https_port} ssl; server_name shed.saltmarsh.test; root {root};\n"
        f"  ssl_certificate {cert}; ssl_certificate_key {key}; }}\n",
        "shed",
    )
    world.nginx.reload()
    found = world.run("adopt", "--sites", "--group", "web", "--preview", "--json").json["certificates"]
    # Those of before have what they had, and were given up.
    assert {each["certificate"] for each in found} == {f"{each}.saltmarsh.test" for each in ("bow", "cox", "stroke")}
    assert all(each["error"] is None for each in found)
    named = world.run("adopt", "shed.saltmarsh.test")
    assert named.status == 1
    assert "the certificate for shed.saltmarsh.test cannot be used" in named.flat


@pytest.mark.parametrize(
    ("key_of", "told"), [("stroke", "is not that of the certificate"), ("", "is encrypted")],
    ids=["another's key", "encrypted"],
)  # fmt: skip
def test_a_key_that_does_not_fit_or_is_encrypted_is_refused_and_nothing_is_written(
    world: World, key_of: str, told: str
) -> None:
    label = "oar" if key_of else "rig"
    folder = with_certificate(world, label, key_of=key_of, encrypted=not key_of)
    config = world.config.read_text()
    done = world.run("adopt", "--certificate", str(folder / "served.pem"), "--key", str(folder / "key.pem"))
    assert done.status == 1
    assert told in done.flat
    assert world.config.read_text() == config


def test_a_certificate_without_names_is_refused_with_what_to_do(world: World, tmp_path: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.ORGANIZATION_NAME, "$(reboot)")])
    now = datetime.now(UTC)
    made = x509.CertificateBuilder(subject, subject, key.public_key(), 1, now, now + timedelta(days=9))
    file, key_file = tmp_path / "odd.pem", tmp_path / "odd.key"
    file.write_bytes(made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM))
    pkcs8 = (serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    key_file.write_bytes(key.private_bytes(serialization.Encoding.PEM, *pkcs8))
    done = world.run("adopt", "--certificate", str(file), "--key", str(key_file))
    assert done.status == 1
    assert "the certificate has no names" in done.flat
