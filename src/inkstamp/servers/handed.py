"""Servers that are handed an edition, by a program of the user's own or by an API: no files are put in their place."""

from collections.abc import Sequence
from typing import Any

from inkstamp.config.record_changers import Program
from inkstamp.errors import ServerTrouble
from inkstamp.reach.answers import ask_program
from inkstamp.reach.interface import Host, Ran
from inkstamp.servers.interface import FileChange, Place, Supply
from inkstamp.servers.unparsed import UnreadServer

_DONE = Ran((), 0, "")


class HandedServer(UnreadServer):
    """What all of them have in common."""

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:  # noqa: ARG002  there are none
        raise ServerTrouble(f"“{self.name}” shows no files", where=self.name, advice="name a web server with `via`")

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  nothing is known of it
        return False

    def serves(self, name: str) -> bool:  # noqa: ARG002  the user has said so by naming it in `install`
        return True

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:  # noqa: ARG002
        """There are no files of its own to change."""
        return []

    def test(self) -> Ran:
        return _DONE

    def reload(self) -> Ran:
        return _DONE


class StandingServer(HandedServer):
    """A server of other machines, which answers the challenges for our account key by itself (`standing = true`)."""

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  those machines have their own addresses
        return True


class ProgramServer(HandedServer):
    """A program of the user's own, told in JSON on standard input where an edition lies (docs/programs.md)."""

    def __init__(self, name: str, host: Host, entry: Program) -> None:
        super().__init__(name, host, ())
        self._entry = entry

    def holds(self, certificate: str) -> str:  # noqa: ARG002  the program is not asked
        return ""

    def take(self, names: Sequence[str], supply: Supply) -> None:
        files = {each: getattr(supply, each) for each in ("leaf", "issuers", "served", "key", "combined")}
        if supply.passphrase_file:
            files["passphrases"] = supply.passphrase_file
        edition = {"certificate": supply.certificate, "edition": supply.edition, "names": list(names), "files": files}
        self._tell({"action": "install", **edition})

    def give_back(self, certificate: str, held: str, before: Supply | None) -> None:  # noqa: ARG002
        if before is not None and before.goods is not None:
            self.take(list(before.names), before)
        else:
            self._tell({"action": "remove", "certificate": certificate})

    def _tell(self, told: dict[str, Any]) -> None:
        said = ask_program(self.host, self._entry.command, self._entry.seconds, told)
        if said:
            raise ServerTrouble(
                f"the program “{self.name}” could not {told['action']} the certificate",
                where=" ".join(self._entry.command),
                said=said,
                advice="correct that; try it by hand with the JSON of docs/programs.md on its standard input",
            )
