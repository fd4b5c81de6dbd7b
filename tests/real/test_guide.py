"""The guide for a zone of its own (docs/proving.md), followed as it stands, with a real BIND from nothing."""

import re
import shlex
import subprocess
from pathlib import Path

from bind_world import PRIMARY, OwnZone, bind_world
from world import find_program

GUIDE = Path(__file__).resolve().parent.parent.parent / "docs" / "proving.md"
ZONE = "proofs.harbour.test"
_BLOCK = re.compile(r"```(\w*)\n(.*?)```", re.DOTALL)


def test_a_name_is_proven_by_one_cname_into_a_zone_made_by_the_guide(tmp_path: Path) -> None:
    chapter = GUIDE.read_text().partition("## A zone of its own for validation\n")[2].partition("\n## ")[0]
    blocks = [(kind, re.sub(r"^   ", "", text, flags=re.MULTILINE)) for kind, text in _BLOCK.findall(chapter)]
    assert [kind for kind, _ in blocks] == ["sh", "", "zone", "zone", "zone", "sh"]
    make_key, conf, zone, delegation, alias, commands = [text for _, text in blocks]
    for folder in ("bind", "lib", "ours"):
        (tmp_path / folder).mkdir()

    def here(text: str) -> str:
        text = text.replace("/etc/bind", f"{tmp_path}/bind").replace("/var/lib/bind", f"{tmp_path}/lib")
        return text.replace("/etc/inkstamp", f"{tmp_path}/ours").replace("192.0.2.53", PRIMARY)

    keygen = find_program("tsig-keygen")
    steps = here(make_key).replace("tsig-keygen", keygen).replace("chown bind", "chown root")
    subprocess.run(["sh", "-e", "-c", steps], check=True)
    (tmp_path / "lib" / f"{ZONE}.zone").write_text(here(zone))
    records = here(delegation).splitlines()
    below = [re.sub(r"^(proofs|ns1.proofs) ", r"\1.harbour ", line) for line in records]
    with bind_world(tmp_path, own=OwnZone(here(conf), below)) as world:
        name, kind, target = alias.split()
        world.change(f"update add {name} 60 {kind} {target}", "update add shop.saltmarsh.test 60 A 127.0.0.1")
        for line in here(commands).splitlines():
            _, *arguments = shlex.split(line)
            done = world.run(*arguments)
            assert done.status == 0, f"{line}\n{done.out}{done.err}"
        assert world.txt(f"shop.{ZONE}", PRIMARY) == [], "nothing is left"
        script = f"server {PRIMARY} {world.dns_port}\nupdate add www.{ZONE} 60 A 127.0.0.1\nsend\n"
        refused = subprocess.run([find_program("nsupdate"), "-k", str(tmp_path / "ours" / "proofs.key")], input=script,
                                 capture_output=True, text=True, check=False)  # fmt: skip
        assert "REFUSED" in refused.stderr, "the key is for TXT records alone"
        assert world.records("shop.saltmarsh.test", "A", PRIMARY) == ["127.0.0.1"]
