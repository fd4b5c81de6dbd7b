"""What a cut-off install left is put back once, and never over a later one."""

from pathlib import Path

from inkstamp.jobs import way_back
from inkstamp.jobs.deployment.rollback import recover
from inkstamp.jobs.workplace import Workplace
from inkstamp.ledger.records import InstallState
from inkstamp.servers.interface import FileChange


def test_an_install_that_was_cut_off_is_not_put_back_over_a_later_one(tmp_path: Path) -> None:
    site = tmp_path / "site.conf"
    site.write_text("of edition 2\n")
    config = tmp_path / "inkstamp.toml"
    config.write_text(
        '[authority.quayside]\ndirectory = "https://ca.test/"\n[server.west]\nkind = "nginx"\n'
        '[certificate.club]\nnames = ["a.test"]\nauthority = "quayside"\nvia = "west"\ninstall = ["west"]\n'
    )
    place = Workplace(config, tmp_path / "home")
    change = way_back.Change("west", FileChange(str(site), b"of no edition\n", b"of edition 1\n"))
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
    way_back.keep(place.home / "undo" / "club" / "0001", [change], **about)
    cut_off = place.ledger.installs.begin("club", 1, ["west"])
    later = place.ledger.installs.begin("club", 2, ["west"])
    place.ledger.installs.end(later, InstallState.DONE, "installed", "edition 2 on west")
    recover(place, [cut_off])
    assert site.read_text() == "of edition 2\n"
    assert place.ledger.installs.begun("club") == []
    assert place.ledger.installs.of("club")["west"].edition == 2
    place.close(0)
