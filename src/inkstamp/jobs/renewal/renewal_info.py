"""Ask a CA when it would like certificates to be renewed (RFC 9773)."""

from collections.abc import Sequence
from datetime import timedelta
from typing import TYPE_CHECKING

from inkstamp.acme.ari import certificate_id
from inkstamp.acme.client import CaClient
from inkstamp.acme.resources import RenewalInfo
from inkstamp.clock import clamped
from inkstamp.errors import CaMisbehaved, CaProblem, InkStampError, NetworkTrouble
from inkstamp.jobs.renewal.turns import InternalErrors, Pair, in_turns
from inkstamp.ledger.observations import Heard
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.renewal_time import Window, ask_again
from inkstamp.printable import one_line

if TYPE_CHECKING:
    from inkstamp.runtime import Runtime

_A_DAY = timedelta(days=1)
_PASSING = frozenset({429, *range(500, 600)})
_LONGEST_URL = 300


class Asker:
    """Asks one CA about many editions; at the first trouble of the CA it is left alone until the next run."""

    def __init__(self, runtime: "Runtime", authority: str) -> None:
        self._runtime = runtime
        self._authority = authority
        self._trouble: InkStampError | None = None

    def about(self, pairs: Sequence[Pair]) -> InternalErrors:
        """Ask about editions, and write down what was heard; returns the internal errors."""
        failed: InternalErrors = ()
        if self._runtime.ledger.account(self._authority) is None:
            return failed
        say = self._runtime.progress.step
        try:
            client = self._runtime.accounts.get(self._authority).client
            if client.directory().renewal_info:
                many = "the certificate" if len(pairs) == 1 else f"{len(pairs)} certificates"
                say(self._authority, f"asking for the renewal window of {many} (ARI)")
                failed = in_turns(self._runtime, pairs, lambda edition: self._ask(client, edition))
            else:
                failed = in_turns(self._runtime, pairs, lambda _edition: self._nothing())
        except (NetworkTrouble, CaProblem, CaMisbehaved) as error:
            self._trouble = error
        if self._trouble is not None:
            say(self._authority, f"no renewal window (ARI), the dates decide: {self._trouble.what}")
        return failed

    def _ask(self, client: CaClient, edition: EditionRecord) -> Heard | None:
        if self._trouble is not None:
            return None
        try:
            identifier = certificate_id(self._runtime.shelf.chain(edition)[0])
        except InkStampError:  # its files are gone: there is nothing to ask with
            identifier = ""
        if not identifier:
            return self._nothing()
        try:
            info, retry_after = client.renewal_info(identifier)
        except CaProblem as error:
            if error.status not in _PASSING:
                return Heard(window=None, ask_again=ask_again(self._runtime.clock.now(), None))  # unknown there
            self._trouble = error
        except CaMisbehaved:
            return Heard(window=None, ask_again=ask_again(self._runtime.clock.now(), None))
        except InkStampError as error:
            self._trouble = error
        else:
            window = _window_of(info)
            return Heard(window=window, ask_again=ask_again(self._runtime.clock.now(), retry_after if window else None))
        return None

    def _nothing(self) -> Heard | None:
        return Heard(window=None, ask_again=self._runtime.clock.now() + _A_DAY)


def _window_of(info: RenewalInfo) -> Window | None:
    """Return the CA's window, None for one that cannot be (RFC 9773 section 4.2)."""
    told = info.suggested_window
    if told.start.tzinfo is None or told.end.tzinfo is None:
        return None
    start, end = clamped(told.start), clamped(told.end)
    return Window(start, end, one_line(info.explanation_url, _LONGEST_URL)) if start < end else None
