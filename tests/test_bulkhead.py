"""What goes wrong with one stays with that one; scopes of time nest and follow work into threads; text is cleaned."""

import json
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.bulkhead import apart, as_they_end, attempt, side_by_side
from inkstamp.clock import EARLIEST, LATEST, clamped
from inkstamp.deadline import at_least, is_over, time_left, wait_limit, within
from inkstamp.errors import ConfigurationError, InternalError, UrlTrouble, UsageError
from inkstamp.ledger.rows import from_moment, to_moment
from inkstamp.ownership import expect_ours
from inkstamp.policy.notification_rules import Condition, matters_of
from inkstamp.policy.renewal_time import next_try, renewal_moment
from inkstamp.printable import escaped_json, one_line, printable
from inkstamp.transport import connect
from inkstamp.urls import absolute, web_url
from inkstamp.view.point import is_public


class Panic(BaseException):
    """As libraries in other languages raise: no Exception at all."""


def throw(error: BaseException) -> None:
    raise error


@pytest.mark.parametrize(
    "error", [ZeroDivisionError("x"), Panic("x"), RecursionError(), MemoryError(), KeyError("\x1b")]
)
def test_whatever_is_thrown_becomes_the_outcome_of_that_one_with_its_traceback(error: BaseException) -> None:
    found = attempt(throw, error)
    assert isinstance(found, InternalError)
    assert type(error).__name__ in found.what
    assert "in throw" in found.traceback
    assert "\x1b" not in found.what + found.traceback


@pytest.mark.parametrize("error", [KeyboardInterrupt(), SystemExit(3)])
def test_what_ends_the_run_is_nobodys_outcome(error: BaseException) -> None:
    with pytest.raises(type(error)):
        attempt(throw, error)


def test_an_error_of_ours_stays_what_it_is() -> None:
    with pytest.raises(UsageError), apart():
        raise UsageError("no")


@pytest.mark.parametrize("run", [side_by_side, lambda *given: list(as_they_end(*given))])
def test_a_deadline_follows_the_work_into_threads(run: Callable[..., list[float]]) -> None:
    with within(5):
        assert all(0 < left <= 5 for left in run(lambda _: time_left(), [1, 2, 3], 3))


def test_scopes_nest_and_the_earliest_end_counts_but_for_what_must_be_put_back() -> None:
    assert wait_limit(7.0) == 7.0
    with within(0.0), within(60):
        assert is_over()
        with pytest.raises(TimeoutError):
            wait_limit()
        with at_least(30):
            assert 20 < time_left() <= 30
    assert not is_over()


@given(st.text())
def test_what_is_printed_steers_nothing_and_what_is_json_comes_back(text: str) -> None:
    shown = printable(text)
    assert shown.replace("\n", "").isprintable()
    assert "\n" not in one_line(text)
    written = escaped_json(json.dumps(text, ensure_ascii=False))
    assert written.isprintable()
    assert json.loads(written) == text


PUBLIC = ["192.31.196.9", "2620:4f:8000::5", "::ffff:192.31.196.9"]
INTERNAL = ["127.0.0.1", "::1", "10.1.2.3", "192.168.0.1", "172.16.0.1", "169.254.169.254", "fe80::1", "fd00::1",
            "0.0.0.0",
            "224.0.0.1", "ff02::1", "100.64.0.1", "255.255.255.255", "::", "::ffff:127.0.0.1", "::ffff:10.0.0.1",
            "64:ff9b::7f00:1", "2002:7f00:1::", "fe80::1%eth0", "not an address", ""]  # fmt: skip


@pytest.mark.parametrize(("address", "public"), [*((a, True) for a in PUBLIC), *((a, False) for a in INTERNAL)])
def test_an_address_inside_of_a_network_is_known_in_whatever_form(address: str, public: bool) -> None:
    assert is_public(address) is public


@pytest.mark.parametrize(
    "url", ["http://[", "http://[::1", "//[x]", "http://a:b/", "http://a\nb/", "x" * 9000, "http://ä/"]
)
def test_a_url_that_cannot_be_read_is_an_error_of_ours(url: str) -> None:
    with pytest.raises(UrlTrouble):
        web_url(absolute("https://ca.test/a", url))


MOMENTS = [datetime.min, datetime.max, datetime(1, 1, 1), datetime(9999, 12, 31, 23, 59, 59)]
ZONES = [timedelta(hours=23, minutes=59), timedelta(0), -timedelta(hours=23, minutes=59)]


