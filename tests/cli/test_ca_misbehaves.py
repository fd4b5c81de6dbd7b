"""A CA that does what RFC 8555 forbids: one test says what Ink Stamp does, and what it never does.

Never: a traceback, a hang, a bad file on the shelf, a second certificate for nothing.
"""

import itertools
import json
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, fields
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest
from simulated import SimulatedWorld, simulated_world
from soak import SoakClock

from inkstamp.config.model import Certificate
from inkstamp.errors import StillWaiting
from inkstamp.jobs.orders.attempts import obtain
from inkstamp.runtime import Runtime
from inkstamp.standins.ca_mood import Canned, Mood
from inkstamp.standins.weather import Weather

GOES_ON, STOPS = "goes on", "stops"
_NUMBERS = itertools.count(1)


def soon(form: str) -> str:
    moment = datetime.now(UTC) + timedelta(seconds=1)
    if form == "past":
        moment -= timedelta(days=3)
    return {
        "asctime": moment.strftime("%a %b %e %H:%M:%S %Y"),
        "850": moment.strftime("%A, %d-%b-%y %H:%M:%S GMT"),
    }.get(form, format_datetime(moment, usegmt=True))


def page(status: int, **headers: str) -> Canned:
    return Canned(status, headers, b"<html><h1>not now</h1></html>", "text/html")


def answers(resource: str, *canned: Canned) -> Callable[[SimulatedWorld], None]:
    return lambda world: world.can(resource, *canned)


def mood(**changes: object) -> Callable[[SimulatedWorld], None]:
    def change(world: SimulatedWorld) -> None:
        for name, value in changes.items():
            setattr(world.simulated.state.mood, name, value)

    return change


def weather(**changes: float) -> Callable[[SimulatedWorld], None]:
    def change(world: SimulatedWorld) -> None:
        world.simulated.weather.chance.seed(7)
        for name, value in changes.items():
            setattr(world.simulated.weather, name, value)

    return change


@dataclass(frozen=True)
class Case:
    name: str
    misbehave: Callable[[SimulatedWorld], None]
    does: str
    told: str = ""
    """What is said of it, where it stops."""
    orders: int = 1
    """Orders that it may have opened in that run."""


HTML = b"<!doctype html><title>Under maintenance</title>"
CASES = [
    Case("nonces refused at times", weather(nonces=0.4), GOES_ON),
    Case("nonces refused always", weather(nonces=1.0), STOPS, "rejects its own nonces", 0),
    Case("no nonces", mood(gives_nonces=False), STOPS, "holds no nonce", 0),
    Case("500", answers("new-order", page(500)), GOES_ON),
    Case("502", answers("finalize", page(502)), GOES_ON),
    Case("503 with seconds", answers("order", page(503, **{"Retry-After": "1"})), GOES_ON),
    Case("503 with a date", answers("order", page(503, **{"Retry-After": soon("1123")})), GOES_ON),
    Case("503 with an old form of date", answers("order", page(503, **{"Retry-After": soon("850")})), GOES_ON),
    Case("503 with asctime", answers("order", page(503, **{"Retry-After": soon("asctime")})), GOES_ON),
    Case("503 with a time that is past", answers("order", page(503, **{"Retry-After": soon("past")})), GOES_ON),
    Case("503 with nonsense", answers("order", page(503, **{"Retry-After": "when the tide turns"})), GOES_ON),
    Case("429 for a second", answers("new-order", page(429, **{"Retry-After": "1"})), GOES_ON),
    Case(
        "429 for a year",
        answers("new-order", page(429, **{"Retry-After": "31536000"})),
        STOPS,
        "asks to retry after",
        0,
    ),
    Case("closes half-way", weather(cut=0.07), GOES_ON),
    Case("breaks connections", weather(lost=0.07), GOES_ON),
    Case("html for an order", answers("order", Canned(200, {}, HTML, "text/html")), STOPS, "is not the order"),
    Case(
        "html for a directory", answers("directory", Canned(200, {}, HTML, "text/html")), STOPS, "not the directory", 0
    ),
    Case(
        "cut json",
        answers("authorization", Canned(200, {}, b'{"status": "pend', "application/json")),
        STOPS,
        "is not the authorization",
    ),
    Case(
        "json of another shape",
        answers("finalize", Canned(200, {}, b'["valid"]', "application/json")),
        STOPS,
        "is not the order",
    ),
    Case("deep json", answers("order", Canned(200, {}, b"[" * 100_000, "application/json")), STOPS, "is not the order"),
    Case(
        "20 MB",
        answers("certificate", Canned(200, {}, b"x" * 20_000_000, "text/plain")),
        STOPS,
        "is longer than 1048576",
    ),
    Case("redirects an order", mood(redirects={"new-order"}), STOPS, "redirects a request to", 0),
    Case(
        "redirects the directory for ever", mood(redirects={"directory", "elsewhere"}), STOPS, "redirects more than", 0
    ),
    Case("another key", mood(issues="another key"), STOPS, "belongs to another key"),
    Case("a name less", mood(issues="a name less"), STOPS, "the certificate lacks"),
    Case("expired", mood(issues="expired"), STOPS, "and now it is"),
    Case("not yet valid", mood(issues="not yet valid"), STOPS, "check this machine's clock"),
    Case("chain in the wrong order", mood(chain="shuffled"), GOES_ON),
    Case("chain without its intermediate", mood(chain="bare"), STOPS, "is not among the trusted roots"),
    Case("chain of 200", mood(chain="long"), STOPS, "a chain has a few"),
    Case("no certificate", mood(chain="none"), STOPS, "holds 0 PEM certificates"),
    Case("CRLF and text around", mood(chain="dressed"), GOES_ON),
    Case("a token with slashes", mood(token="../../../etc/cron.d/x"), STOPS, "has no usable token"),
    Case("a token of 1 MB", mood(token="a" * 900_000), STOPS, "has no usable token"),
    Case("an empty challenge", mood(token=" "), STOPS, "has no usable token"),
    Case(
        "challenges at a host that is not there",
        mood(challenges_at="https://localhost:1"),
        STOPS,
        "cannot reach the CA",
    ),
    Case(
        "challenges that are not https",
        mood(challenges_at="http://127.0.0.1:1"),
        STOPS,
        "names a URL that is not https",
    ),
]


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[SimulatedWorld]:
    with simulated_world(tmp_path_factory.mktemp("misbehaves")) as made:
        yield made


