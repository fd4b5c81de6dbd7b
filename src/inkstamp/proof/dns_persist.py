"""The `dns-persist-01` proof: a TXT record that stays (draft-ietf-acme-dns-persist), with RFC 8659's issue value."""

import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime

from msgspec import Struct

from inkstamp.clock import LATEST
from inkstamp.printable import one_line
from inkstamp.proof.issue_value import can_stand, read_issue_value

PREFIX = "_validation-persist."
_ISSUER = re.compile(r"[a-z0-9]([a-z0-9-]*[a-z0-9])?(\.[a-z0-9]([a-z0-9-]*[a-z0-9])?)*")
_MOST_DIGITS = 15
_LONGEST_NAME = 253
_SHOWN = 120


class PersistentRecord(Struct, frozen=True, kw_only=True):
    """What one record allows."""

    issuer: str
    """The CA's issuer domain name, in lower case."""
    account: str
    """URL of the account; empty where the record names none."""
    wildcard: bool
    """Whether it counts for wildcards, too."""
    until: datetime | None
    """Aware, UTC; None for a record without an end."""
    text: str
    """As it is in DNS."""


class WantedRecord(Struct, frozen=True, kw_only=True):
    """What a record has to say for a CA to take it."""

    issuers: tuple[str, ...]
    """Issuer domain names of the CA, in lower case; empty where they are not known, so that any will do."""
    account: str
    wildcard: bool


def usable_issuers(told: Iterable[str]) -> tuple[str, ...]:
    """Return those of a CA's issuer domain names that a record can name; they are the CA's own words."""
    plain = (each.rstrip(".").lower() for each in told)
    return tuple(dict.fromkeys(each for each in plain if len(each) <= _LONGEST_NAME and _ISSUER.fullmatch(each)))


def can_name(account: str) -> bool:
    """Tell whether a record can name an account by its URL."""
    return can_stand("accounturi", account)


def record_name(name: str) -> str:
    """Return where the record of a name is; a wildcard and its bare name share it."""
    return PREFIX + name.removeprefix("*.")


def write_record(wanted: WantedRecord, until: datetime | None = None) -> str:
    """Write the record's value; the CA's first name counts."""
    policy = "; policy=wildcard" if wanted.wildcard else ""
    end = f"; persistUntil={int(until.timestamp())}" if until is not None else ""
    return f"{wanted.issuers[0]}; accounturi={wanted.account}{policy}{end}"


def read_record(text: str) -> PersistentRecord | None:
    """Read a record's value; None for one that is malformed, which CAs pass over."""
    value = read_issue_value(text)
    if value is None or not _ISSUER.fullmatch(value.issuer):
        return None
    parameters = value.parameters
    until = _moment(parameters["persistuntil"]) if "persistuntil" in parameters else None
    if "persistuntil" in parameters and until is None:
        return None
    return PersistentRecord(issuer=value.issuer, account=parameters.get("accounturi", ""), until=until, text=text,
                            wildcard=parameters.get("policy", "").lower() == "wildcard")  # fmt: skip


def _moment(digits: str) -> datetime | None:
    if not (digits.isascii() and digits.isdigit() and len(digits) <= _MOST_DIGITS):
        return None
    seconds = min(int(digits), int(LATEST.timestamp()))
    return datetime.fromtimestamp(seconds, UTC)


def good_record(values: Iterable[str], wanted: WantedRecord, now: datetime) -> PersistentRecord | None:
    """Return the record by which the CA validates, the one that lasts longest; None where there is none."""
    read = [record for value in values if (record := read_record(value)) is not None]
    good = [each for each in read if not why_not(each, wanted, now)]
    return max(good, key=lambda each: each.until or LATEST, default=None)


def why_not(record: PersistentRecord, wanted: WantedRecord, now: datetime) -> str:
    """Say why the CA does not validate by a record; empty when it does."""
    if not _is_of(record, wanted):
        return f"is for another CA, {one_line(record.issuer, _SHOWN)}"
    if record.account != wanted.account:
        return f"is for another account, {one_line(record.account, _SHOWN) or 'none'}"
    if record.until is not None and record.until <= now:
        return f"ran out on {record.until:%Y-%m-%d}"
    if wanted.wildcard and not record.wildcard:
        return "does not allow wildcards (policy=wildcard)"
    return ""


def _is_of(record: PersistentRecord, wanted: WantedRecord) -> bool:
    """Tell whether a record is for the CA."""
    return not wanted.issuers or record.issuer in wanted.issuers


def _names_us(record: PersistentRecord | None, wanted: WantedRecord) -> bool:
    return record is not None and record.account == wanted.account and _is_of(record, wanted)


def is_ours(text: str, wanted: WantedRecord) -> bool:
    """Tell whether a value is for our account at that CA, good or not."""
    return _names_us(read_record(text), wanted)


def reasons(values: Sequence[str], wanted: WantedRecord, now: datetime) -> list[str]:
    """Say of each value why the CA does not validate by it, those that concern us most first."""
    read = [(value, read_record(value)) for value in values]
    mine = [each for _, each in read if each is not None and _names_us(each, wanted)]
    others = [each for _, each in read if each is not None and each not in mine]
    broken = [f"“{one_line(value, _SHOWN)}” is malformed" for value, each in read if each is None]
    return [*(f"the record {why_not(each, wanted, now)}" for each in (*mine, *others)), *broken]
