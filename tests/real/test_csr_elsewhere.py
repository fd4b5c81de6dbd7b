"""Certificates whose key another machine has: its CSR is the order's, and the key never comes here."""

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from portal_world import NAME, flat, portal_world, stand
from world import World, real_world


def made_elsewhere(folder: Path, *names: str, form: str = "PEM", kind: str = "ec", label: str = "") -> Path:
    """The CSR that another machine made with its own program; its key lies beside it."""
    label = label or names[0].removeprefix("*.")
    key, file = folder / f"{label}.key", folder / f"{label}.csr"
    how = ["ec", "-pkeyopt", "ec_paramgen_curve:P-256"] if kind == "ec" else [kind]
    subprocess.run(
        ["openssl", "req", "-new", "-newkey", *how, "-nodes", "-keyout", key, "-out", file, "-outform", form,
         "-subj", f"/CN={names[0]}", "-addext", f"subjectAltName={','.join(f'DNS:{each}' for each in names)}"],
        check=True, capture_output=True,
    )  # fmt: skip
    return file


def fits(key: Path, served: Path) -> bool:
    """Whether the certificate is for that key, by the word of `openssl`."""
    asked = [
        ["openssl", "pkey", "-in", str(key), "-pubout"],
        ["openssl", "x509", "-in", str(served), "-noout", "-pubkey"],
    ]
    one, other = (subprocess.run(each, check=True, capture_output=True).stdout for each in asked)
    return one == other


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.site("mill", ["mill.saltmarsh.test", "www.mill.saltmarsh.test"])
        made.site("quay", ["quay.saltmarsh.test"])
        yield made


def test_a_csr_from_another_machine_is_certified_handed_out_and_asked_for_again_when_it_is_time(world: World) -> None:
    names = ("mill.saltmarsh.test", "www.mill.saltmarsh.test")
    file = made_elsewhere(world.folder, *names)
    preview = world.run("stamp", "--as", "mill", "--csr", str(file), "--preview")
    assert preview.status == 0, preview.err
    assert "key on another machine" in preview.out
    assert not (world.home / "requests").exists()
    done = world.run("stamp", "--as", "mill", "--csr", str(file))
    assert done.status == 0, done.err
    assert "inkstamp export mill" in done.flat
    shelf = world.home / "shelf" / "mill" / "0001"
    assert fits(file.with_suffix(".key"), shelf / "served.pem")
    assert sorted(each.name for each in shelf.iterdir()) == ["brought.pem", "issuers.pem", "leaf.pem", "served.pem"]
    assert not list(world.home.glob("requests/*"))
    orders = world.ca.orders()
    again = world.run("stamp", "--as", "mill", "--csr", str(file))
    assert (again.status, world.ca.orders()) == (0, orders), again.err
    assert "nothing to do" in again.out
    assert world.run("renew").status == 0
    for form, suffixes in (("served", ["served.pem"]), ("pkcs7", ["p7b"]), ("separate", ["leaf.pem", "issuers.pem"])):
        (out := world.folder / form).mkdir()
        assert world.run("export", "mill", "--form", form, "--into", str(out)).status == 0
        assert sorted(each.name for each in out.iterdir()) == sorted(f"mill-1.{each}" for each in suffixes)
    steps = world.run("export", "mill", "--form", "pkcs7", "--for", "windows", "--into", str(world.folder))
    assert "certreq -accept -machine mill-1.p7b" in steps.out, steps.err
    whole = world.run("export", "mill", "--form", "pkcs12", "--no-passphrase", "--into", str(world.folder))
    assert (whole.status, "needs the key" in whole.err) == (2, True), whole.err
    assert "its key is on another machine" in world.run("install", "mill").err


