"""Get an edition from an ACME CA: lead its order, and after a refusal another one, as long as that may help."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

import msgspec

from inkstamp.config.carrying import methods_for
from inkstamp.config.model import Certificate
from inkstamp.deadline import at_least, is_over, within
from inkstamp.errors import CaMisbehaved, CaProblem, EditionUnfit, NetworkTrouble, ProofFailed, StillWaiting
from inkstamp.jobs.issuance.csr_elsewhere import csr_for_order
from inkstamp.jobs.orders.acme_order import Goal, Lead, Reached
from inkstamp.jobs.orders.cancellation import abandon, expect_same
from inkstamp.jobs.orders.context import OrdersContext
from inkstamp.jobs.orders.name_subset import less_of
from inkstamp.ledger.order_files import brought_for
from inkstamp.ledger.records import OPEN_STATES, EditionRecord, OrderRecord, OrderState
from inkstamp.pki import keys
from inkstamp.wording import first_and_count

if TYPE_CHECKING:
    pass


_ORDER_SECONDS, _NAME_SECONDS = 1800.0, 10.0
"""For one order from where it stands to its goal, and more for each name; a wait for DNS that was asked for comes on
top."""
_TAKING_DOWN_SECONDS = 300.0


def obtain(context: OrdersContext, name: str, entry: Certificate) -> EditionRecord:
    """Get a new edition of certificate `name`, going on with its open order if there is one.

    The caller holds the certificate. Whatever happens, no proof is left standing when this returns or raises.

    Raises:
        CaProblem: The CA refused; the order is ended.
        ProofFailed, NetworkTrouble, EditionUnfit, StillWaiting: The order stays open; the next run goes on.

    """
    edition = lead(context, name, entry, Goal.ISSUED).edition
    if edition is None:  # pragma: no cover  an order is led to its goal or something is raised
        raise StillWaiting(f"the order of “{name}” is not at its end", advice="run the command again")
    return edition


def lead(context: OrdersContext, name: str, entry: Certificate, goal: Goal, *, wait: float = 0.0) -> Reached:
    """Lead the order of certificate `name` at an ACME CA as far as `goal`; otherwise as `obtain`.

    Records in DNS are waited for `wait` seconds at least.
    """
    ledger = context.ledger
    record = ledger.open_order(name)
    if record is not None and record.authority in entry.otherwise:
        entry = msgspec.structs.replace(entry, authority=record.authority)
    brought = csr_for_order(context, name, entry)
    unwanted = _why_unwanted(context, record, entry, brought) if record is not None else ""
    if record is not None and unwanted:
        if record.state is OrderState.WAITING:
            expect_same(context.configuration.path, record, entry)
        abandon(context, record, unwanted, valid_too=False)
        record = None
    fresh = record is None
    refusals = _Refusals(context, name)
    while True:
        record = record or ledger.intend_order(name, entry.authority, entry.names)
        seconds = _ORDER_SECONDS + _NAME_SECONDS * len(entry.names) + wait
        with within(seconds), _leading(context, entry, record, wait, refusals) as leading:
            try:
                return leading.run(goal, fresh=fresh)
            except (CaProblem, ProofFailed) as problem:
                if is_over():
                    raise
                entry = refusals.otherwise(leading, entry, problem)
                record, fresh = None, True
            except NetworkTrouble as trouble:
                if not is_over():
                    raise
                raise StillWaiting(
                    f"order {leading.record.id} took longer than {seconds / 60:.0f} minutes",
                    where=leading.record.url,
                    said=trouble.what,
                    advice=f"run `inkstamp stamp {name}` again, which resumes it; see why the CA is slow",
                ) from trouble


@contextmanager
def _leading(
    context: OrdersContext, entry: Certificate, record: OrderRecord, wait: float, refusals: "_Refusals"
) -> Iterator[Lead]:
    """Lead an order; whatever happens, no proof is left standing, and one that will never do better is ended."""
    leading = Lead(context, entry, record, wait, refusals.before)
    try:
        yield leading
    except (CaMisbehaved, EditionUnfit) as error:
        if error.lasting:
            abandon(context, leading.record, error.what, valid_too=False)
            again = f"inkstamp stamp {record.certificate}"
            advice = f"the next run orders again: {again}; if it persists, show this to the CA"
            raise error.amended(advice=advice) from error.__cause__
        raise
    finally:
        with at_least(_TAKING_DOWN_SECONDS):
            leading.take_down()


class _Refusals:
    """What was refused in this run and in those before, and what may be tried after that."""

    def __init__(self, context: OrdersContext, name: str) -> None:
        self._context = context
        self._name = name
        self._now: dict[str, list[str]] = {}
        self._lapsed = False
        self.before = context.ledger.failures.refused_methods(name)
        """By name, the methods that the CA did not accept."""

    def otherwise(self, leading: Lead, entry: Certificate, problem: CaProblem | ProofFailed) -> Certificate:
        """Return what to order after `problem`; raises it where nothing else may help."""
        methods = leading.refusal.methods if leading.refusal is not None else {}
        for each, method in methods.items():
            self._now.setdefault(each, []).append(method)
            self.before.setdefault(each, []).append(method)
        if self._now:
            self._context.ledger.failures.refuse(self._name, self._now)
        say = self._context.progress.step
        if leading.refusal is not None and leading.refusal.lapsed and not self._lapsed:
            self._lapsed = True
            say(self._name, "an authorization expired or was revoked; ordering again")
        elif _another_way(entry, methods, self._now):
            names = first_and_count(list(methods))
            say(self._name, f"was refused for {names}; ordering again, validated in another way")
        else:
            entry = less_of(self._context, self._name, entry, problem)
            _give_back(self._context, leading.record)
        return entry


def _give_back(context: OrdersContext, record: OrderRecord) -> None:
    """End an order that another one, for fewer names, takes the place of."""
    if record.state in OPEN_STATES:
        abandon(context, record, "continues without some of its names", valid_too=False)


def _another_way(entry: Certificate, refused: Mapping[str, str], tried: Mapping[str, Sequence[str]]) -> bool:
    """Tell whether each name that the CA refused just now has a configured way that it was not asked by in this run."""
    return bool(refused) and all(set(methods_for(entry, name)) - set(tried[name]) for name in refused)


def _why_unwanted(context: OrdersContext, record: OrderRecord, entry: Certificate, brought: bytes) -> str:
    """Say why an open order is not resumed; empty when it is."""
    changed = "the configuration has changed since"
    if record.authority != entry.authority:
        return changed
    if record.names != entry.names and not (entry.leave_out_failing and set(record.names) < set(entry.names)):
        return changed
    present = brought_for(context.home, record)
    if brought and present is None:
        return changed if record.state is OrderState.FINALIZING else ""
    if brought or present is not None:
        return "" if brought == present else "another CSR was brought since" if brought else changed
    if not (context.home.order(record.id) / "key.pem").exists():
        return "its key is missing, and its CSR was sent" if record.state is OrderState.FINALIZING else ""
    same = keys.describe(context.order_keys.read(record).public) == entry.key
    return "" if same else changed
