"""The state machine of an order: every snapshot leads to a lawful next step."""

import pytest
from authority_of_tests import NOW
from hand_clock import HandClock
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.acme import order_states
from inkstamp.acme.patience import POLLING, Patience, ProcessingTimes, parse_retry_after
from inkstamp.acme.problems import advice, describe
from inkstamp.acme.resources import (
    Authorization,
    AuthorizationStatus,
    Challenge,
    ChallengeStatus,
    Directory,
    Identifier,
    Order,
    OrderStatus,
    Problem,
    is_token,
    read,
)
from inkstamp.errors import CaMisbehaved
from inkstamp.ledger.records import OPEN_STATES, ORDER_MOVES, OrderState

URLS = ("https://ca.test/a/1", "https://ca.test/a/2")


def authorization(url: str, status: AuthorizationStatus, challenge: ChallengeStatus) -> Authorization:
    answer = Challenge(type="http-01", url=url.replace("/a/", "/c/"), status=challenge, token="tok")
    strange = Challenge(type="lighthouse-01", url="https://ca.test/c/0", status=ChallengeStatus.PENDING)
    return Authorization(
        identifier=Identifier(type="dns", value="site.test"), status=status, challenges=(strange, answer)
    )


def order(status: OrderStatus, certificate: str = "https://ca.test/cert") -> Order:
    return Order(
        status=status, identifiers=(Identifier(type="dns", value="site.test"),), authorizations=URLS,
        finalize="https://ca.test/f", certificate=certificate,
    )  # fmt: skip


AUTHORIZATIONS = st.dictionaries(
    st.sampled_from(URLS), st.tuples(st.sampled_from(AuthorizationStatus), st.sampled_from(ChallengeStatus))
)


@given(st.sampled_from(OrderStatus), AUTHORIZATIONS, st.sets(st.sampled_from(URLS)))
def test_every_snapshot_has_a_next_step_and_nothing_is_asked_for_in_vain(
    status: OrderStatus,
    known: dict[str, tuple[AuthorizationStatus, ChallengeStatus]],
    answered: set[str],
) -> None:
    seen = {url: authorization(url, *states) for url, states in known.items()}
    gone = frozenset(url.replace("/a/", "/c/") for url in answered)
    step = order_states.next_step(order(status), seen, gone)
    if status is OrderStatus.INVALID:
        assert isinstance(step, order_states.Refused)
    elif status is OrderStatus.VALID:
        assert step == order_states.Download("https://ca.test/cert")
    elif status is OrderStatus.READY:
        assert step == order_states.Finalize()
    elif status is OrderStatus.PROCESSING:
        assert step == order_states.Wait()
    elif len(seen) < 2:
        assert step == order_states.FetchAuthorizations(tuple(url for url in URLS if url not in seen))
    elif all(each.status is AuthorizationStatus.VALID for each in seen.values()):
        assert step == order_states.Finalize()
    elif isinstance(step, order_states.Prove):
        assert not {challenge.url for each in step.pending for challenge in each.challenges} & gone
        assert {each.status for each in step.pending} == {AuthorizationStatus.PENDING}


def test_a_reply_that_says_valid_at_once_saves_the_polling() -> None:
    pending = {url: authorization(url, AuthorizationStatus.PENDING, ChallengeStatus.PENDING) for url in URLS}
    reply = Challenge(type="http-01", url="", status=ChallengeStatus.VALID)
    valid = {
        url: order_states.with_answer(each, Challenge(type="http-01", url=each.challenges[1].url, status=reply.status))
        for url, each in pending.items()
    }
    assert isinstance(order_states.next_step(order(OrderStatus.PENDING), pending, frozenset()), order_states.Prove)
    assert order_states.next_step(order(OrderStatus.PENDING), valid, frozenset()) == order_states.Finalize()


def test_a_valid_order_without_a_certificate_url_is_polled_and_not_guessed() -> None:
    assert order_states.next_step(order(OrderStatus.VALID, ""), {}, frozenset()) == order_states.Wait()


@given(st.sampled_from(OrderStatus), st.sampled_from(OrderStatus))
def test_an_order_never_goes_backwards(before: OrderStatus, after: OrderStatus) -> None:
    rank = list(OrderStatus)
    if rank.index(after) >= rank.index(before):
        order_states.check_move(before, after, "u")
    else:
        with pytest.raises(CaMisbehaved, match="does not allow"):
            order_states.check_move(before, after, "u")


