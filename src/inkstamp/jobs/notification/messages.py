"""After a run of `renew`: tell people what they should know, each matter once, and write the figures."""

import os
from collections.abc import Mapping, Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from inkstamp.bulkhead import apart, reached
from inkstamp.clock import stamp
from inkstamp.config.model import Messenger
from inkstamp.deadline import within
from inkstamp.errors import (
    AccountTrouble,
    Actor,
    CaProblem,
    InkStampError,
    InternalError,
    StillWaiting,
    TtlNotExpired,
    UsageError,
)
from inkstamp.files import read_secret, read_secret_line
from inkstamp.jobs.notification.context import NotificationContext
from inkstamp.jobs.status.overview import CertificateState, CertificateStatus, statuses_of, statuses_of_mistakes
from inkstamp.jobs.status.run_record import told_gap
from inkstamp.policy.notification_rules import ACCOUNT_PROBLEMS, Condition, Matter, News, matters_of, news
from inkstamp.policy.portal_steps import is_reminded
from inkstamp.wording import counted, known_names, some_of

if TYPE_CHECKING:
    from inkstamp.ledger.failures import RecordedFailure
    from inkstamp.ledger.records import EditionRecord
    from inkstamp.ledger.run_summary import LastSweep

_FORMAT = 1
EACH_SECONDS = 120.0
"""For one messenger, with all its tries."""
_ALL, _TIMER = "renew", "schedule"
"""In the place of a certificate, for what is about none of them."""
_MOST_LINES = 100
"""Of each sort in an e-mail; the rest is counted. The webhook gets all."""
_MOST_OF_MACHINE = 5
"""Things that are told of one machine; the rest is shown by the command that is named."""
_DAY = timedelta(days=1)


class RunResult(Struct, frozen=True, kw_only=True):
    """What a run of renewal came to, as far as people and monitoring are told."""

    summary: "LastSweep"
    renewed: "tuple[EditionRecord, ...]" = ()
    """The editions that were issued in it."""
    errors: Mapping[str, InkStampError]
    """By certificate, what went wrong."""
    cut_off: datetime | None = None
    """When the run before this one began, if it was interrupted; aware, UTC."""
    missed_since: "LastSweep | None" = None
    """The run before this one, if others should have been made since."""


def report(
    context: NotificationContext, run: RunResult, names: Sequence[str], *, mistaken: bool
) -> tuple[InkStampError, ...]:
    """Tell what is new after a run over `names`, and write the metrics file; nothing that fails here stops the run.

    With `mistaken`, entries of the configuration that cannot be used are told of as well. Returns the internal errors
    that were met.
    """
    config, met = context.config, list[InkStampError]()
    try:
        with apart():
            told = [key[0] for name in config.messenger for key in context.ledger.sent_notices.told(name)]
            meant = dict.fromkeys((*names, *(each for each in told if context.certificates.get(each) is not None)))
            found = statuses_of(context, tuple(meant))
            conditions = _conditions(
                context, run.errors, [*found, *(statuses_of_mistakes(context) if mistaken else ())]
            )
    except InkStampError as error:
        context.progress.step("messengers", f"nobody could be notified: {error.what}")
        return (error,)
    if config.messenger:
        for name, entry in config.messenger.items():
            try:
                with apart(), within(EACH_SECONDS):
                    reached("tell", name)
                    _tell(context, name, entry, run, conditions)
            except InkStampError as error:
                met.append(error)
                said = f": {error.said}" if error.said else ""
                context.progress.step(
                    name, f"could not send the notification, the next run tries again: {error.what}{said}"
                )
                context.ledger.note("not sent", f"{name}: {error.what} ({error.where})")
    if config.renewal.metrics:
        from inkstamp.jobs.notification.metrics import write_metrics  # noqa: PLC0415  loaded where something is sent or written

        try:
            with apart():
                write_metrics(context, run.summary)
        except InkStampError as error:
            met.append(error)
            context.progress.step("metrics", f"could not be written: {error.what}")
    return tuple(each for each in met if isinstance(each, InternalError))


