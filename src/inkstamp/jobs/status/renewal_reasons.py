"""Why a newer edition of a certificate is wanted: one answer for `renew`, `stamp` and `status`."""

from collections.abc import Iterator
from datetime import datetime, timedelta

from msgspec import Struct

from inkstamp.config.carrying import key_server
from inkstamp.config.model import Certificate
from inkstamp.errors import ConfigurationError, EditionUnfit, FileTrouble
from inkstamp.jobs.status.context import StatusContext
from inkstamp.ledger.brought_csr import brought_since
from inkstamp.ledger.observations import Observation
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.renewal_time import Decision, decide, fraction_of, last_part

_A_DAY = timedelta(days=1)


class RenewalReason(Struct, frozen=True):
    """Why, in a few words."""

    text: str
    pressing: bool = False
    """Whether visitors are harmed already, or will be any moment."""
    can_wait: bool = False
    """Whether another day does as well: its time has come, and there is plenty left."""


def decision_on(context: StatusContext, edition: EditionRecord, observed: Observation, now: datetime) -> Decision:
    """Decide by its lifetime, the configuration and the CA's word whether an edition is to be renewed at `now`."""
    config = context.config
    entry = context.certificates.get(edition.certificate)
    with_left = entry.renew_with_left if entry is not None else None
    return decide(
        edition.not_before,
        edition.not_after,
        now,
        with_left=config.renewal.with_left if with_left is None else with_left,
        fraction=fraction_of(edition.sha256),
        window=observed.window,
        planned=observed.planned,
        before_window=entry is not None and config.authority[entry.authority].level_load,
    )


def renewal_of(context: StatusContext, edition: EditionRecord) -> datetime:
    """Return from when an edition is renewed, as far as is known now; aware, UTC."""
    return decision_on(context, edition, context.ledger.observations.of(edition), context.clock.now()).at


def reasons(
    context: StatusContext,
    entry: Certificate,
    edition: EditionRecord,
    observed: Observation,
    now: datetime,
    *,
    decision: Decision | None = None,
) -> Iterator[RenewalReason]:
    """Yield why a newer edition than `edition`, the newest one, is wanted: the most pressing reason first.

    `decision` is what `decision_on` says, where that is known already.
    """
    if observed.revoked:
        why = f" ({observed.revoked_why})" if observed.revoked_why else ""
        yield RenewalReason(f"the CA revoked edition {edition.number} on {observed.revoked:%Y-%m-%d}{why}", True)
    decision = decision or decision_on(context, edition, observed, now)
    if decision.due:
        ends = [last_part(edition.not_before, edition.not_after), *([observed.window.end] if observed.window else ())]
        in_time = not decision.pressing and now + _A_DAY < min(ends)
        yield RenewalReason(decision.reason, decision.pressing, can_wait=in_time)
    if entry.key_elsewhere:
        if brought_since(context.home, context.shelf, edition.certificate, edition.number) is not None:
            yield RenewalReason("a new CSR was brought")
    elif not context.shelf.has_key(edition.certificate, edition.number):
        yield RenewalReason(f"the key of edition {edition.number} is missing")
    elif context.shelf.is_touched(edition.certificate, edition.number) and is_unfit(context, edition):
        yield RenewalReason(
            f"the key of edition {edition.number} was replaced and no longer matches the certificate", True
        )
    elif _is_still_plain(context, entry, edition):
        yield RenewalReason(
            f"the key of edition {edition.number} is not encrypted, and `key_passphrase_file` is configured"
        )
    text = _changed(context, entry, edition)
    if text:
        yield RenewalReason(text)


def _is_still_plain(context: StatusContext, entry: Certificate, edition: EditionRecord) -> bool:
    """Tell whether a key is not encrypted that should be, and a new one costs nothing: not one bought at a portal."""
    if not entry.key_passphrase_file or not context.config.authority[entry.authority].is_acme:
        return False
    return not context.shelf.is_encrypted(edition.certificate, edition.number)


def is_unfit(context: StatusContext, edition: EditionRecord) -> bool:
    """Tell whether the key on the shelf is not the one of an edition's certificate, or is encrypted."""
    from inkstamp.jobs.status.editions import expect_pair  # noqa: PLC0415  X.509: few keys were touched

    try:
        expect_pair(context.shelf, edition)
    except EditionUnfit:
        return True
    except (FileTrouble, ConfigurationError):
        return False  # it cannot be read here and now, which is told where it has to be
    return False


def _changed(context: StatusContext, entry: Certificate, edition: EditionRecord) -> str:
    """Say what the configuration asks for that the edition is not; empty for nothing."""
    lacking = [each for each in entry.names if each not in edition.names]
    if lacking:
        return f"edition {edition.number} does not cover {', '.join(lacking)}"
    if not context.config.authority[entry.authority].is_acme:
        return ""  # at a portal the CA likes to add a name, and a person may bring a request with a key of his own
    if len(edition.names) != len(entry.names):
        # What was asked for counts: that a CA added a name is no reason to ask again.
        order = context.ledger.order_of_edition(edition.certificate, edition.number)
        gone = [each for each in order.names if each not in entry.names] if order is not None else []
        if gone:
            return f"edition {edition.number} covers {', '.join(gone)}, which are no longer configured"
    if edition.key and edition.key != entry.key and not (entry.key_elsewhere and not key_server(entry)):
        return f"the key of edition {edition.number} is {edition.key}, and {entry.key} is configured"
    return ""
