"""What carries records into DNS: one class a kind, all with the same two methods."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from inkstamp.config.model import Configuration
from inkstamp.config.record_changers import Nameserver, Program
from inkstamp.errors import CarrierTrouble, UsageError
from inkstamp.files import read_secret
from inkstamp.proof.record_changes import DnsRecord, by_zone, presented
from inkstamp.reach.answers import ask_program
from inkstamp.reach.interface import Host
from inkstamp.reach.local import LocalHost
from inkstamp.view.point import View
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.proof.recipe_api import Exchange
    from inkstamp.reach.dns_update import TsigKey


class RecordCarrier(Protocol):
    """Changes records, and nothing beside those it is told."""

    changes_sets: bool
    """Whether it replaces whole record sets, so that no other run may change the same ones in that moment."""

    def put(self, records: Sequence[DnsRecord]) -> None:
        """Add the records; other values at the same names stay. CarrierTrouble when that fails."""
        ...

    def drop(self, records: Sequence[DnsRecord]) -> None:
        """Remove just these values; one that is not there does no harm. CarrierTrouble when that fails."""
        ...


class UpdateCarrier:
    """Dynamic updates (RFC 2136) signed with TSIG (RFC 8945): one for each zone."""

    changes_sets = False

    def __init__(self, name: str, entry: Nameserver, port: int) -> None:
        self._name = name
        self._entry = entry
        self._port = port

    def _key(self) -> "TsigKey | None":
        if not self._entry.key_file:
            return None
        from inkstamp.reach.dns_update import read_tsig  # noqa: PLC0415  20 ms of libraries for this alone

        return read_tsig(read_secret(Path(self._entry.key_file)), self._entry.key_file)

    def put(self, records: Sequence[DnsRecord]) -> None:
        self._send(records, add=True)

    def drop(self, records: Sequence[DnsRecord]) -> None:
        self._send(records, add=False)

    def _send(self, records: Sequence[DnsRecord], *, add: bool) -> None:
        from inkstamp.reach.dns_update import send_update  # noqa: PLC0415  as above

        key = self._key()
        groups = by_zone(records)
        for number, ((zone, primary), group) in enumerate(groups.items()):
            changes = [(each.name, each.kind, presented(each)) for each in group]
            where = self._entry.address or (f"[{primary}]" if ":" in primary else primary)
            if not where:
                raise CarrierTrouble(
                    f"the primary nameserver of {zone} has no address in DNS",
                    where=f"zone {zone}",
                    advice=f"write address = … under [nameserver.{self._name}]",
                )
            try:
                send_update(zone, changes, where, self._port, key, ttl=group[0].ttl, add=add)
            except CarrierTrouble as error:
                left = list(groups.values())[number if error.refused else number + 1 :]
                raise CarrierTrouble(
                    error.what,
                    where=error.where,
                    said=error.said,
                    advice=error.advice,
                    refused=error.refused,
                    not_made=[each for some in left for each in some],
                ) from error


class ProgramCarrier:
    """A program of the user's own, told in JSON on standard input what to put or drop (docs/programs.md)."""

    changes_sets = False

    def __init__(self, name: str, entry: Program, host: Host) -> None:
        self._name = name
        self._entry = entry
        self._host = host

    def put(self, records: Sequence[DnsRecord]) -> None:
        self._ask("put", records)

    def drop(self, records: Sequence[DnsRecord]) -> None:
        self._ask("drop", records)

    def _ask(self, action: str, records: Sequence[DnsRecord]) -> None:
        told = [
            {"zone": each.zone, "name": each.name, "type": each.kind, "value": each.value, "ttl": each.ttl}
            for each in dict.fromkeys(records)
        ]
        asked = {"action": action, "records": told}
        said = ask_program(self._host, self._entry.command, self._entry.seconds, asked)
        if said:
            raise CarrierTrouble(
                f"the program “{self._name}” could not {action} {counted(len(told), 'record')}",
                where=" ".join(self._entry.command),
                said=said,
                advice="correct that; try it by hand with the JSON of docs/programs.md on its standard input",
            )


def carrier_of(
    name: str, config: Configuration, view: View, told: "Callable[[Exchange], None] | None" = None
) -> RecordCarrier | None:
    """Return what a name in `via` stands for where it puts records into DNS; None when a person does.

    Args:
        name: A nameserver or a program.
        config: Which there are.
        view: For the port that updates go to.
        told: Is called after each request to an API that a recipe describes.

    Raises:
        ConfigurationError: Its recipe has a mistake.

    """
    if name in config.nameserver:
        entry = config.nameserver[name]
        if entry.kind == "http":
            from inkstamp.proof.recipe_api import RecipeApi  # noqa: PLC0415  30 ms of libraries for this alone
            from inkstamp.proof.recipe_carrier import RecipeCarrier  # noqa: PLC0415  as above

            return RecipeCarrier(RecipeApi(name, entry, told=told))
        if entry.kind == "powerdns":
            from inkstamp.proof.powerdns import PowerDnsCarrier  # noqa: PLC0415  as above

            return PowerDnsCarrier(name, entry)
        return UpdateCarrier(name, entry, view.dns_port)
    if name in config.program:
        return ProgramCarrier(name, config.program[name], LocalHost())
    return None


def expect_carrier(via: str, config: Configuration, view: View) -> RecordCarrier:
    """Return what a name in `via` stands for; UsageError where it puts no records into DNS."""
    carrier = carrier_of(via, config, view)
    if carrier is None:
        raise UsageError(f"“{via}” puts no records into DNS", advice="name a nameserver or a program with --via")
    return carrier
