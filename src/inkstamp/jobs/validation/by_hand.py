"""Challenge responses that a person makes: told once, looked for, and told when they may be removed."""

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from inkstamp.deadline import poll
from inkstamp.errors import StillWaiting, UsageError
from inkstamp.files import file_trouble, read_bytes, write_bytes
from inkstamp.findings import Finding
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import Placed, in_one_line
from inkstamp.ledger.records import OrderRecord, PortalProof, ProofMethod
from inkstamp.proof import dns_persist
from inkstamp.proof.web_file import FileProof, portal_file
from inkstamp.severity import Severity, worst

_PAUSE = 10.0
"""Seconds between two looks while a person is at work."""


def expect_files(
    context: ValidationContext,
    order: OrderRecord,
    files: Mapping[str, FileProof],
    look: Callable[[FileProof], list[Finding]],
    *,
    wait: float,
) -> dict[str, list[Finding]]:
    """Say which files are to be made, and look for them; returns what was seen, by identifier.

    Args:
        context: The parts of the run.
        order: The order.
        files: By identifier, the file that shows control of it.
        look: Looks at one as the CA will.
        wait: Seconds to go on looking while one is not seen.

    Raises:
        StillWaiting: One is not seen.

    """
    places = {each: ("/".join(("", *file.parts)), file.content.decode("ascii")) for each, file in files.items()}
    wanted = _wanted(context, order, ProofMethod.FILE, places)
    _look_first(context, order, list(wanted.values()), {}, wait)
    seen: dict[str, list[Finding]] = {}
    for _ in poll(context.clock, pause=_PAUSE, seconds=wait, waits=_waits(context)):
        left = files.keys() - (seen.keys() - _lacking(seen))
        seen |= {each: look(file) for each, file in files.items() if each in left}
        if not _lacking(seen):
            break
    return _judged(context, wanted, seen, lambda missing: _ask(order, missing, seen, {}))


def expect_records(
    context: ValidationContext,
    order: OrderRecord,
    placed: Mapping[str, Placed],
    observe: Callable[[Sequence[Placed], float], Mapping[Placed, list[Finding]]],
    *,
    wait: float,
) -> dict[str, list[Finding]]:
    """Say which records are to be made, and look for them; returns what was seen, by identifier.

    Args:
        context: The parts of the run.
        order: The order.
        placed: By identifier, the record that shows control of it.
        observe: Asks all nameservers for records, for some seconds at least.
        wait: Seconds to go on looking while one is not seen.

    Raises:
        StillWaiting: One is not seen.

    """
    places = {each: (known.record.name, known.record.value) for each, known in placed.items()}
    wanted = _wanted(context, order, ProofMethod.TXT, places)
    zones = {each.record.name: each.zone.apex for each in placed.values()}
    _look_first(context, order, list(wanted.values()), zones, wait)
    observed = observe(list(placed.values()), wait)
    seen = {each: observed[record] for each, record in placed.items()}
    told = {each: [in_one_line(placed[each], seen[each])] for each in _lacking(seen)}
    return _judged(context, wanted, seen, lambda missing: _ask(order, missing, told, zones))


def _wanted(
    context: ValidationContext, order: OrderRecord, method: ProofMethod, places: Mapping[str, tuple[str, str]]
) -> dict[str, PortalProof]:
    """Return what a person has to make for an order, by identifier: of each where it goes, and what it holds."""
    now = context.clock.now()
    return {
        each: PortalProof(order_id=order.id, name=each, method=method, place=place, content=content, told=now)
        for each, (place, content) in places.items()
    }


def _look_first(
    context: ValidationContext,
    order: OrderRecord,
    wanted: Sequence[PortalProof],
    zones: Mapping[str, str],
    wait: float,
) -> None:
    """Record what a person has to make; the first time there is no sense in looking for it, unless it is waited for."""
    known = {each.name: _what(each) for each in context.ledger.portal.of(order.id)}
    new = [each for each in wanted if known.get(each.name) != _what(each)]
    context.ledger.portal.tell(new)
    if wait:
        context.progress.step(order.certificate, f"waiting for what you create:\n{table(wanted, zones)}")
    elif new:
        raise _ask(order, wanted, {}, zones)


def _waits(context: ValidationContext) -> Callable[[float], None]:
    return lambda seconds: context.progress.waits("files that you create are missing", seconds)


