"""What a person should be told of: from where certificates stand to matters, told once and called off once. Pure."""

from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta

from msgspec import Struct

from inkstamp.config.words import Matter as Kind

ACCOUNT_PROBLEMS = frozenset({"accountDoesNotExist", "externalAccountRequired", "userActionRequired"})
"""Problems (RFC 8555 section 6.7) that a person has to settle with the CA."""
_SHORTEST_PART = 4
"""`days_left` is never more than this part of a lifetime: seven-day certificates would be told of at once."""


class Condition(Struct, frozen=True, kw_only=True):
    """Where one certificate stands, as far as people want to know."""

    certificate: str
    days_left: float | None
    """Until its newest edition expires; None when there is none."""
    lifetime: float
    """Of that edition, in days."""
    failures: int
    """In a row, in the same way."""
    trouble: str
    """What failed last, in one sentence; empty for nothing."""
    heals: bool = True
    """Whether time may heal that; a mistake, in Ink Stamp itself or in the configuration, is told the first time."""
    remedy: str
    """What to do about it."""
    account: str
    """What is wrong with the account at its CA; empty for nothing."""
    not_installed: bool
    customer: str = ""
    """Whose it is; empty where that is not said."""
    waits_for: str
    """What a person has to do before it goes on, or to ask about; empty for nothing."""
    step: str = ""
    """At which step after domain control validation that is, at a portal; each is a matter of its own."""


class Matter(Struct, frozen=True, kw_only=True):
    """One thing to tell about one certificate."""

    certificate: str
    kind: Kind
    text: str
    """As a sentence."""
    remedy: str
    """What to type or to do."""
    step: str = ""
    """At which step of an order at a portal; empty for any other matter."""

    @property
    def key(self) -> tuple[str, str]:
        """What makes it the same matter in the next run."""
        return self.certificate, f"{self.kind} {self.step}".rstrip()


def matters_of(each: Condition, *, about: Sequence[Kind], failing_times: int, days_left: int) -> list[Matter]:
    """Return what is to be told about one certificate, of the kinds in `about`."""
    name = each.certificate
    called = f"“{name}” of {each.customer}" if each.customer else f"“{name}”"
    found: list[tuple[Kind, str, str]] = []
    if each.days_left is not None and each.days_left < min(days_left, each.lifetime / _SHORTEST_PART):
        when = "has expired" if each.days_left < 0 else f"expires in {_days(each.days_left)}"
        found.append(("expiring", f"{called} {when}", each.remedy or f"inkstamp why {name}"))
    if each.account:
        found.append(("account", f"{called} is not renewed: {each.account}", each.remedy))
    if each.failures >= failing_times or (not each.heals and each.failures):
        often = "once" if each.failures == 1 else f"{each.failures} times in a row"
        found.append(("failing", f"{called} failed {often}: {each.trouble}", f"inkstamp why {name}"))
    if each.not_installed:
        found.append(
            ("not-installed", f"{called}: the newest edition is not on all its servers", f"inkstamp why {name}")
        )
    if each.waits_for:
        found.append(("waiting", f"{called} waits for a person: {each.waits_for}", f"inkstamp why {name}"))
    return [
        Matter(certificate=name, kind=kind, text=text, remedy=do, step=each.step if kind == "waiting" else "")
        for kind, text, do in found
        if kind in about
    ]


def told_from(not_before: datetime, not_after: datetime, days_left: int) -> datetime:
    """Return from when it is told that a certificate expires; all moments are aware."""
    return not_after - min(timedelta(days=days_left), (not_after - not_before) / _SHORTEST_PART)


def _days(days: float) -> str:
    return f"{days:.0f} days" if days >= 2 else f"{days * 24:.0f} hours"


class News(Struct, frozen=True):
    """What a messenger is to tell now."""

    begun: tuple[Matter, ...]
    over: tuple[Matter, ...]
    """Told before, and not so any more."""

    def __bool__(self) -> bool:
        """Tell whether there is anything."""
        return bool(self.begun or self.over)


def news(told: Mapping[tuple[str, str], Matter], now: Sequence[Matter], looked_at: frozenset[str]) -> News:
    """Compare what was told with what is so now; certificates that were not looked at stay as they are."""
    present = {each.key for each in now}
    return News(
        begun=tuple(each for each in now if each.key not in told),
        over=tuple(each for key, each in told.items() if key not in present and key[0] in looked_at),
    )
