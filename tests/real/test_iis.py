"""IIS behind a real OpenSSH server: sites, proofs, bindings and stores of the simulated Windows Server that ships."""

import base64
import json
import re
import subprocess
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import forked
import pytest
from authority_of_tests import Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from killing import killed_at
from more_servers import Machine, ssh_machine
from simulated import ASK
from world import World, make_tls_pair, real_world

from inkstamp.errors import ReachTrouble
from inkstamp.pki.certificates import to_pem
from inkstamp.reach.windows.host import WindowsHost
from inkstamp.standins.iis_web import IisWeb
from inkstamp.standins.ports import free_ports
from inkstamp.standins.windows_machine import WindowsMachine

ADDRESS = "127.0.0.6"
CLUB, SHOP, OLD = "club.saltmarsh.test", "shop.saltmarsh.test", "old.saltmarsh.test"


@dataclass
class Windows:
    """The simulated Windows Server, and how it is configured."""

    world: World
    machine: WindowsMachine
    ssh: Machine

    def bindings(self) -> dict[str, tuple[str, int]]:
        """Thumbprint and flags of each binding of HTTPS, by what it is bound to."""
        return {
            f"{site['name']} {each['information']}": (each["thumbprint"], each["flags"])
            for site in self.machine.state()["sites"]
            for each in site["bindings"]
            if each["protocol"] == "https"
        }

    def labels(self) -> list[str]:
        """The friendly names of what is in the stores."""
        return [each["friendly_name"] for each in self.machine.state()["certificates"]]

    def fault(self, **faults: str) -> None:
        with self.machine.changing() as state:
            state["faults"] = faults

    def stores(self) -> Any:
        """All that an install may change."""
        state = self.machine.state()
        return {key: state[key] for key in ("sites", "certificates", "intermediates")}

    def served(self, name: str) -> tuple[bytes, int]:
        """The leaf (DER) and the number of certificates that the `openssl` program is shown."""
        where = f"{ADDRESS}:{self.world.nginx.https_port}"
        command = ["openssl", "s_client", "-connect", where, "-servername", name, "-showcerts"]
        done = subprocess.run(command, input="", capture_output=True, text=True, timeout=20, check=False)
        found = x509.load_pem_x509_certificates(done.stdout.encode()) if "BEGIN CERT" in done.stdout else []
        return (found[0].public_bytes(serialization.Encoding.DER), len(found)) if found else (b"", 0)


def thumbprint(world: World, name: str, number: int) -> str:
    leaf = x509.load_der_x509_certificate(world.edition(name, number))
    return leaf.fingerprint(hashes.SHA1()).hex().upper()  # noqa: S303  as Windows names it


@pytest.fixture(scope="module")
def windows(folder: Path) -> Iterator[Windows]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as world:
        world.add_authority()
        http, https = world.nginx.http_port, world.nginx.https_port
        machine = WindowsMachine(folder / "windows")
        sites = [
            {"name": "Möwe & Club", "state": "Started", "path": r"C:\inetpub\club",
             "bindings": [binding("http", f"*:{http}:{CLUB}"), binding("http", f"*:{http}:www.{CLUB}")]},
            {"name": "Shop", "state": "Started", "path": r"D:\sites\shop",
             "bindings": [binding("http", f"*:{http}:{SHOP}")]},
        ]  # fmt: skip
        machine.begin(sites, [ADDRESS])
        old = own_certificate(machine, folder)
        with machine.changing() as state:
            bound = binding("https", f"*:{https}:{SHOP}", flags=1, thumbprint=old, store="My")
            state["sites"][1]["bindings"].append(bound)
        (port,) = free_ports(1)
        with ssh_machine(folder / "ssh", ADDRESS, port) as ssh, IisWeb(machine, ADDRESS, http, https):
            shell = ssh.folder / "bin" / "powershell"
            shell.write_text(
                f'#!/bin/sh\nexec "{sys.executable}" -SE {ASK} {forked.server()} inkstamp.standins.powershell '
                f'"{machine.folder}" "$@"\n'
            )
            shell.chmod(0o755)
            for each in (CLUB, f"www.{CLUB}", SHOP):
                world.nameserver.table[each] = [ADDRESS]
            entry = f'\n[server.iis1]\nkind = "iis"\n{ssh.entry()}'
            for name, names in (("club", [CLUB, f"www.{CLUB}"]), ("shop", [SHOP])):
                entry += f'[certificate.{name}]\nnames = {json.dumps(names)}\nauthority = "quayside"\n'
                entry += 'via = "iis1"\ninstall = ["iis1"]\nkeep = 2\n'
            world.config.write_text(world.config.read_text() + entry)
            yield Windows(world, machine, ssh)


