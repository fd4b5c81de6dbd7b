"""Write where all certificates stand as one page of HTML: what needs somebody first, expiries drawn, searchable."""

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli.output import clean
from inkstamp.cli.report import Expiry, time_line, write_page
from inkstamp.jobs.status.overview import CertificateState

if TYPE_CHECKING:
    from inkstamp.jobs.status.overview import CertificateStatus, Overview

_BROKEN = frozenset({CertificateState.EXPIRED, CertificateState.UNKNOWN, CertificateState.MISCONFIGURED,
                     CertificateState.REFUSED})  # fmt: skip
_MARKS = {"ok": "✓", "warnings": "!", "broken": "✗"}


def write_status(found: "Overview", file: Path) -> None:
    """Write the page; FileTrouble when it cannot be."""
    expiries = [
        Expiry(clean(each.name), each.days_left, _kind(each))
        for each in found.certificates
        if each.days_left is not None
    ]
    needing = [each for each in found.certificates if each.needs_somebody]
    write_page(
        "status.html.jinja",
        file,
        at=f"{datetime.now(UTC):%Y-%m-%d %H:%M}",
        total=found.total,
        ok=found.total - len(needing),
        needing=[_as_shown(each) for each in needing],
        others=[_as_shown(each) for each in found.certificates if not each.needs_somebody],
        groups=[(clean(each.group), each.total, each.ok) for each in found.groups],
        listed=len(found.certificates),
        marks=_MARKS,
        line=time_line(expiries),
    )


def _kind(status: "CertificateStatus") -> str:
    return "broken" if status.state in _BROKEN else "warnings" if status.needs_somebody else "ok"


def _as_shown(status: "CertificateStatus") -> dict[str, object]:
    """Return a certificate's row, without what strangers may have written to confuse."""
    return {
        "name": clean(status.name),
        "state": status.state.value,
        "kind": _kind(status),
        "days_left": status.days_left,
        "renews_at": f"{status.renews_at:%Y-%m-%d}" if status.renews_at else "-",
        "names": ", ".join(map(clean, status.names)),
        "wanted": clean(status.wanted),
        "next_command": clean(status.next_command),
    }
