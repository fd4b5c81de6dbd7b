"""What stands on a machine: servers in their usual places are seen whether or not others are configured."""

from dataclasses import replace
from pathlib import Path

import pytest

from inkstamp.config.server_kinds import KINDS
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
