"""How long publicly trusted certificates may be valid, and validations be used again, by the date of issue. Pure."""

import tomllib
from datetime import MAXYEAR, date, datetime, timedelta
from functools import cache
from importlib import resources

from msgspec import Struct


class ValidityLimits(Struct, frozen=True, kw_only=True):
    """What counts for certificates that are issued from a date on; all in days."""

    issued_from: date
    certificate: int
    """The longest validity (Baseline Requirements section 6.3.2)."""
    domain: int
    """For how long a CA may go by a domain control validation (section 4.2.1)."""
    organisation: int
    """For how long a CA may go by what it vetted of the subject (section 4.2.1)."""


@cache
def all_limits() -> tuple[ValidityLimits, ...]:
    """Return the limits, the earliest first."""
    text = resources.files("inkstamp.policy").joinpath("validity_limits.toml").read_text("utf-8")
    return tuple(ValidityLimits(**each) for each in tomllib.loads(text)["limits"])


def limits_at(issued: datetime) -> ValidityLimits | None:
    """Return what counts for a certificate that is issued at an aware moment; None before there were such limits."""
    day = issued.date()
    return next((each for each in reversed(all_limits()) if each.issued_from <= day), None)


def next_limits(now: datetime) -> ValidityLimits | None:
    """Return the limits that come after the present ones; None where no others are decided."""
    return next((each for each in all_limits() if each.issued_from > now.date()), None)


def longest_until(issued: datetime) -> datetime | None:
    """Return when a certificate that is issued at an aware moment expires at the latest; None before the limits."""
    limits = limits_at(issued)
    if limits is None or issued.year >= MAXYEAR - 1:  # which somebody wrote who means no end
        return None
    return issued + timedelta(days=limits.certificate)


def validation_ends(validated: datetime) -> datetime:
    """Return until when certificates may be issued by a domain control validation of an aware moment.

    What counts is the date of issue, so a limit that comes in between may end it earlier than that of the day itself.
    """
    known = all_limits()
    ends = validated + timedelta(days=known[0].domain)
    for each in known[1:]:
        begins = datetime.combine(each.issued_from, datetime.min.time(), tzinfo=validated.tzinfo)
        if begins > ends:
            break
        ends = max(begins, validated + timedelta(days=each.domain))
    return ends
