"""Records put into DNS through any HTTP API that a recipe describes (docs/recipes.md)."""

from collections.abc import Iterable, Sequence
from typing import Any

import dns.exception
import dns.rdata
import dns.rdataclass
from msgspec import Struct

from inkstamp.config.recipe import RecordListing, Replacement, RequestTemplate
from inkstamp.deadline import within
from inkstamp.errors import CarrierTrouble
from inkstamp.printable import one_line
from inkstamp.proof.recipe_api import RecipeApi
from inkstamp.proof.recipe_requests import Values, fill_all, is_same, pick, texts_in
from inkstamp.proof.record_changes import DnsRecord, by_zone, presented

_TRIES = 3
_SHOWN = 200


class _Present(Struct, frozen=True, kw_only=True):
    """A value that is at a name."""

    text: str
    rdata: str
    """As zone files have it."""
    told: Any
    """As the API tells it."""
    id: str
    ttl: Any


class RecipeCarrier:
    """One API, as configured under `[nameserver.NAME]` with `kind = "http"`."""

    def __init__(self, api: RecipeApi) -> None:
        self._api = api
        self._name = api.name
        self._recipe = api.recipe
        self.changes_sets = self._recipe.replace is not None

    def put(self, records: Sequence[DnsRecord]) -> None:
        self._each_zone(records, add=True)

    def drop(self, records: Sequence[DnsRecord]) -> None:
        self._each_zone(records, add=False)

    def _each_zone(self, records: Sequence[DnsRecord], *, add: bool) -> None:
        begun: set[DnsRecord] = set()
        try:
            with within(self._api.seconds):
                for (zone, _), group in by_zone(records).items():
                    self._change(zone, group, begun, add=add)
        except CarrierTrouble as error:
            left = [each for each in records if each not in begun]
            raise CarrierTrouble(error.what, where=error.where, said=error.said, advice=error.advice,
                                 refused=not begun, not_made=left) from error  # fmt: skip

    def _change(self, zone: str, group: Sequence[DnsRecord], begun: set[DnsRecord], *, add: bool) -> None:
        known = {"zone": zone, "zone_id": self._zone_id(zone)}
        sets: dict[tuple[str, str], list[DnsRecord]] = {}
        for record in group:
            sets.setdefault((record.name.rstrip("."), record.kind), []).append(record)
        changed = False
        for (name, kind), wanted in sets.items():
            relative = name.removesuffix(zone).rstrip(".") or "@"
            values = {**known, "name": name, "relative": relative, "type": kind}
            if self._recipe.replace is not None:
                changed = self._replace(self._recipe.replace, values, wanted, begun, add=add) or changed
            else:
                changed = (self._add if add else self._remove)(values, wanted, begun) or changed
        if changed and self._recipe.publish is not None:
            self._api.change("publish", self._recipe.publish, known)

    def _zone_id(self, zone: str) -> str:
        """Return the API's own identifier of a zone; empty where its recipe needs none."""
        lookup = self._recipe.zone
        if lookup is None:
            return ""
        for each in self._api.items("zone", lookup, lookup.items, {"zone": zone}):
            if texts_in(each, lookup.name).rstrip(".").lower() == zone.lower():
                return texts_in(each, lookup.id)
        raise CarrierTrouble(
            f"the API of “{self._name}” has no zone {zone}", where=f"zone {zone}", refused=True,
            advice="name with `via` the nameserver that has it",
        )  # fmt: skip

    # What is there

    def _present(self, values: Values) -> list[_Present]:
        listing = self._recipe.records
        if listing is None:
            return []
        items = self._api.items("records", listing, listing.items, values)
        return [
            _read(told, each, listing, values)
            for each in items if _is_at(each, listing, values) for told in _values_of(each, listing)
        ]  # fmt: skip

    # Changes

    def _add(self, values: Values, wanted: Sequence[DnsRecord], begun: set[DnsRecord]) -> bool:
        present = self._present(values)
        missing = [each for each in wanted if not _has(present, each)]
        _expect_no_alias(values, present, missing)
        for each in missing:
            self._ask("add", self._recipe.add, {**values, **_told_of(each)}, [each], begun)
        return bool(missing)

    def _remove(self, values: Values, wanted: Sequence[DnsRecord], begun: set[DnsRecord]) -> bool:
        if self._recipe.records is None:
            there = [(each, "") for each in wanted]
        else:
            present = self._present(values)
            there = [(each, found.id) for each in wanted for found in present
                     if is_same(each.kind, found.rdata, presented(each))]  # fmt: skip
        for each, record_id in there:
            self._ask("remove", self._recipe.remove, {**values, **_told_of(each), "record_id": record_id}, [each],
                      begun)  # fmt: skip
        return bool(there)

    def _replace(
        self, replace: Replacement, values: Values, wanted: Sequence[DnsRecord], begun: set[DnsRecord], *, add: bool
    ) -> bool:
        """Write a whole set, and read it back until it has what is wanted: somebody else may have written it."""
        clear = self._recipe.clear
        changed = False
        for _ in range(_TRIES):
            present = self._present(values)
            ttl = next((each.ttl for each in present if each.ttl is not None), wanted[0].ttl)
            missing = [each for each in wanted if add and not _has(present, each)]
            _expect_no_alias(values, present, missing)
            stays = [each for each in present
                     if add or not any(is_same(own.kind, each.rdata, presented(own)) for own in wanted)]  # fmt: skip
            if not missing and len(stays) == len(present):
                return changed
            _expect_readable(replace, values, stays)
            made = [*(_written(replace, each) for each in stays),
                    *(fill_all(replace.value, {**values, **_told_of(each)}) for each in missing)]  # fmt: skip
            known = {**values, "ttl": ttl}
            if made or clear is None:
                self._ask("replace", replace, {**known, "values": made}, wanted, begun)
            else:
                self._ask("clear", clear, known, wanted, begun)
            changed = True
        raise CarrierTrouble(
            f"the records of {values['name']} are changed by somebody else again and again", where=values["name"],
            advice="see what else writes record sets of the same names",
        )  # fmt: skip

    def _ask(
        self, table: str, template: RequestTemplate | None, values: Values, records: Iterable[DnsRecord],
        begun: set[DnsRecord],
    ) -> None:  # fmt: skip
        """Ask for a change, remembering for which records: what was refused was not begun."""
        if template is None:
            raise CarrierTrouble(f"the recipe has no [{table}]", where=self._name, refused=True, advice="add it")
        fresh = [each for each in records if each not in begun]
        begun.update(fresh)
        try:
            self._api.change(table, template, values)
        except CarrierTrouble as error:
            if error.refused:
                begun.difference_update(fresh)
            raise


