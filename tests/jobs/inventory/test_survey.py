"""What stands on a machine: servers in their usual places are seen whether or not others are configured."""

from dataclasses import replace
from pathlib import Path

import pytest

from inkstamp.cli.main import run
from inkstamp.config.server_kinds import KINDS
from inkstamp.findings import Severity
from inkstamp.jobs.inventory import survey as inventory
from inkstamp.runtime import Runtime
from inkstamp.servers import usual_places


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