def binding(protocol: str, information: str, flags: int = 0, thumbprint: str = "", store: str = "") -> dict[str, Any]:
    return {"protocol": protocol, "information": information, "flags": flags, "thumbprint": thumbprint, "store": store}


def own_certificate(machine: WindowsMachine, folder: Path) -> str:
    """Put a certificate of somebody's own into the store; returns its thumbprint."""
    cert, key = make_tls_pair(folder, SHOP)
    leaf = x509.load_pem_x509_certificate(cert.read_bytes())
    found = leaf.fingerprint(hashes.SHA1()).hex().upper()  # noqa: S303  as above
    der = base64.b64encode(leaf.public_bytes(serialization.Encoding.DER)).decode()
    item = {"store": "My", "thumbprint": found, "der": der, "friendly_name": "bought 2025", "has_key": True}
    with machine.changing() as state:
        state["certificates"].append({**item, "exportable": True})
        state["keys"][found] = key.read_text()
    return found


def test_survey_tells_sites_certificates_keys_and_what_lacks_tls(windows: Windows) -> None:
    world = windows.world
    done = world.run("survey", SHOP)
    assert "friendly name: bought 2025" in done.flat, done.flat
    assert "private key: exportable" in done.flat
    assert r"D:\sites\shop" in done.flat
    assert "self-signed" in done.flat
    assert "has no TLS" in world.run("survey", CLUB, "--full").flat


def test_what_was_asked_and_answered_can_be_sent_to_somebody_else_and_holds_no_key(
    windows: Windows, folder: Path
) -> None:
    file = folder / "exchange.json"
    windows.fault(read="utf16")
    done = windows.world.run("survey", "--exchange", str(file))
    windows.fault()
    assert done.status == 0, done.err
    (found,) = json.loads(file.read_text())
    assert (found["machine"], found["operation"], found["status"]) == (ADDRESS, "read", 0)
    assert {each["name"] for each in json.loads(found["answer"])["answer"]["sites"]} == {"Möwe & Club", "Shop"}
    assert "PRIVATE KEY" not in file.read_text()
    assert file.stat().st_mode & 0o777 == 0o600


def test_a_windows_server_that_is_unreachable_keeps_none_from_being_asked(windows: Windows, folder: Path) -> None:
    world, file = windows.world, folder / "exchange.json"
    (port,) = free_ports(1)
    config = folder / "two.toml"
    gone = f'\n[server.iis2]\nkind = "iis"\nreach = "ssh://127.0.0.7:{port}"\nssh_config = "{windows.ssh.client}"\n'
    config.write_text(world.config.read_text() + gone)
    config.chmod(0o600)
    done = world.run("survey", "--exchange", str(file), env={"INKSTAMP_CONFIG": str(config)})
    assert done.status == 1, done.err
    assert re.search(r"answered\s+iis1\n", done.out)
    assert "iis2" in done.flat
    assert "Connection refused" in done.flat
    assert [each["status"] for each in json.loads(file.read_text())] == [0, 255]


def test_a_site_without_tls_gets_bindings_by_name_and_undo_takes_all_of_it_away(windows: Windows) -> None:
    world, https = windows.world, windows.world.nginx.https_port
    before = windows.stores()
    done = world.run("stamp", "club")
    assert done.status == 0, done.err
    mine = thumbprint(world, "club", 1)
    shop = windows.bindings()[f"Shop *:{https}:{SHOP}"]
    assert windows.bindings() == {
        f"Möwe & Club *:{https}:{CLUB}": (mine, 1),
        f"Möwe & Club *:{https}:www.{CLUB}": (mine, 1),
        f"Shop *:{https}:{SHOP}": shop,
    }  # fmt: skip
    assert windows.served(CLUB) == (world.edition("club", 1), 2), "with the intermediate"
    assert "club 1" in windows.labels()
    assert not list((windows.machine.folder / "disk").rglob("web.config")), "nor anything else of the proof"
    assert not list((windows.machine.folder / "disk").rglob(".well-known"))
    done = world.run("undo", "club")
    assert done.status == 0, done.err
    assert windows.stores() == before


def test_renewals_change_the_binding_in_its_place_and_editions_go_as_keep_says(windows: Windows) -> None:
    world, https = windows.world, windows.world.nginx.https_port
    before = windows.stores()
    for number in range(1, 5):
        done = world.run("stamp", "shop", *(["--reissue"] if number > 1 else []))
        assert done.status == 0, done.err
        assert windows.served(SHOP)[0] == world.edition("shop", number)
        if number == 1:  # somebody binds it to another site as well
            with windows.machine.changing() as state:
                other = binding("https", f"*:{https}:other.test", 1, thumbprint(world, "shop", 1), "My")
                state["sites"][0]["bindings"].append(other)
    assert sorted(windows.labels()) == ["bought 2025", "shop 1", "shop 3", "shop 4"]
    with windows.machine.changing() as state:
        state["sites"][0]["bindings"].pop()
    assert windows.bindings()[f"Shop *:{https}:{SHOP}"] == (thumbprint(world, "shop", 4), 1)
    done = world.run("undo", "shop")
    assert done.status == 0, done.err
    assert windows.served(SHOP)[0] == world.edition("shop", 3)
    assert world.run("install", "shop").status == 0
    done = world.run("remove", "shop", "--servers", "undo", "--yes")
    assert done.status == 0, done.err
    assert windows.stores()["sites"] == before["sites"]