def test_our_own_order_states_lead_to_an_end_from_everywhere() -> None:
    ended = {state for state in OrderState if state not in OPEN_STATES}
    assert ended == {OrderState.ISSUED, OrderState.REFUSED, OrderState.DROPPED}
    for state in OPEN_STATES:
        reachable: set[OrderState] = set()
        waiting = [state]
        while waiting:
            for after in ORDER_MOVES[waiting.pop()] - reachable:
                reachable.add(after)
                waiting.append(after)
        assert {OrderState.ISSUED, OrderState.DROPPED} <= reachable & ended


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        (None, None),
        ("0", 0.0),
        ("120", 120.0),
        (" 7 ", 7.0),
        ("Mon, 23 Nov 2026 12:00:30 GMT", 30.0),
        ("Monday, 23-Nov-26 12:01:00 GMT", 60.0),
        ("Mon Nov 23 12:00:05 2026", 5.0),
        ("Mon, 23 Nov 2026 11:00:00 GMT", 0.0),
        ("soon", None),
        ("-5", None),
        ("", None),
        ("9" * 400, 7 * 86_400.0),
        ("Fri, 31 Dec 9999 23:59:59 GMT", 7 * 86_400.0),
        ("Fri, 31 Dec 9999 23:59:59 -2359", 7 * 86_400.0),
    ],
)
def test_retry_after_is_read_in_all_its_forms(text: str | None, seconds: float | None) -> None:
    assert parse_retry_after(text, NOW) == seconds


@given(st.integers(0, 500), st.floats(0, 100), st.one_of(st.none(), st.floats(0, 1000)), st.floats(0, 20))
def test_waits_honour_the_ca_stay_positive_and_end(
    attempt: int, waited: float, asked: float | None, usual: float
) -> None:
    patience = Patience(first=0.5, factor=2, longest=8, whole=100)
    wait = patience.next_wait(attempt, waited, asked, usual)
    if wait is not None:
        assert wait >= 0.5
        assert wait >= (asked or 0)
        assert waited + wait <= 100
    else:
        assert waited + max(asked or 0, 0.5) > 92


@pytest.mark.parametrize("seconds", [0.001, 0.012, 0.4, 3.0])
def test_a_ca_that_is_asked_often_is_soon_asked_once_for_each_order_and_hardly_late(seconds: float) -> None:
    times, asked, late = ProcessingTimes(), [], []
    for _ in range(60):
        waited, tries = 0.0, 0
        while waited < seconds:
            wait = POLLING.next_wait(tries, waited, None, times.usual("pending"))
            assert wait is not None
            waited, tries = waited + wait, tries + 1
        times.took("pending", waited, tries)
        asked.append(tries)
        late.append(waited - seconds)
    assert sum(asked[20:]) <= 40 * 1.5
    assert sum(late[20:]) <= 40 * max(seconds / 2, POLLING.first)
    times.took("pending", 300.0, 9)
    assert times.usual("pending") <= 2 * max(seconds, POLLING.first), "one that took longer is no rule"


def test_a_hand_clock_passes_time_without_sleeping() -> None:
    clock = HandClock(NOW)
    clock.sleep(90)
    assert (clock.now() - NOW).total_seconds() == 90
    assert clock.slept == [90]


def test_a_compound_problem_is_told_name_by_name_with_advice() -> None:
    """RFC 8555 section 6.7.1."""
    problem = read(
        Problem,
        b'{"type":"urn:ietf:params:acme:error:malformed","detail":"Some of the identifiers were rejected",'
        b'"subproblems":[{"type":"urn:ietf:params:acme:error:caa","detail":"CAA forbids","identifier":'
        b'{"type":"dns","value":"a.test"}},{"type":"https://ca.test/odd","detail":"odd"}],"later":1}',
        "u",
    )
    said = describe(problem)
    assert "a.test: caa: CAA forbids" in said
    assert "https://ca.test/odd: odd" in said
    assert "CAA record" in advice(problem)


@pytest.mark.parametrize("body", [b"", b"<html>", b"[]", b'{"newNonce": 3}', b"\xff\xfe", b"[" * 5000, b"{}"])
def test_an_answer_that_is_no_directory_is_refused_with_its_beginning(body: bytes) -> None:
    with pytest.raises(CaMisbehaved) as caught:
        read(Directory, body, "https://ca.test/dir")
    assert caught.value.where == "https://ca.test/dir"


@pytest.mark.parametrize("token", ["", "..", "a/b", "a.b", "a\n", "x" * 257, "ä"])
def test_a_token_that_could_be_a_path_is_no_token(token: str) -> None:
    """RFC 8555 section 8.3: it becomes a file's name in a customer's folder."""
    assert not is_token(token)
    assert is_token("evaGxfADs6pSRb2LAv9IZf17Dt3juxGJ-PCt92wr-oA")


def test_a_state_that_no_rfc_lists_is_a_value_and_what_a_ca_writes_as_null_is_what_it_omits() -> None:
    text = b'{"status":"%b","identifiers":[],"authorizations":[],"finalize":"/f","error":null,"expires":null}'
    for state, step in (
        (b"deactivated", order_states.Refused),
        (b"on-hold", order_states.Wait),
        (b"ready", order_states.Finalize),
    ):
        found = read(Order, text % state, "https://ca.test/o/1")
        assert found.status == state.decode()
        assert isinstance(order_states.next_step(found, {}, frozenset()), step)
        order_states.check_move(OrderStatus.PENDING, found.status, "")
    assert read(
        Challenge, b'{"type":"http-01","url":"/c","status":"\\u001b[31mnew"}', "https://ca.test/"
    ).status.isprintable()
    with pytest.raises(CaMisbehaved, match="not the order"):
        read(Order, text.replace(b'"%b"', b"7"), "https://ca.test/o/1")
