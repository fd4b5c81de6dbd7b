"""One order on its way at an ACME CA: each turn asks `acme.order_states.next_step` what comes next, and does it.

What must survive a kill is in the ledger before the outside hears of it:

    1. intended    the ledger reserves the edition's number; the key is written
    2. opened      the CA's URL of the order
    3. proofs      each is recorded, put up, looked at; then its challenge is answered
    4. finalizing  before the CSR is sent
    5. issued      the edition is on the shelf; one transaction ends the order
"""

from collections.abc import Mapping, Sequence
from datetime import timedelta
from enum import Enum

from msgspec import Struct

from inkstamp.acme.client import Polled
from inkstamp.acme.jws import key_authorization
from inkstamp.acme.order_states import (
    Download,
    FetchAuthorizations,
    Finalize,
    Prove,
    Refused,
    Step,
    Wait,
    check_move,
    next_step,
    with_answer,
)
from inkstamp.acme.patience import POLLING
from inkstamp.acme.problems import as_error, describe, is_final
from inkstamp.acme.refusal import Refusal, causes_of
from inkstamp.acme.resources import Authorization, AuthorizationStatus, Order, OrderStatus
from inkstamp.bulkhead import at_step
from inkstamp.clock import stamp
from inkstamp.config.model import Certificate
from inkstamp.deadline import time_left
from inkstamp.errors import CaProblem, StillWaiting
from inkstamp.files import remove_tree
from inkstamp.jobs.issuance.csr_elsewhere import csr_for_order
from inkstamp.jobs.issuance.download import collect
from inkstamp.jobs.issuance.kept_key import keep_key
from inkstamp.jobs.orders.cancellation import drop
from inkstamp.jobs.orders.context import OrdersContext
from inkstamp.jobs.orders.new_order import open_at_ca
from inkstamp.jobs.validation.by_hand import tell_done
from inkstamp.jobs.validation.challenges import ChallengeResponder
from inkstamp.ledger.order_files import OrderKey
from inkstamp.ledger.records import EditionRecord, OrderRecord, OrderState
from inkstamp.pki import csr
from inkstamp.wording import counted


class Goal(Enum):
    """How far to lead an order: which steps are taken, beside looking at where it stands."""

    OPENED = frozenset[type[Step]]()
    PROVEN = frozenset({Prove, Wait})
    COLLECTED = frozenset({Wait, Finalize, Download})
    """To the edition, if the names are proven already."""
    ISSUED = COLLECTED | PROVEN
    """To the edition, whatever it takes."""


class Reached(Struct, frozen=True, kw_only=True):
    """How far an order was led."""

    order: OrderRecord
    status: OrderStatus
    """As the CA said last; `valid` when there is an edition."""
    to_prove: tuple[str, ...]
    """Names that are not validated yet."""
    edition: EditionRecord | None


_MOST_ORDERS_SEARCHED = 30
_GONE = {403, 404, 410}
_LONG_AT_WORK, _LONGEST_AT_WORK = timedelta(minutes=10), timedelta(days=1)
"""How long a CA is waited for as usual after the request was sent, and how long at all."""
_SHORT_WAIT = 15.0
"""Seconds."""
_UNDECIDED = {OrderStatus.PENDING, OrderStatus.READY}
_DOING: dict[type[Step], str] = {
    FetchAuthorizations: "fetching the authorizations",
    Prove: "validating the names",
    Wait: "waiting for the CA",
    Finalize: "sending the CSR",
    Download: "downloading the certificate",
    Refused: "the CA validated",
}


class _Ended(Struct, frozen=True):
    """That an order of an earlier run cannot go on."""

    why: str