@pytest.mark.parametrize("moment", MOMENTS)
@pytest.mark.parametrize("zone", ZONES)
def test_moments_at_the_edges_of_time_can_be_reckoned_with(moment: datetime, zone: timedelta) -> None:
    from datetime import timezone

    odd = moment.replace(tzinfo=timezone(zone))
    assert EARLIEST <= clamped(odd) <= LATEST
    assert to_moment(from_moment(odd)) <= LATEST
    for begin, end in ((odd, LATEST), (EARLIEST, odd), (odd, odd)):
        assert EARLIEST <= renewal_moment(begin, end, fraction=1.0) <= LATEST


@pytest.mark.parametrize("seconds", [-(2**62), -1, 0, 2**40, 2**62])
def test_a_moment_in_the_ledger_is_read_whatever_stands_there(seconds: int) -> None:
    assert EARLIEST <= to_moment(seconds) <= LATEST


def test_a_ca_that_wants_to_be_left_alone_for_ever_is_asked_again_after_a_week() -> None:
    now = datetime(2026, 11, 27, tzinfo=UTC)
    assert next_try(1, now, None, LATEST) == now + timedelta(days=7)


def test_a_connection_tries_all_addresses_of_a_host_within_one_time(monkeypatch: pytest.MonkeyPatch) -> None:
    places = [(socket.AF_INET, ("127.0.0.1", 1))] * 50

    def slow(self: socket.socket, _place: object) -> None:
        time.sleep(0.05)
        raise TimeoutError

    monkeypatch.setattr("inkstamp.transport._places", lambda _host, _port: places)
    monkeypatch.setattr(socket.socket, "connect", slow)
    began = time.monotonic()
    with pytest.raises(TimeoutError):
        connect("many.test", 1, 0.2)
    assert time.monotonic() - began < 2


def test_a_resolver_that_keeps_silent_is_not_waited_for(monkeypatch: pytest.MonkeyPatch) -> None:
    done = threading.Event()

    def silent(host: str, port: int, **more: object) -> list[object]:
        if "flags" in more:
            raise socket.gaierror
        done.wait(20)
        return []

    monkeypatch.setattr(socket, "getaddrinfo", silent)
    began = time.monotonic()
    with pytest.raises(TimeoutError):
        connect("silent.test", 1, 0.2)
    done.set()
    assert time.monotonic() - began < 5


@pytest.mark.needs_root
@pytest.mark.skipif(os.geteuid() != 0, reason="an ordinary user is not asked")
@pytest.mark.parametrize("fault", ["owner", "everybody", "group", "folder", "a link on the way"])
def test_root_relies_on_no_file_that_others_own_or_may_write(tmp_path: Path, fault: str) -> None:
    folder = tmp_path / "folder"
    folder.mkdir()
    file = folder / "file"
    file.write_text("x")
    expect_ours(file, "the file")
    expect_ours(folder / "not there", "the file")
    asked = file
    if fault == "owner":
        os.chown(file, 12345, -1)
    elif fault == "everybody":
        file.chmod(0o646)
    elif fault == "group":
        file.chmod(0o664)
        os.chown(file, -1, 12345)
    elif fault == "folder":
        folder.chmod(0o777)
    else:
        link = tmp_path / "link"
        link.symlink_to(folder)
        os.lchown(link, 12345, 12345)
        asked = link / "file"
    with pytest.raises(ConfigurationError, match="root must not rely on the file") as caught:
        expect_ours(asked, "the file")
    assert "owner" in caught.value.said
    assert "mode" in caught.value.said


@pytest.mark.parametrize(("internal", "told"), [(True, 1), (False, 0)])
def test_people_are_told_of_an_internal_error_the_first_time(internal: bool, told: int) -> None:
    condition = Condition(
        certificate="rowing", days_left=60.0, lifetime=90.0, failures=1, trouble="internal error: x",
        heals=not internal, remedy="", account="", not_installed=False, waits_for="",
    )  # fmt: skip
    assert len(matters_of(condition, about=["failing"], failing_times=3, days_left=7)) == told


def test_work_that_outlives_a_broken_off_run_ends_as_by_ctrl_c_and_is_no_failure_of_its_certificate() -> None:
    script = """
import concurrent.futures.thread as pools, time
from inkstamp.bulkhead import attempt, side_by_side

def late():
    while not pools._shutdown:
        time.sleep(0.01)
    try:
        print(repr(attempt(side_by_side, str, [1, 2], 2)))
    except KeyboardInterrupt:
        print("ended as by Ctrl-C")

pools.ThreadPoolExecutor(1).submit(late)
"""
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, timeout=60)
    assert done.stdout == "ended as by Ctrl-C\n", done.stderr
