"""Figures for monitoring, in the text format of Prometheus; the node exporter's textfile collector reads the file."""

from pathlib import Path
from typing import TYPE_CHECKING

from prometheus_client import CollectorRegistry, Gauge, generate_latest

from inkstamp.files import write_bytes
from inkstamp.jobs.notification.context import NotificationContext
from inkstamp.jobs.status.overview import overview

if TYPE_CHECKING:
    from inkstamp.ledger.run_summary import LastSweep

_OF_CERTIFICATES = {
    "not_after_timestamp_seconds": "when the newest edition expires",
    "days_left": "days until the newest edition expires; negative afterwards",
    "due_timestamp_seconds": "from when it is renewed",
    "last_success_timestamp_seconds": "when its newest edition was issued to us",
    "last_failure_timestamp_seconds": "when it failed last; only while that is not overcome",
    "failures": "failures in a row, in the same way",
    "ok": "1 when there is nothing to do for it, else 0",
}

_OF_GROUPS = {
    "certificates": "certificates of the group on the roster",
    "ok": "those of them that there is nothing to do for; the others have figures of their own",
}


def write_metrics(context: NotificationContext, run: "LastSweep") -> None:
    """Write the file that the configuration names, whole or not at all; FileTrouble when it cannot be written."""
    registry = CollectorRegistry()
    gauges = {
        name: Gauge(f"inkstamp_certificate_{name}", told, ["certificate"], registry=registry)
        for name, told in _OF_CERTIFICATES.items()
    }
    now = context.clock.now()
    found = overview(context)
    names = [each.name for each in found.certificates]
    orders, setbacks = context.ledger.newest_issued(names), context.ledger.failures.all(names)
    for each in found.certificates:
        if each.name in context.config.mistaken_beside:
            continue  # no certificate: those that need it are told
        setback, issued = setbacks.get(each.name), orders.get(each.name)
        values = {
            "not_after_timestamp_seconds": each.not_after.timestamp() if each.not_after else None,
            "days_left": (each.not_after - now).total_seconds() / 86_400 if each.not_after else None,
            "due_timestamp_seconds": each.renews_at.timestamp() if each.renews_at else None,
            "last_success_timestamp_seconds": issued.timestamp() if issued else None,
            "last_failure_timestamp_seconds": setback.last.timestamp() if setback else None,
            "failures": setback.times if setback else 0,
            "ok": 0 if each.next_command else 1,
        }
        for name, value in values.items():
            if value is not None:
                gauges[name].labels(each.name).set(value)
    for name, told in _OF_GROUPS.items():
        gauge = Gauge(f"inkstamp_group_{name}", told, ["group"], registry=registry)
        for group in found.groups:
            gauge.labels(group.group).set(group.total if name == "certificates" else group.ok)
    for name, told, figure in (
        ("run_timestamp_seconds", "when `renew` ran last", now.timestamp()),
        ("run_looked_at", "certificates that the last run checked", run.looked_at),
        ("run_renewed", "certificates that the last run renewed or installed", run.renewed),
        ("run_failed", "certificates that failed in the last run", run.failed),
        ("run_waiting", "certificates that wait for a person", run.waiting),
    ):
        Gauge(f"inkstamp_{name}", told, registry=registry).set(figure)
    write_bytes(Path(context.config.renewal.metrics), generate_latest(registry), mode=0o644)