def _conditions(
    context: NotificationContext, errors: Mapping[str, InkStampError], statuses: Sequence[CertificateStatus]
) -> list[Condition]:
    names = [each.name for each in statuses]
    setbacks, editions = context.ledger.failures.all(names), context.ledger.newest_editions(names)
    now = context.clock.now()
    found = []
    for each in statuses:
        edition, setback = editions.get(each.name), setbacks.get(each.name)
        met = setback.told.error_class if setback else InkStampError
        record = context.certificates.record(each.name)
        mistaken = each.state is CertificateState.MISCONFIGURED
        waits_for, step = _waits_for(each, now)
        waits = setback is not None and issubclass(met, StillWaiting) and each.state is CertificateState.NOT_INSTALLED
        if waits and setback is not None and not issubclass(met, TtlNotExpired):
            waits_for = setback.told.what
        found.append(
            Condition(
                certificate=each.name,
                customer=record.customer if record is not None else "",
                days_left=(edition.not_after - now) / _DAY if edition else None,
                lifetime=(edition.not_after - edition.not_before) / _DAY if edition else 0.0,
                # What waits for a person has not failed: it is told as that.
                failures=setback.times if setback and not issubclass(met, StillWaiting) else int(mistaken),
                heals=not mistaken and not issubclass(met, InternalError),
                trouble=each.wanted if mistaken else setback.told.what if setback else "",
                remedy=each.next_command,
                account=_account_trouble(errors.get(each.name), setback),
                not_installed=each.state is CertificateState.NOT_INSTALLED and not waits,
                waits_for=waits_for,
                step=step,
            )
        )
    return found


def _waits_for(status: CertificateStatus, now: datetime) -> tuple[str, str]:
    """Return what a person has to do, or to ask about, and at which step after validation; empty for nothing."""
    stall = status.stall
    if stall is None:
        return "", ""
    progress = stall.progress
    if progress is None or progress.step == "validation":
        return (stall.step if status.state is CertificateState.WAITING_FOR_YOU and stall.who is Actor.YOU else ""), ""
    if not is_reminded(progress, stall.who, said=stall.said, now=now):
        return "", ""
    if progress.expected is None:
        return stall.step, progress.step
    if stall.who is Actor.YOU:
        return f"{stall.step}, expected on {progress.expected:%Y-%m-%d}", progress.step
    ask = "ask the CA" if stall.who is Actor.CA else "remind whoever approves"
    return f"{stall.step}, which was expected by {progress.expected:%Y-%m-%d}; {ask}", progress.step


def _account_trouble(error: InkStampError | None, setback: "RecordedFailure | None") -> str:
    if isinstance(error, AccountTrouble) or (isinstance(error, CaProblem) and error.kind in ACCOUNT_PROBLEMS):
        return error.what
    return setback.told.what if setback is not None and setback.told.problem in ACCOUNT_PROBLEMS else ""


def _tell(
    context: NotificationContext, name: str, entry: Messenger, run: RunResult, conditions: Sequence[Condition]
) -> None:
    now = [
        matter
        for each in conditions
        for matter in matters_of(each, about=entry.about, failing_times=entry.failing_times, days_left=entry.days_left)
    ]
    if run.cut_off is not None and "failing" in entry.about:
        text = f"the run of `renew` that began {run.cut_off:%Y-%m-%d %H:%M} UTC was interrupted"
        now.append(Matter(certificate=_ALL, kind="failing", text=text, remedy="inkstamp schedule show"))
    if run.missed_since is not None and "failing" in entry.about:
        text = f"{told_gap(run.missed_since, run.summary.at)}, until now: runs were missed"
        now.append(Matter(certificate=_TIMER, kind="failing", text=text, remedy="inkstamp schedule show"))
    now += _of_machines(context, entry)
    told = context.ledger.sent_notices.told(name)
    looked_at = frozenset(each.certificate for each in conditions) | {
        key[0] for key in told if key[0] not in context.certificates
    }
    fresh = news(told, now, looked_at)
    renewed = _renewed(run) if "renewed" in entry.about else ()
    if not fresh and not renewed:
        return
    send_news(context, name, entry, fresh, renewed)
    context.ledger.sent_notices.tell(name, fresh)


def _of_machines(context: NotificationContext, entry: Messenger) -> list[Matter]:
    """Return what is to be told of machines that share the ledger: those that are away, and what they lack for long."""
    machines = context.ledger.machines
    if machines is None or "not-installed" not in entry.about:
        return []
    from inkstamp.jobs.fleet.machine_report import troubles  # noqa: PLC0415  where machines share a ledger
    from inkstamp.jobs.fleet.rollout_progress import rollouts_under_way  # noqa: PLC0415  as above

    by_machine: dict[str, list[str]] = {}
    for each in troubles(machines, context.config.ledger.away_hours):
        by_machine.setdefault(each.subject, []).append(each.seen)
    of_machines = [
        Matter(certificate=f"machine {name}", kind="not-installed", remedy="inkstamp machines",
               text=f"machine {name}: {'; '.join(seen[:_MOST_OF_MACHINE])}")
        for name, seen in by_machine.items()
    ]  # fmt: skip
    stopped: dict[str, list[str]] = {}
    for rollout in rollouts_under_way(context):
        if rollout.is_stopped:
            stopped.setdefault(rollout.stopped_by, []).append(rollout.certificate)
    return of_machines + [
        Matter(certificate=f"roll-outs: {why}", kind="not-installed", remedy="inkstamp machines rollout",
               text=f"{counted(len(names), 'roll-out')} stopped ({some_of(names)}): {why}")
        for why, names in stopped.items()
    ]  # fmt: skip


