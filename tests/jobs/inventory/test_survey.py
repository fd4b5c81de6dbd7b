"""What stands on a machine: servers in their usual places are seen whether or not others are configured."""

import os
from datetime import timedelta
from pathlib import Path

import pytest
from authority_of_tests import NOW, Signer
from msgspec.structs import replace

from inkstamp.cli.main import run
from inkstamp.config.server_kinds import KINDS
from inkstamp.jobs.inventory import survey as inventory
from inkstamp.jobs.inventory.site_report import unrenewed, without_certificate
from inkstamp.pki.certificates import facts
from inkstamp.runtime import Runtime
from inkstamp.servers import usual_places
from inkstamp.servers.interface import Site
from inkstamp.severity import Severity


def _site(folder: Path, name: str) -> Path:
    folder.mkdir()
    main_file = folder / "nginx.conf"
    main_file.write_text(f"events {{}}\nhttp {{\n  server {{ listen 80; server_name {name}; root {folder}; }}\n}}\n")
    return main_file


def test_a_server_in_its_usual_place_stays_in_view_when_another_is_configured(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    usual = _site(tmp_path / "usual", "usual.saltmarsh.test")
    own = _site(tmp_path / "own", "own.saltmarsh.test")
    facts = replace(KINDS["nginx"], programs=("true",), main_files=(str(usual),))
    monkeypatch.setattr(usual_places, "KINDS", {"nginx": facts})
    config = tmp_path / "inkstamp.toml"
    config.write_text(f'[server.front]\nkind = "nginx"\nmain_file = "{own}"\n')
    runtime = Runtime(config, tmp_path / "home")
    seen = {(each.site.server, each.site.names[0]) for each in inventory.survey(runtime).sites}
    assert seen == {("front", "own.saltmarsh.test"), ("nginx", "usual.saltmarsh.test")}
    assert list(runtime.servers.found) == ["nginx"]
    config.write_text(f'[server.front]\nkind = "nginx"\nmain_file = "{usual}"\n')
    again = Runtime(config, tmp_path / "home")
    assert [each.site.server for each in inventory.survey(again).sites] == ["front"], "it is not there twice"


def test_plain_http_belongs_to_the_site_that_has_its_names_with_tls_and_many_sites_are_a_line_each(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(usual_places, "KINDS", {})
    names = [f"site-{number}.saltmarsh.test" for number in range(6)]
    blocks = [f"server {{ listen 80; server_name {each} www.{each}; }}" for each in names]
    blocks += [f"server {{ listen 443 ssl; server_name www.{each} {each}; }}" for each in names[:4]]
    # The names of this one are spread over two sites with TLS.
    blocks += [f"server {{ listen 8080; server_name {names[0]} {names[1]}; }}"]
    main_file = tmp_path / "nginx.conf"
    main_file.write_text("events {}\nhttp {\n" + "\n".join(blocks) + "\n}\n")
    config = tmp_path / "inkstamp.toml"
    config.write_text(f'[server.front]\nkind = "nginx"\nmain_file = "{main_file}"\n')
    whole = inventory.survey(Runtime(config, tmp_path / "home")).whole_sites
    seen = [(each.report.site.names[0], each.ports, each.worst) for each in whole]
    assert seen == [
        *((f"www.{each}", (80, 443), Severity.BAD) for each in names[:4]),
        *((each, (80,), Severity.WARN) for each in names[4:]),
        (names[0], (8080,), Severity.OK),
    ]
    assert run(["--config", str(config), "--home", str(tmp_path / "home"), "survey"]) == 1
    out = capsys.readouterr().out
    (line,) = [each for each in out.splitlines() if each.startswith(f"front   www.{names[0]} +1")]
    assert line.split()[3:] == ["80,443", "-", "bad:", "certificate", "-"]
    assert "7 sites, 2 without TLS" in out
    assert f"`inkstamp survey www.{names[0]}` shows all about a site" in " ".join(out.split())


@pytest.mark.parametrize(
    ("file", "days", "severity"),
    [
        ("club/current/served.pem", 80, Severity.WARN),
        ("club/current/served.pem", 9, Severity.BAD),
        ("club/0002/leaf.pem", 80, Severity.WARN),
        ("rowing/current/served.pem", 9, None),
        ("", 80, None),
        ("../elsewhere/club.pem", 9, None),
    ],
    ids=[
        "given up",
        "given up and nearly over",
        "an edition by its number",
        "renewed",
        "the shelf itself",
        "another's",
    ],
)
def test_a_site_that_still_uses_an_edition_that_nobody_renews_is_told_and_gravely_as_its_end_comes_near(
    file: str, days: int, severity: Severity | None
) -> None:
    shelf = Path("/var/lib/inkstamp/shelf")
    site = Site(server="front", names=("club.saltmarsh.test",), listens=(), root="", file="club.conf", line=1,
                certificate_file=os.path.normpath(shelf / file))  # fmt: skip
    leaf = Signer("club", names=("club.saltmarsh.test",), ca=False).certificate
    known = replace(facts(leaf), not_before=NOW - timedelta(days=90 - days), not_after=NOW + timedelta(days=days))
    found = unrenewed(replace(without_certificate(site, ()), certificate=known), shelf, {"rowing"}, NOW, {})
    assert (found.severity if found is not None else None) == severity
    if found is not None:
        assert found.remedy == "inkstamp stamp club.saltmarsh.test"


def test_the_command_that_is_named_can_be_typed_whatever_customers_call_their_sites(
    tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(usual_places, "KINDS", {})
    names = ["~^odd.*$", '"a;id.test"', *(f"site-{number}.saltmarsh.test" for number in range(5))]
    blocks = "\n".join(f"server {{ listen 80; server_name {each}; }}" for each in names)
    main_file, config = tmp_path / "nginx.conf", tmp_path / "inkstamp.toml"
    main_file.write_text(f"events {{}}\nhttp {{\n{blocks}\n}}\n")
    config.write_text(f'[server.front]\nkind = "nginx"\nmain_file = "{main_file}"\n')
    run(["--config", str(config), "--home", str(tmp_path / "home"), "survey"])
    assert "`inkstamp survey 'a;id.test'` shows all" in " ".join(capsys.readouterr().out.split())
    run(["--config", str(config), "--home", str(tmp_path / "home"), "survey", "--full"])
    assert "fix: inkstamp stamp 'a;id.test'" in capsys.readouterr().out
