"""Show the CA that an order's names are ours: by the first way that is seen to work, name by name."""

from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from typing import TYPE_CHECKING

from msgspec import Struct, field

from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.acme.order_states import challenge_of
from inkstamp.acme.resources import Authorization, Challenge, is_token
from inkstamp.config.carrying import file_servers, methods_for, record_carrier
from inkstamp.config.model import Certificate
from inkstamp.config.words import BY_HAND, LISTENER, RECORD_METHODS
from inkstamp.errors import (
    CaMisbehaved,
    InkStampError,
    ProofFailed,
)
from inkstamp.findings import Finding, note
from inkstamp.jobs.validation import by_hand, dns_records, web_files
from inkstamp.jobs.validation.context import ValidationContext
from inkstamp.jobs.validation.dns_records import challenge_record
from inkstamp.jobs.validation.persistent_records import (
    ensure_persistent,
    expect_known_issuer,
    look_at_persistent,
    watch_persistent,
)
from inkstamp.jobs.validation.ways import SURMOUNTABLE
from inkstamp.ledger.records import OrderRecord
from inkstamp.proof.dns01 import record_value
from inkstamp.proof.observation import Caution, look_at, look_at_handshake
from inkstamp.proof.record import RecordProof
from inkstamp.proof.web_file import FileProof, http_proof
from inkstamp.severity import Severity, worst
from inkstamp.view.addresses import address_book
from inkstamp.wording import first_and_count

if TYPE_CHECKING:
    from inkstamp.proof.listener import Listener
    from inkstamp.proof.tls_alpn import TlsProof


class _Task(Struct, frozen=True):
    """One name to prove, and the ways that are left, the first one next."""

    authorization: Authorization
    ways: tuple[Challenge, ...]

    @property
    def identifier(self) -> str:
        star = "*." if self.authorization.wildcard else ""
        return star + self.authorization.identifier.value

    @property
    def name(self) -> str:
        return self.authorization.identifier.value

    @property
    def challenge(self) -> Challenge:
        return self.ways[0]

    def otherwise(self) -> "_Task":
        """Return the same name with the next way first."""
        return _Task(self.authorization, self.ways[1:])


class _Attempt(Struct, frozen=True):
    """What came of one way for a group of names."""

    shown: list[_Task] = field(default_factory=list)
    """Those whose proofs are seen from outside."""
    next: list[_Task] = field(default_factory=list)
    """Those that have another way left, which is tried now."""
    lost: list[Finding] = field(default_factory=list)
    """What is wrong with those that have none."""


def _tried_instead(method: str, why: str, tasks: Sequence[_Task]) -> Finding:
    """Say that another way is tried for some names, and why."""
    names = first_and_count([task.identifier for task in tasks])
    return note("validation", names, f"{method}{why}; {tasks[0].challenge.type} is tried instead")


_Seen = Mapping[str, Sequence[Finding]]
"""What was seen of each proof, by its challenge's URL."""


