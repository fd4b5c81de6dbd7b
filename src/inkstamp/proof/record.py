"""A proof that is a record in DNS: the CNAME or TXT that a portal asks for, and how it is seen."""

from collections.abc import Callable

from msgspec import Struct

from inkstamp.findings import Finding, bad, note, ok
from inkstamp.view.questions import Answer
from inkstamp.view.zones import is_delegated

MAKE_IT = "create there a"
"""Begins what is to be done where nothing was made yet."""
_TOPIC = "validation"
_SHOWN = 60
_MOST_ALIASES = 10


class RecordProof(Struct, frozen=True):
    """A record that shows control of a name."""

    kind: str
    """`cname` or `txt`."""
    place: str
    """The record's name, lower case, without a dot at the end."""
    value: str


def look_at_record(proof: RecordProof, ask: Callable[[str], Answer]) -> Finding:
    """Say whether the record is there; `bad` where a CA would not find it.

    Args:
        proof: What should be there.
        ask: Asks for the records of the proof's type at a name, as text.

    """
    answer, place = ask(proof.place), proof.place
    if proof.kind == "cname":
        for _ in range(_MOST_ALIASES):
            target = answer.records[0].rstrip(".").lower() if answer.records else ""
            if _same(proof, target) or not is_delegated(place, target):
                break
            place = target
            answer = ask(place)
    if not answer.known:
        return note(_TOPIC, proof.place, f"unknown: {answer.trouble}", "try again in a moment")
    if any(_same(proof, each) for each in answer.records):
        return ok(_TOPIC, proof.place, f"{proof.kind.upper()} is there with the right value")
    if answer.records:
        return _other_value(proof, answer.records)
    for twice in _doubled(proof.place):
        if ask(twice).records:
            return bad(
                _TOPIC,
                proof.place,
                f"the record is at {twice}: the zone's name was appended twice",
                f"enter {_relative(proof.place, twice)} as its name, or end the full name with a dot",
            )
    return bad(
        _TOPIC,
        place,
        answer.trouble.removeprefix(f"{place} ") or f"has no {proof.kind.upper()} record",
        f"{MAKE_IT} {proof.kind.upper()} record with the value {proof.value}",
    )


def _same(proof: RecordProof, value: str) -> bool:
    if proof.kind == "cname":
        return value.rstrip(".").lower() == proof.value.rstrip(".").lower()
    return value == proof.value


def _other_value(proof: RecordProof, values: tuple[str, ...]) -> Finding:
    wanted = proof.value.rstrip(".").lower()
    for each in values:
        if proof.kind == "cname" and each.lower().startswith(wanted + "."):
            return bad(
                _TOPIC,
                proof.place,
                f"points to {each}: the zone's name was appended to the value",
                f"end the value with a dot: {proof.value.rstrip('.')}.",
            )
        if proof.kind == "txt" and each.strip(" \"'“”") == proof.value:
            return bad(_TOPIC, proof.place, "has quotation marks or blanks around the value", "remove them")
    shown = ", ".join(f"“{each[:_SHOWN]}{'…' if len(each) > _SHOWN else ''}”" for each in values[:3])
    return bad(
        _TOPIC,
        proof.place,
        f"has another {proof.kind.upper()} value: {shown}",
        f"{'change it to' if proof.kind == 'cname' else 'add a record with'} {proof.value}",
    )


def _doubled(place: str) -> list[str]:
    """Return the names at which a record stands when a DNS panel adds the zone to a full name."""
    labels = place.split(".")
    return [f"{place}.{'.'.join(labels[at:])}" for at in range(1, len(labels) - 1)][-4:]


def _relative(place: str, twice: str) -> str:
    zone = twice[len(place) + 1 :]
    return place.removesuffix("." + zone)