def test_what_the_machine_refuses_is_told_in_its_words_and_leaves_it_as_it_was(windows: Windows) -> None:
    world = windows.world
    before = windows.stores()
    windows.fault(change="refuse UnauthorizedAccessException")
    done = world.run("stamp", "club", "--reissue")
    assert done.status != 0
    assert "refuses to change its certificates and bindings" in done.flat
    assert "Der Zugriff wurde verweigert. ⚠" in done.flat
    assert "\x1b" not in done.err, "nothing steers the terminal"
    assert "let an administrator of that machine be the one in `reach`" in done.flat
    windows.fault(change="after")  # all is done there, and the answer is an error
    done = world.run("install", "club")
    assert done.status != 0
    windows.fault()
    assert world.run("history", "club").status == 0
    done = world.run("undo", "club")  # puts back what that left behind
    assert "there is no install" in done.flat
    assert windows.stores() == before
    for operation, fault, told in (
        ("read", "refuse Modules_ModuleNotFound", "Install-WindowsFeature Web-Scripting-Tools"),
        ("read", "cut", "was lost in the middle of a request"),
    ):
        windows.fault(**{operation: fault})
        assert told in world.run("install", "club").flat
    windows.fault()
    shell = windows.ssh.folder / "bin" / "powershell"
    shell.rename(shell.with_name("away"))
    done = world.run("install", "club")
    assert "PowerShell of 127.0.0.6 does not answer" in done.flat
    shell.with_name("away").rename(shell)
    windows.fault(read="utf16", change="utf16")
    assert world.run("install", "club").status == 0, "in whatever encoding it answers"
    windows.fault()
    assert world.run("undo", "club").status == 0