def _lacking(seen: Mapping[str, Sequence[Finding]]) -> list[str]:
    return [each for each, found in seen.items() if worst(found) is Severity.BAD]


def _judged(
    context: ValidationContext,
    wanted: Mapping[str, PortalProof],
    seen: dict[str, list[Finding]],
    ask: Callable[[Sequence[PortalProof]], StillWaiting],
) -> dict[str, list[Finding]]:
    """Record what was seen, and return it; where something is not, raise what `ask` makes."""
    lacking = _lacking(seen)
    for identifier, proof in wanted.items():
        context.ledger.portal.looked(proof, seen=identifier not in lacking)
    if lacking:
        raise ask([wanted[each] for each in lacking])
    return seen


def _what(proof: PortalProof) -> tuple[ProofMethod, str, str]:
    return proof.method, proof.place, proof.content


def _ask(
    order: OrderRecord,
    lacking: Sequence[PortalProof],
    seen: Mapping[str, Sequence[Finding]],
    zones: Mapping[str, str],
) -> StillWaiting:
    """Make the error that says what a person has to make, and what was seen instead, where it was looked for."""
    name, files = order.certificate, lacking[0].method is ProofMethod.FILE
    save = f"; to save the files for an upload: inkstamp prove {name} --into FOLDER" if files else ""
    return StillWaiting(
        f"order {order.id} for “{name}” waits for {'files' if files else 'DNS records'} that you create",
        where=", ".join(dict.fromkeys(f"zone {zones[each.place]}" for each in lacking if each.place in zones)),
        said=table(lacking, zones),
        findings=list(dict.fromkeys(finding for each in lacking for finding in seen.get(each.name, ()))),
        advice=f"create them, then run `inkstamp stamp {name}`; it resumes this order{save}",
    )


def table(lacking: Sequence[PortalProof], zones: Mapping[str, str]) -> str:
    """Say what is to be made where, in short lines; `zones` has the zone of each record, by its name."""
    lines = []
    for each in {(each.name, *_what(each)): each for each in lacking}.values():
        if each.method is ProofMethod.FILE:
            lines += [f"file     {each.url}", f"content  {each.content}"]
            continue
        zone = zones.get(each.place, "")
        relative = each.place.removesuffix(f".{zone}") if each.place != zone else "@"
        lines += [f"record   {each.place}", *([f"in zone  {zone}, as {relative}"] if zone else [])]
        lines += [f"type     {each.method.upper()}", f"value    {each.content}"]
    return "\n".join(lines)


def _as_file(proof: PortalProof) -> FileProof:
    return portal_file(proof.name, proof.place, proof.content)


def save_files(context: ValidationContext, certificate: str, folder: Path) -> list[Path]:
    """Write the files that a person has to make for the open order, to be uploaded; returns their paths.

    They lie in FOLDER/NAME/PATH, so that what is in FOLDER/NAME belongs into the document root of that name.

    Raises:
        UsageError: No file is to be made.
        FileTrouble: One cannot be written.

    """
    order = context.ledger.open_order(certificate)
    known = context.ledger.portal.of(order.id) if order is not None else []
    files = [each for each in known if each.method is ProofMethod.FILE]
    if not files:
        raise UsageError(
            f"there is no validation file to create for “{certificate}”", advice=f"see: inkstamp why {certificate}"
        )
    written = []
    for each in files:
        proof = _as_file(each)
        place = folder.joinpath(each.name, *proof.parts)
        with file_trouble("write", place):
            place.parent.mkdir(parents=True, exist_ok=True)
        if not place.is_file() or read_bytes(place) != proof.content:
            write_bytes(place, proof.content)
        written.append(place)
    return written


def tell_done(context: ValidationContext, order: OrderRecord) -> None:
    """Say that what a person made for an order at an ACME CA may be removed."""
    made = [each for each in context.ledger.portal.of(order.id) if not each.place.startswith(dns_persist.PREFIX)]
    if not made:
        return
    places = [each.url if each.method is ProofMethod.FILE else f"the TXT record {each.place}" for each in made]
    text = f"what you created may be removed: {', '.join(dict.fromkeys(places))}"
    context.progress.step(order.certificate, text)
    context.ledger.note("validated", f"order {order.id}: {text}", order.certificate)