def _renewed(run: RunResult) -> tuple[Matter, ...]:
    return tuple(
        Matter(
            certificate=each.certificate,
            kind="renewed",
            text=f"“{each.certificate}” has edition {each.number}, valid until {each.not_after:%Y-%m-%d}",
            remedy="",
        )
        for each in run.renewed
    )


def send_test(context: NotificationContext, name: str) -> Messenger:
    """Send a message that says that it is a test; returns the messenger's entry.

    Raises:
        UsageError: There is no such messenger.
        ConfigurationError: Its password or key cannot be read.
        NetworkTrouble: It is not accepted; nothing is tried again.

    """
    known = context.config.messenger
    if name not in known:
        raise UsageError(f"there is no messenger “{name}” in the configuration", where=str(context.configuration.path),
                         advice=known_names(known, name))  # fmt: skip
    entry, host = known[name], os.uname().nodename
    with within(EACH_SECONDS):
        if entry.kind == "mail":
            typed = f"inkstamp messenger test {name}"
            text = f"Nothing is wrong. Somebody typed `{typed}` on {host} to see whether this arrives.\n"
            _mail(context, entry, f"Certificates on {host}: a test", text)
        else:
            _post(context, name, entry, {"test": True, "new": (), "over": (), "renewed": ()})
    return entry


def send_news(
    context: NotificationContext, name: str, entry: Messenger, fresh: News, renewed: Sequence[Matter]
) -> None:
    """Send one message of what is new, by mail or by a webhook."""
    send = _by_mail if entry.kind == "mail" else _by_webhook
    send(context, name, entry, fresh, renewed)


def _by_mail(context: NotificationContext, name: str, entry: Messenger, fresh: News, renewed: Sequence[Matter]) -> None:
    host = os.uname().nodename
    counts = ((len(fresh.begun), "new"), (len(fresh.over), "over"), (len(renewed), "renewed"))
    subject = f"Certificates on {host}: {', '.join(f'{count} {word}' for count, word in counts if count)}"
    text = "\n".join(
        [
            *_lines("Needs action:", fresh.begun),
            *_lines("Over:", fresh.over),
            *_lines("Renewed:", renewed),
            f"Written by Ink Stamp on {host}, {stamp(context.clock.now())}, as [messenger.{name}] says in",
            f"{context.configuration.path}. Each problem is sent once, and once more when it is over.",
        ]
    )
    _mail(context, entry, subject, text)


def _mail(context: NotificationContext, entry: Messenger, subject: str, text: str) -> None:
    from inkstamp.reach.mail import MailServer, compose, send  # noqa: PLC0415  as above

    password = read_secret_line(entry.password_file) if entry.password_file else ""
    server = MailServer(
        place=entry.server, tls=entry.tls, trust=Path(entry.trust) if entry.trust else None,
        user=entry.user, password=password,
    )  # fmt: skip
    send(server, compose(entry.sender, entry.to, subject, text, context.clock.now().timestamp()))


def _lines(heading: str, matters: Sequence[Matter]) -> list[str]:
    if not matters:
        return []
    shown = [
        f"* {each.text}\n  fix: {each.remedy}" if each.remedy else f"* {each.text}" for each in matters[:_MOST_LINES]
    ]
    more = [f"* and {len(matters) - _MOST_LINES} more: inkstamp status"] if len(matters) > _MOST_LINES else []
    return [heading, *shown, *more, ""]


def _by_webhook(
    context: NotificationContext, name: str, entry: Messenger, fresh: News, renewed: Sequence[Matter]
) -> None:
    _post(context, name, entry, {"new": fresh.begun, "over": fresh.over, "renewed": renewed})


def _post(context: NotificationContext, name: str, entry: Messenger, content: Mapping[str, object]) -> None:
    from inkstamp.reach.webhook import post, signed_headers  # noqa: PLC0415  as above

    document = {"format": _FORMAT, "from": os.uname().nodename, "at": stamp(context.clock.now()), **content}
    body = msgspec.json.encode(document)
    key = read_secret(Path(entry.key_file)).strip()
    headers = signed_headers(entry.url, body, key, name, int(context.clock.now().timestamp()))
    post(entry.url, body, headers, trust=Path(entry.trust) if entry.trust else None, sleep=context.clock.sleep)