def test_a_machine_that_never_answers_is_given_up(windows: Windows, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.reach.windows.host._SECONDS", 1.0)
    monkeypatch.setattr("inkstamp.reach.ssh_connection._GRACE", 0.5)
    host = WindowsHost(f"ssh://{ADDRESS}:{windows.ssh.port}", config_file=str(windows.ssh.client))
    windows.fault(read="slow")
    try:
        with pytest.raises(ReachTrouble, match="no answer within 1 s"):
            host.state()
    finally:
        windows.fault()
        host.close()


def test_a_proof_is_written_through_no_link_and_beside_no_web_config_of_others(windows: Windows, folder: Path) -> None:
    world, root = windows.world, windows.machine.on_disk(r"C:\inetpub\club")
    outside = folder / "outside"
    outside.mkdir()
    (root / ".well-known").symlink_to(outside)
    done = world.run("stamp", "club", "--reissue")
    assert done.status != 0
    assert ".well-known is a link or a junction on 127.0.0.6" in done.flat
    assert not any(outside.iterdir())
    (root / ".well-known").unlink()
    challenges = root / ".well-known" / "acme-challenge"
    challenges.mkdir(parents=True)
    (challenges / "web.config").write_text("theirs")
    done = world.run("stamp", "club", "--reissue")
    assert done.status == 0, done.err
    assert [each.name for each in challenges.iterdir()] == ["web.config"]
    assert (challenges / "web.config").read_text() == "theirs"
    assert world.run("undo", "club").status == 0


def test_a_service_is_told_thumbprint_and_names_by_a_script_and_told_again_to_go_back(windows: Windows) -> None:
    world, script = windows.world, r"C:\Program Files\Saltmarsh\bind mail.ps1"
    entry = f"\n[server.mail1]\nkind = \"windows\"\nscript = '{script}'\n{windows.ssh.entry()}"
    text = world.config.read_text() + entry
    head = "[certificate.club]\n"
    mine = f'[certificate.mail]\nnames = ["{CLUB}"]\nauthority = "quayside"\nvia = "iis1"\n'
    mine += 'install = ["mail1"]\nkey = "rsa-2048"\n'
    world.config.write_text(text.replace(head, mine + head))
    done = world.run("stamp", "mail")
    assert rf"there is no script {script} on 127.0.0.6" in done.flat, done.flat
    assert "mail 1" not in windows.labels(), "nothing is imported before that"
    for command, fails in (("stamp", "fails"), ("install", "")):
        with windows.machine.changing() as state:
            state["scripts"][script] = fails
        done = world.run(command, "mail")
        assert (done.status == 0) is not bool(fails), done.err
        assert ("Der Dienst antwortet nicht." in done.flat) is bool(fails)
    world.run("stamp", "mail", "--reissue")  # of which it is told that nothing serves it by HTTPS
    assert "mail 2" in windows.labels()
    assert world.run("undo", "mail").status == 0
    assert world.run("undo", "mail").status == 0
    first, second = (thumbprint(world, "mail", number) for number in (1, 2))
    told = [(each["action"], each.get("thumbprint", "")) for each in windows.machine.state()["told"]]
    assert told == [("install", first), ("install", second), ("install", first), ("remove", "")]
    assert windows.machine.state()["told"][0] == {
        "format": 1, "action": "install", "certificate": "mail", "names": [CLUB], "thumbprint": first, "store": "My",
    }  # fmt: skip


def test_a_key_that_the_machine_makes_never_leaves_it_and_renewals_need_nobody(windows: Windows) -> None:
    world, name, kind = windows.world, "own", "ecdsa-p384"
    before = windows.stores()
    world.config.write_text(
        world.config.read_text() + f'[certificate.{name}]\nnames = ["{CLUB}"]\nauthority = "quayside"\nvia = "iis1"\n'
        f'install = ["iis1"]\nkey_elsewhere = true\nkey = "{kind}"\n'
    )
    preview = world.run("stamp", name, "--preview")
    assert f"{kind} key made on iis1" in preview.flat
    done = world.run("stamp", name)
    assert done.status == 0, done.err
    assert windows.served(CLUB) == (world.edition(name, 1), 2)
    assert not (world.home / "shelf" / name / "0001" / "key.pem").exists()
    assert world.run("why", name).out.startswith(f"{name}: ok\n")
    with windows.machine.changing() as state:
        state["containers"] = {}
    done = world.run("stamp", name, "--reissue")
    assert done.status == 0, done.err
    assert windows.served(CLUB) == (world.edition(name, 2), 2)
    for _ in range(2):
        done = world.run("undo", name)
        assert done.status == 0, done.err
    assert windows.stores()["sites"] == before["sites"]
    windows.fault(csr="refuse CommandNotFoundException")
    refused = world.run("stamp", name, "--reissue")
    windows.fault()
    assert "refuses to make a key and a CSR" in refused.flat
    assert world.run("remove", name, "--servers", "leave", "--yes").status == 0
    with windows.machine.changing() as state:
        state.update(before)


def test_a_certificate_from_a_portal_is_completed_where_its_key_was_made(windows: Windows, folder: Path) -> None:
    world, root = windows.world, Signer("Portal Root")
    before = windows.stores()
    roots = folder / "world" / "roots.pem"
    roots.write_bytes(roots.read_bytes() + to_pem(root.certificate))
    world.config.write_text(
        world.config.read_text() + '[authority.paper]\nkind = "portal"\n'
        f'[certificate.bought]\nnames = ["{SHOP}"]\nauthority = "paper"\ninstall = ["iis1"]\nkey_elsewhere = true\n'
        'key = "rsa-2048"\n'
    )
    ordered = world.run("order", "bought")
    assert ordered.status == 3, ordered.err
    shown = re.search(r"-----BEGIN.*?REQUEST-----\n.*?REQUEST-----", ordered.out, re.DOTALL)
    assert shown is not None
    request = x509.load_pem_x509_csr(shown[0].encode())
    file = folder / "bought.pem"
    file.write_bytes(to_pem(issued(request, root)))
    done = world.run("collect", "bought", str(file))
    assert done.status == 0, done.flat
    if windows.served(SHOP)[0] != world.edition("bought", 1):
        assert world.run("install", "bought").status == 0
    assert windows.served(SHOP) == (world.edition("bought", 1), 1)
    assert world.run("undo", "bought").status == 0
    assert windows.stores() == before


def issued(request: x509.CertificateSigningRequest, root: Signer) -> x509.Certificate:
    """Issue what a CSR asks for."""
    now = datetime.now(UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(request.subject)
        .issuer_name(root.certificate.subject)
        .public_key(request.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=90))
        .add_extension(request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value, critical=False)
        .sign(root.key, hashes.SHA256())
    )


def test_killed_at_any_step_the_next_run_leaves_the_machine_as_it_was(windows: Windows, folder: Path) -> None:
    world, killed = windows.world, 0
    before = windows.stores()
    for number in range(2, 2000, 5):
        done, places = killed_at(number, folder / "counts", world.config, ["install", "club"])
        if done.returncode == 0:
            break
        killed += 1
        after = world.run("undo", "club")
        assert after.status == 0 or "there is no install" in after.flat, f"{places[-1]}: {after.err}"
        assert windows.stores() == before, places[-1]
    assert killed > 1
    assert world.run("undo", "club").status == 0
    assert windows.stores() == before
