"""The real ACME CA in all its settings: whatever it is told, a certificate comes at the first try."""

import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from world import World, real_world

from inkstamp.acme.jws import b64url
from inkstamp.pki.certificates import short_name

NAMES = [f"{name}.saltmarsh.test" for name in ("rowing", "bakery", "museum")]


@contextmanager
def ca(
    folder: Path, *, strict: bool = False, settings: Mapping[str, object] | None = None, **env: str
) -> Iterator[World]:
    usual = {"nonces_rejected": "0", **env}
    with real_world(folder, ca_env=usual, ca_settings=settings, ca_options=("-strict",) if strict else ()) as made:
        yield made


def chain(world: World, name: str) -> list[x509.Certificate]:
    return x509.load_pem_x509_certificates((world.home / "shelf" / name / "current" / "served.pem").read_bytes())


@pytest.mark.parametrize(
    ("env", "strict"),
    [
        ({"nonces_rejected": "30"}, False),
        ({"nonces_rejected": "30"}, True),
        ({"authorizations_reused": "0"}, True),
        ({"authorizations_reused": "50"}, False),
        ({"authorizations_reused": "100"}, False),
        ({"chain_length": "3"}, False),
        ({"orders_per_page": "1"}, False),
        ({"validates_at_once": "0", "validation_delay": "1"}, False),
    ],
    ids=[
        "30 % of nonces",
        "the same, strict",
        "strict",
        "reuse 50",
        "reuse 100",
        "long chain",
        "one order a page",
        "slow",
    ],
)
def test_with_each_setting_a_certificate_and_its_renewal_come_at_the_first_try(
    tmp_path: Path, env: dict[str, str], strict: bool
) -> None:
    with ca(tmp_path, strict=strict, settings=None, **env) as world:
        world.add_authority()
        world.site("all", NAMES)
        done = world.run("stamp", *NAMES, "--as", "rowing")
        assert done.status == 0, done.err
        again = world.run("stamp", "rowing", "--reissue")
        assert again.status == 0, again.err
        assert world.ca.certificates() == 2
        assert world.ca.orders() == 2
        assert len(chain(world, "rowing")) == 1 + int(env.get("chain_length", "1"))
        assert world.left_behind() == []
        if env.get("authorizations_reused") == "100":
            assert "puts up" not in again.flat, "the CA remembers all proofs"


def test_a_ca_that_binds_accounts_to_customers_opens_one_for_the_right_key_alone(tmp_path: Path) -> None:
    secret = os.urandom(32)
    settings: dict[str, object] = {
        "externalAccountBindingRequired": True,
        "externalAccountMACKeys": {"saltmarsh-7": b64url(secret)},
    }
    with ca(tmp_path, settings=settings) as world:
        file = tmp_path / "mac.key"
        usual = [
            "authority",
            "add",
            "quayside",
            "--directory",
            world.directory,
            "--agree-terms",
            "--trust",
            str(world.trust),
        ]
        assert "requires external account binding (EAB)" in world.run(*usual).flat
        binding = ["--binding-id", "saltmarsh-7", "--binding-key-file", str(file)]
        for content, status in ((os.urandom(32), 1), (secret, 0)):
            file.write_text(b64url(content) + "\n")
            file.chmod(0o600)
            done = world.run(*usual, *binding)
            assert done.status == status, done.err
        world.site("rowing", [NAMES[0]])
        assert world.run("stamp", NAMES[0], "--as", "rowing").status == 0


def test_alternate_roots_are_preferred_by_name_and_by_fingerprint(tmp_path: Path) -> None:
    with ca(tmp_path, alternate_roots="2", chain_length="2") as world:
        roots = [x509.load_pem_x509_certificate(world.ca.root(number)) for number in range(3)]
        (tmp_path / "roots.pem").write_bytes(b"".join(world.ca.root(number) for number in range(3)))
        world.add_authority()
        world.site("rowing", [NAMES[0]])
        wanted = (short_name(roots[1].subject), roots[2].fingerprint(hashes.SHA256()).hex())
        text = world.config.read_text()
        for number, (root, name) in enumerate(zip(roots[1:], wanted, strict=True)):
            world.config.write_text(text.replace("agree_terms = true", f'agree_terms = true\nroot = "{name}"'))
            done = (
                world.run("stamp", NAMES[0], "--as", "rowing", "--json")
                if number == 0
                else world.run("stamp", "rowing", "--reissue", "--json")
            )
            text = world.config.read_text().replace(f'\nroot = "{name}"', "")
            assert done.status == 0, done.err
            assert chain(world, "rowing")[-1].issuer == root.subject


def test_an_accounts_whole_life_at_the_real_ca(tmp_path: Path) -> None:
    """Contact, key, revocation by account and by own key, an order given up, retirement."""
    with ca(tmp_path, nonces_rejected="5") as world:
        world.add_authority()
        for name in NAMES:
            world.site(name.partition(".")[0], [name])
        assert world.run("authority", "change", "quayside", "--email", "night@saltmarsh.test").status == 0
        shown = world.run("authority", "show", "quayside", "--json").json["authority"]
        assert shown["contact"] == ["mailto:night@saltmarsh.test"]
        for name in NAMES[:2]:
            assert world.run("stamp", name, "--as", name.partition(".")[0]).status == 0
        changed = world.run("authority", "rollover", "quayside", "--kind", "ecdsa-p384", "--json")
        assert changed.status == 0, changed.err
        assert changed.json["account_url"] == shown["account_url"]
        again = world.run("stamp", "rowing", "--reissue")
        assert again.status == 0, again.err
        for arguments in (("rowing", "--reason", "superseded", "--and-replace"), ("bakery", "--by-own-key")):
            done = world.run("revoke", *arguments, "--yes", "--json")
            assert done.status == 0, done.err
            assert done.json["revoked"]["already"] is False
            assert world.run("revoke", arguments[0], "--edition", str(done.json["revoked"]["edition"]["number"]),
                             "--yes", "--json").json["revoked"]["already"] is True  # fmt: skip
        assert world.run("order", NAMES[2], "--as", "museum").status == 3
        assert world.run("order", "museum", "--cancel").status == 0
        retired = world.run("authority", "deactivate", "quayside", "--yes")
        assert retired.status == 0, retired.err
        assert "was deactivated" in world.run("stamp", "rowing", "--reissue").flat
        assert world.run("authority", "add", "quayside").status == 0
        assert world.run("stamp", "rowing", "--reissue").status == 0
