"""What a cut-off install left is put back once, and never over a later one."""

from pathlib import Path

from inkstamp.jobs.deployment.rollback import recover
from inkstamp.ledger.records import InstallState
from inkstamp.runtime import Runtime
from inkstamp.servers import backup
from inkstamp.servers.interface import FileChange


def test_an_install_that_was_cut_off_is_not_put_back_over_a_later_one(tmp_path: Path) -> None:
    site = tmp_path / "site.conf"
    site.write_text("of edition 2\n")
    config = tmp_path / "inkstamp.toml"
    config.write_text(
        '[authority.quayside]\ndirectory = "https://ca.test/"\n[server.west]\nkind = "nginx"\n'
        '[certificate.club]\nnames = ["a.test"]\nauthority = "quayside"\nvia = "west"\ninstall = ["west"]\n'
    )
    runtime = Runtime(config, tmp_path / "home")
    change = backup.Change("west", FileChange(str(site), b"of no edition\n", b"of edition 1\n"))
    about = {
        "servers": ["west"],
        "copied": True,
        "held": {},
        "had": [],
        "before": None,
        "edition": 1,
        "token": "t",
        "done": False,
    }
    backup.keep(runtime.home.undo("club") / "0001", [change], None, **about)
    cut_off = runtime.ledger.installs.begin("club", 1, ["west"])
    later = runtime.ledger.installs.begin("club", 2, ["west"])
    runtime.ledger.installs.end(later, InstallState.DONE, "installed", "edition 2 on west")
    recover(runtime, [cut_off])
    assert site.read_text() == "of edition 2\n"
    assert runtime.ledger.installs.begun("club") == []
    assert runtime.ledger.installs.of("club")["west"].edition == 2
    runtime.close(0)