@pytest.fixture
def world(shared: SimulatedWorld) -> SimulatedWorld:
    """The shared world in a good mood."""
    behave(shared)
    return shared


def behave(world: SimulatedWorld) -> None:
    fresh: tuple[tuple[object, object], ...] = (
        (world.simulated.state.mood, Mood()),
        (world.simulated.weather, Weather()),
    )
    for there, good in fresh:
        for each in fields(good):  # type: ignore[arg-type]
            setattr(there, each.name, getattr(good, each.name))


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_what_it_does(world: SimulatedWorld, case: Case) -> None:
    short = f"case{next(_NUMBERS)}"
    names = [f"{short}.saltmarsh.test", f"www.{short}.saltmarsh.test"]
    world.site(short, names)
    state = world.simulated.state
    issued, orders = state.issued, len(state.orders)
    case.misbehave(world)

    done = world.run("stamp", *names, "--as", short, "--json", timeout=100)

    said = f"{done.out}\n{done.err}"
    assert "Traceback" not in said
    assert "internal error in Ink Stamp" not in said
    assert (done.status == 0) is (case.does == GOES_ON), said
    assert len(state.orders) - orders <= max(case.orders, 1)
    assert len(said) < 20_000, "however much it sends, people are not shown all of it"
    shelf = world.home / "shelf" / short
    if case.does == STOPS:
        assert case.told in done.flat
        error = json.loads(done.out)["error"]
        assert error["advice"] or error["findings"], "what to do is said"
        assert not (shelf / "current").exists()
        assert len(state.orders) - orders == case.orders
    assert world.left_behind() == []

    behave(world)
    again = world.run("stamp", short)
    if case.name == "not yet valid":
        assert (again.status, state.issued - issued) == (1, 1), "it may be our clock: another one would be no better"
        return
    assert again.status == 0, again.err
    assert (shelf / "current" / "served.pem").read_bytes().count(b"BEGIN CERTIFICATE") == 2
    spoilt = case.name in {"another key", "a name less", "expired"}
    assert state.issued - issued == (2 if spoilt else 1), "the next run goes on; a new order where the old is spoilt"


def test_an_order_that_is_never_done_is_left_for_a_later_run_after_minutes(world: SimulatedWorld) -> None:
    short = f"case{next(_NUMBERS)}"
    world.site(short, [f"{short}.saltmarsh.test"])
    world.simulated.state.mood.never_done = True
    clock, asked = SoakClock(datetime.now(UTC)), world.asked()["order"]
    begin = clock.moment
    runtime = Runtime(world.config, world.home, clock=clock)
    entry = Certificate(names=(f"{short}.saltmarsh.test",), authority="quayside", via="front")
    with pytest.raises(StillWaiting, match="still processing") as raised:
        obtain(runtime, short, entry)
    assert timedelta(minutes=4) < clock.moment - begin <= timedelta(minutes=5)
    assert "it resumes this order" in raised.value.advice
    assert world.asked()["order"] - asked < 60, "and it is not asked all the time"
    clock.moment = begin = clock.moment + timedelta(hours=2)
    with pytest.raises(StillWaiting):  # others are not to wait for it again
        obtain(runtime, short, entry)
    assert clock.moment - begin <= timedelta(seconds=20)
    orders = world.asked()["new-order"]
    clock.moment += timedelta(hours=23)
    with pytest.raises(StillWaiting):
        obtain(runtime, short, entry)
    assert world.asked()["new-order"] == orders + 1, "a day is enough: it was given up, and another one opened"
    world.simulated.state.mood.never_done = False
    assert obtain(runtime, short, entry).number == 2
    runtime.close(0)


def test_a_clock_that_goes_back_at_the_ca_stops_nothing(world: SimulatedWorld) -> None:
    """Windows, dates and Retry-After out of the past, as of a CA whose clock is wrong."""
    short = f"case{next(_NUMBERS)}"
    world.site(short, [f"{short}.saltmarsh.test"])
    old = format_datetime(datetime(2001, 1, 1, tzinfo=UTC), usegmt=True)
    world.simulated.state.mood.canned["order"] = deque([page(503, **{"Retry-After": old, "Date": old})])
    world.simulated.state.mood.order_life = timedelta(days=3)
    done = world.run("stamp", f"{short}.saltmarsh.test", "--as", short)
    assert done.status == 0, done.err
    window = {"suggestedWindow": {"start": "2001-01-01T00:00:00Z", "end": "2001-01-02T00:00:00Z"}}
    world.can("renewal-info", Canned(200, {"Retry-After": old}, json.dumps(window).encode(), "application/json"))
    issued = world.simulated.state.issued
    assert world.run("renew", short).status == 0
    assert world.simulated.state.issued == issued, "a window before its certificate began is none"
