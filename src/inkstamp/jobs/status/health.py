"""Whether all is well enough for nobody to be called: for health checks of containers and monitoring."""

from msgspec import Struct

from inkstamp.findings import Finding, bad, ok
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.overview import CertificateState, CertificateStatus, overview
from inkstamp.jobs.status.run_record import is_overdue, told_gap
from inkstamp.ledger.run_summary import last_sweep
from inkstamp.wording import counted

_NEEDS_A_PERSON = frozenset({
    CertificateState.UNKNOWN, CertificateState.MISCONFIGURED, CertificateState.EXPIRED, CertificateState.REFUSED,
    CertificateState.NOT_INSTALLED, CertificateState.WAITING_FOR_YOU,
})  # fmt: skip
"""What the next `renew` does not settle by itself."""
_MOST = 20


class Health(Struct, frozen=True):
    """What a health check comes to."""

    healthy: bool
    findings: tuple[Finding, ...]


def health(context: StatusContext) -> Health:
    """Look whether a certificate needs a person, has expired, or `renew` has not run for long; nothing is asked."""
    found = overview(context)
    now, last = context.clock.now(), last_sweep(context.home)
    troubles = [_told(each) for each in found.certificates if each.state in _NEEDS_A_PERSON]
    if last is not None and is_overdue(last, now):
        troubles.insert(0, bad("renew", "renew", told_gap(last, now), "inkstamp schedule show"))
    if not troubles:
        ran = f"; `renew` ran last on {last.at:%Y-%m-%d %H:%M} UTC" if last is not None else ""
        return Health(
            True, (ok("health", "status", f"nobody is needed for {counted(found.total, 'certificate')}{ran}"),)
        )
    more = len(troubles) - _MOST
    if more > 0:
        troubles[_MOST:] = [bad("health", "status", f"{more} more", "inkstamp status")]
    return Health(False, tuple(troubles))


def _told(each: CertificateStatus) -> Finding:
    return bad("health", each.name, each.state.value, each.next_command or f"inkstamp why {each.name}")