class Lead:
    """One order on its way."""

    def __init__(
        self,
        context: OrdersContext,
        entry: Certificate,
        record: OrderRecord,
        wait: float,
        refused: Mapping[str, Sequence[str]],
    ) -> None:
        self._context = context
        self._ledger = context.ledger
        self._entry = entry
        self._record = record
        self._key = self._have_key()
        self._account = context.accounts.get(entry.authority)
        self._client = self._account.client
        self._refused_before = refused
        self._wait = wait
        self._responder = self._make_responder()
        self.refusal: Refusal | None = None
        """Why the CA refused the order; None while it did not."""
        self._seen: dict[str, Authorization] = {}
        self._answered: frozenset[str] = frozenset()
        self._polls = 0
        self._waited = 0.0
        self._asked = 0.0
        """Seconds for which the CA wants to be left alone after a challenge was answered."""

    def _have_key(self) -> OrderKey:
        brought = csr_for_order(self._context, self._record.certificate, self._entry)
        if not brought:
            keep_key(self._context, self._record, self._entry)
        return self._context.order_keys.have(self._record, self._entry.key, brought)

    def _make_responder(self) -> ChallengeResponder:
        return ChallengeResponder(
            self._context,
            self._record,
            self._entry,
            authorized=lambda challenge: key_authorization(challenge.token, self._account.thumbprint),
            wait=self._wait,
            refused=self._refused_before,
        )

    @property
    def record(self) -> OrderRecord:
        """The order as the ledger has it now."""
        return self._record

    def _step(self, text: str) -> None:
        self._context.progress.step(self._record.certificate, text)

    def run(self, goal: Goal, *, fresh: bool) -> Reached:
        """Go from wherever the order stands to its goal."""
        with at_step(f"ordering at {self._record.authority}"):
            polled = self._begin(fresh=fresh)
        while True:
            step = next_step(polled.order, self._seen, self._answered)
            if isinstance(step, Prove | Wait | Finalize | Download) and (type(step) not in goal.value):
                return self._reached(polled, step, None)
            with at_step(_DOING[type(step)]):
                match step:
                    case FetchAuthorizations(urls):
                        self._seen |= {url: self._client.authorization(url) for url in urls}
                    case Prove(pending):
                        self._prove(pending)
                    case Wait():
                        polled = self._poll(polled)
                    case Finalize():
                        polled = self._finalize(polled)
                    case Download(url):
                        return self._reached(polled, step, self._collect(url))
                    case Refused(authorizations):
                        raise self._refused(polled.order, authorizations)

    def _reached(self, polled: Polled, step: Step, edition: EditionRecord | None) -> Reached:
        pending = step.pending if isinstance(step, Prove) else ()
        return Reached(
            order=self._record,
            status=polled.order.status,
            to_prove=tuple(authorization.identifier.value for authorization in pending),
            edition=edition,
        )

    # Beginning, or finding where a killed run was

    def _begin(self, *, fresh: bool) -> Polled:
        if self._record.url:
            self._step(f"resuming order {self._record.id}")
            again = self._fetch_again()
            if isinstance(again, Polled):
                return again
            drop(self._context, self._record, again.why)
            self._record = self._ledger.intend_order(self._record.certificate, self._entry.authority, self._entry.names)
            self._responder = self._make_responder()
            self._key = self._have_key()
        elif not fresh:
            found = self._find_lost_order()
            if found is not None:
                return found
        self._step(f"ordering a certificate for {counted(len(self._entry.names), 'name')} at {self._entry.authority}")
        url, order = open_at_ca(self._context, self._client, self._record, self._entry)
        self._opened(url)
        return Polled(order, None)

    def _fetch_again(self) -> "Polled | _Ended":
        """Return the order of an earlier run, or why it cannot go on: forgotten, or ended meanwhile."""
        try:
            found = self._client.order(self._record.url)
        except CaProblem as problem:
            if problem.status not in _GONE:
                raise
            return _Ended("the CA no longer knows it")
        now = self._context.clock.now()
        if found.order.status is OrderStatus.PROCESSING:
            since = self._record.changed
            if now - since > _LONGEST_AT_WORK:
                return _Ended(f"the CA has been processing it since {stamp(since)}")
            if now - since > _LONG_AT_WORK:
                self._waited = POLLING.whole - _SHORT_WAIT  # others are not to wait for it once more
        if found.order.status is not OrderStatus.INVALID:
            if found.order.status in _UNDECIDED and found.order.has_expired(now):
                return _Ended(f"it expired on {found.order.expires} only")
            return found
        error = found.order.error
        return _Ended(f"it ended at the CA meanwhile ({describe(error) if error else 'no reason given'})")

    def _opened(self, url: str) -> None:
        self._record = self._ledger.move_order(
            self._record, OrderState.OPENED, "order opened", f"order {self._record.id} at {self._record.authority}", url
        )

    def _find_lost_order(self) -> Polled | None:
        """Look for an order that a killed run opened without living to write its URL down.

        Only CAs that list an account's orders (RFC 8555 section 7.1.2.1) allow it; elsewhere a second order is
        opened, and the first one expires by itself.
        """
        known = self._ledger.order_urls(self._record.authority)
        unknown = [url for url in self._client.open_orders() if url not in known]
        wanted = set(self._entry.names)
        for url in unknown[-_MOST_ORDERS_SEARCHED:]:
            polled = self._client.order(url)
            names = {identifier.value.lower() for identifier in polled.order.identifiers}
            if names == wanted and polled.order.status in _UNDECIDED:
                self._step(f"found order {self._record.id} of an interrupted run")
                self._opened(url)
                return polled
        return None

    def take_down(self) -> None:
        """Remove the order's proofs, wherever it stands."""
        self._responder.take_down()

    # The steps

    def _prove(self, pending: Sequence[Authorization]) -> None:
        self._step(f"placing {counted(len(pending), 'challenge response')} and testing from outside")
        shown = self._responder.respond(pending)
        self._step("asking the CA to validate")
        for authorization, challenge in shown:
            url = next(url for url, seen in self._seen.items() if seen is authorization)
            answered = self._client.answer(challenge)
            self._seen[url] = with_answer(authorization, answered.challenge)
            self._answered |= {challenge.url}
            self._asked = max(self._asked, answered.retry_after or 0.0)

    def _poll(self, before: Polled) -> Polled:
        asked = max(before.retry_after or 0.0, self._asked) or before.retry_after
        self._asked = 0.0
        at_work_on = before.order.status
        wait = POLLING.next_wait(self._polls, self._waited, asked, self._client.processing_times.usual(at_work_on))
        if wait is None or wait >= time_left():
            raise StillWaiting(
                f"the CA is still processing order {self._record.id}",
                where=self._record.url,
                said=f"its status is “{before.order.status}” after {self._waited:.0f} s",
                advice=f"run `inkstamp stamp {self._record.certificate}` later; it resumes this order",
            )
        if wait >= 1.0:
            self._context.progress.waits(f"the CA is processing ({before.order.status})", wait)
        self._context.clock.sleep(wait)
        self._waited += wait
        self._polls += 1
        polled = self._client.order(self._record.url)
        check_move(at_work_on, polled.order.status, self._record.url)
        if polled.order.status is not at_work_on:
            self._client.processing_times.took(at_work_on, self._waited, self._polls)
        return polled

    def _finalize(self, polled: Polled) -> Polled:
        self.take_down()
        tell_done(self._context, self._record)
        self._step("sending the CSR")
        if self._record.state is not OrderState.FINALIZING:
            self._record = self._ledger.move_order(self._record, OrderState.FINALIZING)
        self._polls, self._waited = 0, 0.0
        try:
            return self._client.finalize(polled.order.finalize, self._request())
        except CaProblem as problem:
            if problem.kind != "orderNotReady":  # RFC 8555 section 7.4: fetch the order to see why
                if is_final(problem):
                    raise self._end_refused(problem) from problem.__cause__
                raise
        self._answered |= {each.url for seen in self._seen.values() for each in seen.challenges}
        fetched = self._client.order(self._record.url)
        if fetched.order.status is OrderStatus.PENDING:
            return self._poll(fetched)
        return fetched

    def _request(self) -> bytes:
        """Return the CSR, as DER: the one that was brought, or one that is made of the order's key."""
        if self._key.private is None:
            return self._key.request
        return csr.make(self._key.private, csr.for_names(self._entry.names))

    def _end_refused(self, problem: CaProblem) -> CaProblem:
        """End an order whose request was refused for good, whatever the CA says that its state is."""
        text = f"order {self._record.id}: {problem.said or problem.what}"
        self._record = self._ledger.move_order(self._record, OrderState.REFUSED, "refused", text)
        remove_tree(self._context.home.order(self._record.id))
        again = f"the next run orders again: inkstamp stamp {self._record.certificate}"
        return problem.amended(advice=f"{problem.advice}; {again}")

    def _collect(self, url: str) -> EditionRecord:
        self._step("downloading and verifying the certificate")
        edition = collect(self._context, self._account, self._record, self._key, url)
        remove_tree(self._context.home.order(self._record.id))
        return edition

    def _refused(self, order: Order, authorizations: Sequence[Authorization]) -> CaProblem:
        """End an order that the CA refused; returns the error that says why."""
        newest = (
            [self._newest(url, seen) for url, seen in self._seen.items()]
            if authorizations
            else [self._client.authorization(url) for url in order.authorizations]
        )
        self.refusal = causes_of(order, newest)
        self.take_down()
        said = self.refusal.said
        self._record = self._ledger.move_order(
            self._record, OrderState.REFUSED, "refused", f"order {self._record.id}: {said}"
        )
        remove_tree(self._context.home.order(self._record.id))
        what = f"the CA refused to issue for {', '.join(self.refusal.names) or self._record.certificate}"
        return as_error(self.refusal.problem, what, where=self._record.url, said=said, names=self.refusal.names)

    def _newest(self, url: str, seen: Authorization) -> Authorization:
        final = seen.status not in {AuthorizationStatus.PENDING}
        return seen if final else self._client.authorization(url)