def test_when_it_is_due_a_person_is_asked_and_may_agree_once_for_all_to_the_same_csr(world: World) -> None:
    file = made_elsewhere(world.folder, "quay.saltmarsh.test")
    assert world.run("order", "--csr", "-", "--as", "quay", data=file.read_text()).status == 3
    assert world.run("prove", "quay").status == 0
    assert world.run("collect", "quay").status == 0
    assert fits(file.with_suffix(".key"), world.home / "shelf" / "quay" / "0001" / "served.pem")
    orders = world.ca.orders()
    waits = world.run("stamp", "quay", "--reissue")
    assert (waits.status, world.ca.orders()) == (3, orders), waits.err
    assert "--csr FILE" in waits.err
    assert "--same-request" in waits.err
    agreed = world.run("stamp", "quay", "--same-request", "--reissue")
    assert agreed.status == 0, agreed.err
    assert "same_request = true" in world.config.read_text()
    assert fits(file.with_suffix(".key"), world.home / "shelf" / "quay" / "0002" / "served.pem")
    assert world.run("stamp", "quay", "--reissue").status == 0
    replacing = world.run("revoke", "quay", "--reason", "key-compromise", "--and-replace", "--yes")
    assert (replacing.status, "since others may have its key" in replacing.flat) == (3, True), replacing.err
    assert world.run("revoke", "quay", "--reason", "key-compromise", "--yes").status == 0
    stolen = world.run("stamp", "quay")
    assert (stolen.status, "since others may have its key" in stolen.flat) == (3, True), stolen.err
    fresh = made_elsewhere(world.folder, "quay.saltmarsh.test", label="fresh")
    assert world.run("stamp", "quay", "--csr", str(fresh)).status == 0
    assert fits(fresh.with_suffix(".key"), world.home / "shelf" / "quay" / "0004" / "served.pem")


@pytest.mark.parametrize(
    ("fault", "told"),
    [
        ("signature", "signature that is not right"),
        ("weak", "1024 bits is too weak"),
        ("names", "does not ask for www.mill.saltmarsh.test"),
        ("more", "asks for other.saltmarsh.test as well"),
        ("none", "holds no CSR"),
        ("here", "is on this machine"),
    ],
)
def test_a_csr_that_will_not_do_is_told_by_its_fault_before_the_ca_hears_of_it(
    world: World, fault: str, told: str
) -> None:
    names = wanted = ["mill.saltmarsh.test", "www.mill.saltmarsh.test"]
    if fault == "names":
        names = names[:1]
    if fault == "more":
        names = [*names, "other.saltmarsh.test"]
    if fault == "here":
        world.site("here", ["here.saltmarsh.test"])
        assert world.run("stamp", "here.saltmarsh.test", "--as", "here").status == 0
        names = wanted = ["here.saltmarsh.test"]
    file = made_elsewhere(world.folder, *names, label=fault, kind="rsa:1024" if fault == "weak" else "ec", form="DER")
    if fault == "signature":
        file.write_bytes(file.read_bytes()[:-1] + bytes([file.read_bytes()[-1] ^ 1]))
    if fault == "none":
        file.write_text("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n")
    before, orders = world.config.read_bytes(), world.ca.orders()
    done = world.run("stamp", *wanted, "--csr", str(file))
    status = 1 if fault == "none" else 2
    assert (done.status, world.config.read_bytes(), world.ca.orders()) == (status, before, orders)
    assert told in done.err, done.err
    assert not list(world.home.glob("requests/*"))


def test_a_portal_is_shown_the_csr_of_the_other_machine_and_its_certificate_taken_in_without_a_key(
    tmp_path: Path,
) -> None:
    with portal_world(tmp_path) as world:
        world.configure(install="")
        world.config.write_text(f"{world.config.read_text()}key_elsewhere = true\n")
        assert stand(world) == ("waiting for you", "inkstamp order shop --csr FILE")
        assert world.run("renew").status == 3
        file = made_elsewhere(tmp_path, NAME)
        page = world.issued("--csr", str(file))
        assert world.run("collect", "shop", str(world.download(page))).status == 0
        shelf = world.home / "shelf" / "shop" / "0001"
        assert fits(file.with_suffix(".key"), shelf / "served.pem")
        assert not (shelf / "key.pem").exists()
        other = made_elsewhere(tmp_path, NAME, label="second")
        assert world.run("order", "shop", "--csr", str(other)).status == 3
        third = made_elsewhere(tmp_path, NAME, label="third")
        refused = world.run("order", "shop", "--csr", str(third))
        assert refused.status == 2
        assert "waits at the portal of" in flat(refused.err)
        assert x509.load_pem_x509_csr((world.home / "orders" / "2" / "request.pem").read_bytes()).subject