class ChallengeResponder:
    """The proofs of one order, from the first attempt until they are taken down."""

    def __init__(
        self,
        context: ValidationContext,
        order: OrderRecord,
        entry: Certificate,
        *,
        authorized: Callable[[Challenge], str],
        wait: float,
        refused: Mapping[str, Sequence[str]],
    ) -> None:
        """Begin.

        Args:
            context: The parts of the run.
            order: Whose proofs they are.
            entry: The certificate as configured.
            authorized: Returns a challenge's key authorization (RFC 8555 section 8.1).
            wait: Seconds to wait at least for records in DNS.
            refused: By name, the methods that the CA did not accept last time; they are tried last.

        """
        self._context = context
        self._order = order
        self._entry = entry
        self._authorized = authorized
        self._wait = wait
        self._refused = refused
        self._listening: dict[int, ExitStack] = {}
        """By port, what gives it back."""
        self._listened: dict[int, list[_Task]] = {}
        self._answered_files: list[FileProof] = []
        self._answered_handshakes: list[TlsProof] = []

    def take_down(self) -> None:
        """Remove the proofs, those of killed runs included, and give ports back."""
        for port in list(self._listening):
            self._listening.pop(port).close()
        web_files.take_down(self._context, self._order)

    def respond(self, pending: Sequence[Authorization]) -> list[tuple[Authorization, Challenge]]:
        """Put up a proof for each, and return the challenges whose proofs are seen from outside.

        Raises:
            ProofFailed: For a name, no configured way is seen to work; the CA must not be asked.
            StillWaiting: A person has to make records.
            CaMisbehaved: The CA offers none of the configured ways for a name.
            ServerTrouble, FileTrouble, CarrierTrouble: The last way left could not be gone.

        """
        waiting = [_Task(each, self._ways(each)) for each in pending]
        ready: list[_Task] = []
        lost: list[Finding] = []
        while waiting:
            methods = dict.fromkeys(task.challenge.type for task in waiting)
            groups = {method: [task for task in waiting if task.challenge.type == method] for method in methods}
            waiting = []
            for method, group in groups.items():
                attempt = self._attempt(method, group)
                ready += attempt.shown
                waiting += attempt.next
                lost += attempt.lost
        if lost:
            raise self._failed(lost)
        return [(task.authorization, task.challenge) for task in ready]

    def _ways(self, authorization: Authorization) -> tuple[Challenge, ...]:
        """Return the challenges that can be met, in the order in which to try them."""
        name = authorization.identifier.value
        star = "*." if authorization.wildcard else ""
        methods = methods_for(self._entry, star + name)
        if self._entry.proof is None and self._has_record(authorization):  # cheaper than a file
            methods = ("dns-persist-01", *methods)
        last = self._refused.get(star + name, ())
        methods = tuple(sorted(methods, key=lambda each: each in last))
        found = tuple(each for method in methods if (each := challenge_of(authorization, method)) is not None)
        if not found:
            offered = ", ".join(challenge.type for challenge in authorization.challenges) or "none"
            raise CaMisbehaved(
                f"the CA offers no {' or '.join(methods)} challenge for {star + name}",
                where=self._order.url,
                said=f"it offers: {offered}",
                advice="set `proof` for this certificate to a method that it offers",
            )
        for challenge in found:
            if challenge.type != "dns-persist-01" and not is_token(challenge.token):
                # Its authorization keeps it.
                raise CaMisbehaved("the CA's challenge has no usable token", where=challenge.url, lasting=True)
        return found

    def _has_record(self, authorization: Authorization) -> bool:
        """Tell whether a record that stays proves a name, and no server answers for it by itself."""
        challenge, name = challenge_of(authorization, "dns-persist-01"), authorization.identifier.value
        authority, context = self._order.authority, self._context
        if challenge is None or not context.config.authority[authority].draft:
            return False
        servers = file_servers(context.config, self._entry)
        try:
            mine = known_thumbprint(context, authority)
            if servers and all(web_files.answers_by_itself(context.servers.get(each), name, mine) for each in servers):
                return False
            asked = f"*.{name}" if authorization.wildcard else name
            (state,) = look_at_persistent(context, authority, [asked], challenge.issuer_domain_names)
        except InkStampError:
            return False
        return state.passes

    def _attempt(self, method: str, group: Sequence[_Task]) -> "_Attempt":
        """Go one way for a group of names."""
        try:
            seen = self._put_up(method, group)
        except SURMOUNTABLE as error:
            if any(len(task.ways) < 2 for task in group):
                raise
            tasks = [task.otherwise() for task in group]
            self._tell(error.findings)
            self._tell([_tried_instead(method, f": {error.what}", tasks)])
            return _Attempt(next=tasks)
        attempt = _Attempt()
        for task in group:
            found = seen[task.challenge.url]
            if worst(found) is not Severity.BAD:
                attempt.shown.append(task)
            elif len(task.ways) > 1:
                attempt.next.append(task.otherwise())
            else:
                attempt.lost.extend(found)
                continue
            self._tell(found)
        if attempt.next:
            self._tell([_tried_instead(method, " is not seen", attempt.next)])
        return attempt

    def _tell(self, findings: Sequence[Finding]) -> None:
        for finding in findings:
            self._context.progress.found(self._order.certificate, finding)

    def _put_up(self, method: str, group: Sequence[_Task]) -> _Seen:
        if method == "dns-persist-01":
            return self._persistent(group)
        if method in RECORD_METHODS:
            return self._records(group)
        web_files.check_addresses(self._context.view, [task.name for task in group])
        return self._handshakes(group) if method == "tls-alpn-01" else self._files(group)

    def _files(self, group: Sequence[_Task]) -> _Seen:
        proofs = {task.challenge.url: http_proof(task.name, task.challenge.token, self._authorized(task.challenge))
                  for task in group}  # fmt: skip
        servers = file_servers(self._context.config, self._entry)
        if not servers and LISTENER not in self._entry.carriers:
            return self._files_by_hand(group, proofs)
        if servers:
            web_files.put_up(self._context, self._order.id, servers, list(proofs.values()))
        else:
            from inkstamp.proof.listener import answer_files  # noqa: PLC0415  most files are put up by web servers

            self._answered_files += proofs.values()
            port = self._context.view.http_port
            self._listen(port, group, lambda where: answer_files(where, port, self._answered_files))
        ours = web_files.answers_at(self._context, servers)
        seen = web_files.look_until_seen(
            self._context.clock,
            list(proofs.values()),
            lambda proof: look_at(proof, self._context.view, ours, self._caution()),
        )
        for proof in proofs.values():
            if worst(seen[proof]) is Severity.BAD:
                seen[proof] += web_files.in_the_way(self._context, servers, proof)
        return {url: seen[proof] for url, proof in proofs.items()}

    def _files_by_hand(self, group: Sequence[_Task], proofs: Mapping[str, FileProof]) -> _Seen:
        """Have a person put the files where the CA will fetch them."""
        urls = {task.identifier: task.challenge.url for task in group}
        seen = by_hand.expect_files(
            self._context,
            self._order,
            {identifier: proofs[url] for identifier, url in urls.items()},
            lambda file: look_at(file, self._context.view, lambda _name, _address: True, self._caution()),
            wait=self._wait,
        )
        return {urls[identifier]: found for identifier, found in seen.items()}

    def _listen(self, port: int, group: Sequence[_Task], open_port: Callable[[tuple[str, ...]], "Listener"]) -> None:
        """Answer on a port for these names, and for those that it is answered for already."""
        if port in self._listening:  # its lock is this run's, and cannot be had twice
            self._listening.pop(port).close()
        self._listened.setdefault(port, []).extend(group)
        with ExitStack() as opening:
            opening.enter_context(self._context.locks.port(port))
            opening.callback(open_port(self._addresses(self._listened[port])).close)
            self._listening[port] = opening.pop_all()

    def _addresses(self, group: Sequence[_Task]) -> tuple[str, ...]:
        from inkstamp.proof.listener import where_to_listen  # noqa: PLC0415  as above

        book = address_book(self._context.view)
        return where_to_listen([address for task in group for address in book.look_up(task.name).all])

    def _caution(self) -> Caution:
        # Where a CA was content before, what cannot be seen from here has not kept it from that.
        known = self._context.ledger.newest_edition(self._order.certificate) is not None
        return Caution(whole=not known, anyway=self._context.asks_anyway)

    def _handshakes(self, group: Sequence[_Task]) -> _Seen:
        from inkstamp.proof.listener import answer_handshakes  # noqa: PLC0415  as above
        from inkstamp.proof.tls_alpn import tls_proof  # noqa: PLC0415  as above

        view, now = self._context.view, self._context.clock.now()
        proofs = {task.challenge.url: tls_proof(task.name, self._authorized(task.challenge), now) for task in group}
        self._answered_handshakes += proofs.values()
        port = view.https_port
        self._listen(port, group, lambda where: answer_handshakes(where, port, self._answered_handshakes))
        seen = web_files.look_until_seen(
            self._context.clock, list(proofs.values()), lambda proof: look_at_handshake(proof, view, self._caution())
        )
        return {url: seen[proof] for url, proof in proofs.items()}

    def _records(self, group: Sequence[_Task]) -> _Seen:
        authority = self._order.authority
        wanted = [
            RecordProof("txt", challenge_record(self._context, task.challenge.type, authority, task.name),
                        record_value(self._authorized(task.challenge)))
            for task in group
        ]  # fmt: skip
        via = record_carrier(self._context.config, self._entry)
        placed = dns_records.place(self._context, wanted)
        if via == BY_HAND:
            urls = {task.identifier: task.challenge.url for task in group}
            by_name = {(each.asked, each.record.value): each for each in placed}
            seen = by_hand.expect_records(
                self._context,
                self._order,
                {task.identifier: by_name[proof.place, proof.value] for task, proof in zip(group, wanted, strict=True)},
                lambda records, seconds: dns_records.observe(self._context, via, records, seconds),
                wait=self._wait,
            )
            return {urls[identifier]: found for identifier, found in seen.items()}
        dns_records.put_up(self._context, self._order.id, via, placed)
        observed = dns_records.observe(self._context, via, placed, self._wait)
        known = {(each.asked, each.record.value): found for each, found in observed.items()}
        return {
            task.challenge.url: known[(proof.place, proof.value)] for task, proof in zip(group, wanted, strict=True)
        }

    def _persistent(self, group: Sequence[_Task]) -> _Seen:
        """Look for records that stay; put them where they lack and something can, or have a person make them."""
        via = record_carrier(self._context.config, self._entry)
        issuers = group[0].challenge.issuer_domain_names
        states = look_at_persistent(self._context, self._order.authority, [task.identifier for task in group], issuers)
        lacking = [each for each in states if not each.passes]
        if via != BY_HAND or not lacking:
            found = ensure_persistent(self._context, via, states)
            return {task.challenge.url: found[task.name] for task in group}
        expect_known_issuer(lacking)
        by_hand.expect_records(
            self._context, self._order, {each.name: each.placed for each in lacking},
            lambda _, seconds: watch_persistent(self._context, self._order.authority, lacking, seconds),
            wait=self._wait,
        )  # fmt: skip
        return {task.challenge.url: [] for task in group}

    def _failed(self, lost: Sequence[Finding]) -> ProofFailed:
        failing = [finding for finding in lost if finding.severity is Severity.BAD]
        names = list(dict.fromkeys(finding.subject.partition(" ")[0] for finding in failing))
        certificate = self._order.certificate
        fix = "correct that"
        if any(finding.topic == "server" for finding in lost):
            fix = f"correct that, or see what `inkstamp prove {certificate} --let-through --preview` would change"
        return ProofFailed(
            f"the challenge response for {first_and_count(names)} cannot be fetched from outside; the "
            "CA was not asked to validate",
            findings=lost,
            advice=f"{fix}, then run `inkstamp stamp {certificate}`; it resumes this order",
        )