def _told_of(record: DnsRecord) -> dict[str, Any]:
    return {"value": record.value, "rdata": presented(record), "ttl": record.ttl}


def _has(present: Iterable[_Present], record: DnsRecord) -> bool:
    return any(is_same(record.kind, each.rdata, presented(record)) for each in present)


def _expect_no_alias(values: Values, present: Sequence[_Present], missing: Sequence[DnsRecord]) -> None:
    if present and missing and values["type"] == "CNAME":
        raise CarrierTrouble(
            f"{values['name']} is an alias already, of {one_line(present[0].text, _SHOWN)}", where=values["name"],
            refused=True, advice="see who made it; a name can have one CNAME record",
        )  # fmt: skip


def _expect_readable(replace: Replacement, values: Values, stays: Sequence[_Present]) -> None:
    """Refuse to write values of others anew that could not be read."""
    if not replace.keep and not all(each.text for each in stays):
        raise CarrierTrouble(
            f"a value that is at {values['name']} cannot be read, and would be lost",
            where=values["name"], refused=True,
            advice="correct `values` and `value` in [records] of the recipe; nothing was changed",
        )  # fmt: skip


def _written(replace: Replacement, each: _Present) -> Any:
    return each.told if replace.keep else fill_all(replace.value, {"value": each.text, "rdata": each.rdata})


def _is_at(item: Any, listing: RecordListing, values: Values) -> bool:
    """Tell whether an item of a list is about a name and a type."""
    name = texts_in(item, listing.name).rstrip(".").lower()
    wanted = values["relative"] if listing.names == "relative" else values["name"]
    same = name == wanted.lower() or (listing.names == "relative" and wanted == "@" and not name)
    return same and texts_in(item, listing.type).upper() == values["type"]


def _values_of(item: Any, listing: RecordListing) -> list[Any]:
    """Return a set's values as the API tells them; a record is one itself."""
    if not listing.values:
        return [item]
    found = pick(item, listing.values)
    return found if isinstance(found, list) else []


def _read(told: Any, item: Any, listing: RecordListing, values: Values) -> _Present:
    text = texts_in(told, listing.value)
    if listing.rdata:
        rdata, text = text, _text_of(values["type"], text)
    else:
        rdata = presented(
            DnsRecord(zone=values["zone"], primary="", name=values["name"], kind=values["type"], value=text)
        )
    ttl = pick(item, listing.ttl) if listing.ttl else None
    return _Present(text=text, rdata=rdata, told=told, id=texts_in(item, listing.id) if listing.id else "", ttl=ttl)


def _text_of(kind: str, rdata: str) -> str:
    """Return a value without what zone files have around it."""
    if kind != "TXT":
        return rdata.rstrip(".")
    try:
        read: Any = dns.rdata.from_text(dns.rdataclass.IN, "TXT", rdata)
    except dns.exception.DNSException:
        return rdata
    return b"".join(read.strings).decode("utf-8", "replace")
