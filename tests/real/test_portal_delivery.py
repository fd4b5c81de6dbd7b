"""What a portal delivers is taken in, or told by its fault: the wrong key, the wrong order, a chain with a gap."""

import io
import re
import subprocess
import zipfile
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, pkcs12
from portal_world import BLOCK, NAME, RULE, PortalWorld, flat, portal_world, stand

from inkstamp.pki import csr, keys
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.kinds import KeyKind

WILD = "*.saltmarsh.test"


@pytest.fixture
def world(tmp_path: Path) -> Iterator[PortalWorld]:
    with portal_world(tmp_path) as made:
        yield made


def issue_for(world: PortalWorld, request: str, **changes: object) -> bytes:
    """What the portal would issue for a request, with a fault."""
    key = x509.load_pem_x509_csr(request.encode()).public_key()
    made = world.portal.state.hierarchy
    options = {"names": [NAME], "issuer": made.lower, **changes}
    return to_pem(made.leaf(key, options.pop("names"), options.pop("issuer"), **options))  # type: ignore[arg-type]


def test_what_does_not_belong_to_the_order_is_told_by_its_fault_and_nothing_is_written(world: PortalWorld) -> None:
    old = world.issued()
    first = world.download(old)
    assert world.run("collect", str(first)).status == 0
    (old_request,) = {each.request for each in world.portal.state.orders()}
    ordered = world.run("order", "shop", "--reissue")
    (request,) = BLOCK.findall(ordered.out)
    stranger = csr.to_pem(csr.make(keys.make(KeyKind.ECDSA_P256), csr.for_names([NAME]))).decode()
    hierarchy = world.portal.state.hierarchy
    above = to_pem(hierarchy.lower.certificate) + to_pem(hierarchy.upper.certificate)
    soon = timedelta(days=-3)
    cases = [
        (issue_for(world, stranger), "not the key of order 2"),
        (issue_for(world, stranger, names=["other.test"]), "matches no key here"),
        (issue_for(world, old_request), "was issued for the CSR of edition 1, not for that of order 2"),
        (first.read_bytes(), "is edition 1 of “shop” already"),
        (above, "are all CA certificates; the server certificate is missing"),
        (issue_for(world, request, names=["other.test"]) + above, f"the certificate lacks {NAME}"),
        (issue_for(world, request, age=soon) + above, "valid from"),
        (issue_for(world, request, age=timedelta(days=99), lifetime=timedelta(days=90)) + above, "valid from"),
        (issue_for(world, request), "give the CA's intermediates too"),
        (b"hello", "no certificate was found in the input"),
        (bytes(17_000_000), "larger than 16 MiB"),
    ]
    for data, told in cases:
        file = world.folder / "brought"
        file.write_bytes(data)
        done = world.run("collect", "shop", str(file))
        assert done.status == 1, told
        assert told in flat(done.err), flat(done.err)
        assert not (world.home / "shelf" / "shop" / "0002").exists()
    assert stand(world)[0] == "waiting for you"
    assert world.run("collect", "nowhere.zip").status == 1
    file.write_bytes(issue_for(world, request) + above)
    preview = world.run("collect", str(file), "--preview")
    assert preview.status == 0
    assert "this would be imported, from order 2" in preview.out
    assert not (world.home / "shelf" / "shop" / "0002").exists()
    assert world.run("collect", str(file)).status == 0
    repeated = world.run("collect", str(file))
    assert repeated.status == 0
    assert "edition 2 is on the shelf already" in flat(repeated.out)


