"""Records put into DNS through the HTTP API of a PowerDNS Authoritative Server (its manual, “Zones endpoint”).

The API replaces whole record sets, so that present values are read first and written again beside ours. Two runs must
not do that at the same time (`changes_sets`); what somebody else wrote in between is found by reading again.
"""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import quote

from inkstamp.config.record_changers import Nameserver
from inkstamp.errors import CarrierTrouble, ReachTrouble
from inkstamp.files import read_secret_line
from inkstamp.printable import one_line
from inkstamp.proof.record_changes import DnsRecord, by_zone, presented
from inkstamp.reach.json_api import ApiAnswer, JsonApi

_TRIES = 3
_SHOWN = 200
_PRIMARIES = {"master", "primary", "producer"}
"""Kinds of zones whose secondaries are notified."""

_Set = tuple[str, str]
"""A record set: its name without a dot at the end, and its type."""


class PowerDnsCarrier:
    """One PowerDNS server, as configured under `[nameserver.NAME]`."""

    changes_sets = True

    def __init__(self, name: str, entry: Nameserver) -> None:
        self._name = name
        self._server = f"/api/v1/servers/{quote(entry.server_id, safe='')}"
        self._api = JsonApi(
            f"the API of “{name}”",
            entry.address,
            entry.trust,
            lambda: {"X-API-Key": read_secret_line(entry.key_file)},
        )

    def put(self, records: Sequence[DnsRecord]) -> None:
        self._each_zone(records, add=True)

    def drop(self, records: Sequence[DnsRecord]) -> None:
        self._each_zone(records, add=False)

    def _each_zone(self, records: Sequence[DnsRecord], *, add: bool) -> None:
        groups = list(by_zone(records).items())
        for number, ((zone, _), group) in enumerate(groups):
            try:
                self._change(zone, group, add=add)
            except CarrierTrouble as error:
                left = [each for _, some in groups[number if error.refused else number + 1 :] for each in some]
                raise CarrierTrouble(error.what, where=error.where, said=error.said, advice=error.advice,
                                     refused=error.refused, not_made=left) from error  # fmt: skip

    def _change(self, zone: str, group: Sequence[DnsRecord], *, add: bool) -> None:
        """Change one zone until it is read back with what is wanted."""
        path, kind = self._zone(zone)
        wanted: dict[_Set, list[str]] = {}
        for each in group:
            wanted.setdefault((each.name.rstrip("."), each.kind), []).append(presented(each))
        ttl, made = group[0].ttl, False
        try:
            for _ in range(_TRIES):
                present = self._sets(path, wanted)
                planned = [_changed(key, present.get(key), values, ttl, add=add) for key, values in wanted.items()]
                changed = [each for each in planned if each is not None]
                if not changed:
                    break
                self._expect_done(self._api.ask("PATCH", path, {"rrsets": changed}), zone, "refuses a change of")
                made = True
            else:
                raise CarrierTrouble(
                    f"the records of {zone} are changed by somebody else again and again", where=self._api.url(path),
                    advice="see what else writes record sets of the same names",
                )  # fmt: skip
            if kind.lower() in _PRIMARIES:
                self._expect_done(self._api.ask("PUT", f"{path}/notify"), zone, "does not notify the secondaries of")
        except CarrierTrouble as error:
            if not made:
                raise
            # What was made has to be taken out again: nothing of it was refused.
            raise CarrierTrouble(error.what, where=error.where, said=error.said, advice=error.advice) from error

    def _zone(self, zone: str) -> tuple[str, str]:
        """Return a zone's path in the API and its kind; CarrierTrouble when the server does not have it."""
        answer = self._ask("GET", f"{self._server}/zones?zone={quote(zone + '.', safe='')}")
        self._expect_done(answer, zone, "does not show")
        found = [each for each in answer.data if isinstance(each, dict)] if isinstance(answer.data, list) else []
        mine = next((each for each in found if str(each.get("name", "")).rstrip(".").lower() == zone.lower()), None)
        if mine is None:
            raise CarrierTrouble(
                f"the server “{self._name}” has no zone {zone}", where=self._api.url(self._server), refused=True,
                advice="name with `via` the nameserver that has it",
            )  # fmt: skip
        return f"{self._server}/zones/{quote(str(mine.get('id', '')), safe='')}", str(mine.get("kind", ""))

    def _sets(self, path: str, keys: Iterable[_Set]) -> dict[_Set, Mapping[str, Any]]:
        """Return the record sets of some names and types that are there."""
        found: dict[_Set, Mapping[str, Any]] = {}
        for name, kind in keys:
            only = f"rrset_name={quote(name + '.', safe='')}&rrset_type={kind}"
            answer = self._ask("GET", f"{path}?{only}")  # a server before 4.6 shows the whole zone
            self._expect_done(answer, name, "does not show")
            sets = answer.data.get("rrsets") if isinstance(answer.data, dict) else None
            for each in sets if isinstance(sets, list) else ():
                if isinstance(each, dict):
                    found[str(each.get("name", "")).rstrip(".").lower(), str(each.get("type", ""))] = each
        return found

    def _ask(self, method: str, path: str) -> ApiAnswer:
        try:
            return self._api.ask(method, path)
        except ReachTrouble as error:
            raise CarrierTrouble(error.what, where=error.where, said=error.said, advice=error.advice,
                                 refused=True) from error  # fmt: skip

    def _expect_done(self, answer: ApiAnswer, zone: str, verb: str) -> None:
        if answer.refusal:
            known = "the API key is not right: see the file that key_file names" if answer.status == 401 else ""
            raise CarrierTrouble(
                f"the server “{self._name}” {verb} {zone}", where=self._api.url(self._server), said=answer.refusal,
                refused=True, advice=known or "correct that, then run the command again",
            )  # fmt: skip


def _changed(
    key: _Set, present: Mapping[str, Any] | None, values: Sequence[str], ttl: int, *, add: bool
) -> dict[str, Any] | None:
    """Return the change of a record set that adds values, or takes them out; None where nothing is to be changed."""
    name, kind = key
    records = present.get("records") if present is not None else None
    there = [each for each in records if isinstance(each, dict)] if isinstance(records, list) else []
    contents = {str(each.get("content", "")) for each in there}
    if add:
        missing = [value for value in dict.fromkeys(values) if value not in contents]
        if not missing:
            return None
        if there and kind == "CNAME":
            raise CarrierTrouble(
                f"{name} is an alias already, of {one_line(', '.join(contents), _SHOWN)}", where=name, refused=True,
                advice="see who made it; a name can have one CNAME record",
            )  # fmt: skip
        made = [*there, *({"content": value, "disabled": False} for value in missing)]
    else:
        made = [each for each in there if str(each.get("content", "")) not in values]
        if len(made) == len(there):
            return None
    base = {"name": f"{name}.", "type": kind}
    if not made:
        return {**base, "changetype": "DELETE"}
    kept = present.get("ttl", ttl) if present is not None else ttl
    return {**base, "ttl": kept, "changetype": "REPLACE", "records": made}