def test_a_sealed_pkcs12_is_taken_in_and_a_name_that_the_ca_added_does_no_harm(world: PortalWorld) -> None:
    (request,) = BLOCK.findall(world.run("order", "shop").out)
    issued = x509.load_pem_x509_certificate(issue_for(world, request, names=[NAME, "www.shop.saltmarsh.test"]))
    hierarchy = world.portal.state.hierarchy
    above = [hierarchy.lower.certificate, hierarchy.upper.certificate]
    file, secret = world.folder / "given.pfx", world.folder / "secret"
    file.write_bytes(pkcs12.serialize_key_and_certificates(None, None, issued, above, BestAvailableEncryption(b"tide")))
    assert "needs its passphrase" in flat(world.run("collect", str(file)).err)
    secret.write_text("tide\n")
    secret.chmod(0o600)
    done = world.run("collect", str(file), "--passphrase-file", str(secret))
    assert done.status == 0, done.err
    assert "the CA added www.shop.saltmarsh.test" in flat(done.out)
    assert world.run("stamp", "shop").status == 0
    assert "edition 1 is valid and installed; nothing to do" in world.run("stamp", "shop").out


def test_another_sites_certificate_is_led_to_its_own_order(world: PortalWorld) -> None:
    world.site("ferry", ["ferry.saltmarsh.test"])
    ferry = world.run("order", "ferry.saltmarsh.test", "--authority", "fogbell", "--as", "ferry")
    world.run("order", "shop")
    (request,) = BLOCK.findall(ferry.out)
    hierarchy = world.portal.state.hierarchy
    file = world.folder / "f.pem"
    file.write_bytes(b"".join([issue_for(world, request, names=["ferry.saltmarsh.test"]),
                               to_pem(hierarchy.upper.certificate), to_pem(hierarchy.lower.certificate)]))  # fmt: skip
    done = world.run("collect", "shop", str(file))
    assert "matches order 1 of “ferry” fix: import it there: inkstamp collect ferry FILE…" in flat(done.err)
    done = world.run("collect", str(file))  # without a name, the key finds its order
    assert done.status == 0, done.err
    assert "ferry: edition 1 is on the shelf" in done.out


def test_a_missing_intermediate_is_fetched_only_when_that_is_allowed(world: PortalWorld) -> None:
    page = world.issued()
    with zipfile.ZipFile(io.BytesIO(world.get(f"{page}/download.zip"))) as archive:
        parts = {name.rpartition("/")[2]: archive.read(name) for name in archive.namelist()}
    folder = world.folder / "parts"
    folder.mkdir()
    for name in (next(n for n in parts if n.startswith("cert_")), "bundle (2).crt"):
        (folder / name).write_bytes(parts[name])
    refused = world.run("collect", "shop", str(folder))
    assert refused.status == 1
    assert f"intermediate missing; its URL is {world.portal.url}/issuer/lower.cer" in flat(refused.err)
    assert "--fetch" in refused.err
    fetched = world.run("collect", "shop", str(folder), "--fetch")
    assert fetched.status == 0, fetched.err
    assert "fetching a missing intermediate from" in flat(fetched.err)
    assert len(x509.load_pem_x509_certificates((world.home / "shelf/shop/0001/served.pem").read_bytes())) == 3


def test_both_paths_of_a_cross_signed_root_are_shown_and_the_wanted_one_is_served(world: PortalWorld) -> None:
    page = world.issued()
    file = str(world.download(page))
    shown = flat(world.run("collect", "shop", file, "--preview").out)
    assert "2 paths to trusted roots" in shown
    assert re.search(r"chosen ends \S+, root “Fogbell Root 2”", shown)
    assert re.search(r"other ends \S+, root “Fogbell Root 1”", shown)
    unknown = world.run("collect", "shop", file, "--preview", "--root", "Unknown Root")
    assert "no path leads to it; “Fogbell Root 2” is taken" in flat(unknown.out)
    world.configure(rule=RULE + 'root = "Fogbell Root 1"')
    assert world.run("collect", "shop", file).status == 0
    served = world.home / "shelf/shop/0001/served.pem"
    assert len(x509.load_pem_x509_certificates(served.read_bytes())) == 4
    old = world.folder / "old.pem"
    old.write_bytes(to_pem(world.portal.state.hierarchy.old.certificate))
    verified = subprocess.run(
        ["openssl", "verify", "-no-CApath", "-CAfile", str(old), "-untrusted", str(served), str(served)],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert verified.returncode == 0, verified.stderr
