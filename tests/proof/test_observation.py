"""What is said of a proof seen from outside: a CA would fail wherever this says bad."""

import pytest

from inkstamp.proof.observation import Caution, judge
from inkstamp.proof.web_file import http_proof
from inkstamp.severity import Severity
from inkstamp.view.addresses import Addresses
from inkstamp.view.web import Sight

PROOF = http_proof("site.test", "tok", "tok.thumb")
USUAL = Caution()
HERE, THERE = "127.0.0.1", "127.0.0.9"


def sight(address: str, **changes: object) -> Sight:
    return Sight(**({"address": address, "hops": (PROOF.url,), "status": 200, "body": PROOF.content} | changes))  # type: ignore[arg-type]


def look(*sights: Sight, caution: Caution = USUAL) -> list[tuple[Severity, str]]:
    by_address = {each.address: each for each in sights}
    addresses = Addresses((), tuple(by_address), "")
    findings = judge(PROOF, addresses, by_address.__getitem__, lambda address: address == HERE, caution)
    return [(each.severity, f"{each.subject} {each.seen} {each.remedy}") for each in findings]


def test_the_proof_is_a_file_at_the_well_known_url_with_the_key_authorization() -> None:
    """RFC 8555 section 8.3."""
    assert PROOF.url == "http://site.test/.well-known/acme-challenge/tok"
    assert PROOF.parts == (".well-known", "acme-challenge", "tok")
    assert look(sight(HERE, body=b"tok.thumb \r\n\n"))[0][0] is Severity.OK


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({"body": b"\xef\xbb\xbftok.thumb"}, "behind a byte order mark save the file without one"),
        ({"body": b"<html>\x07 tok.thumb"}, "something around it, beginning “<html>· tok.thumb”"),
        ({"body": b"<html>welcome"}, "page of its own"),
        ({"body": b"x" * 65_536}, "with more than 64 KiB"),
        ({"status": 404, "body": b"<h1>Not\nFound</h1>"}, "beginning “<h1>Not Found</h1>”"),
        ({"status": 403, "body": b""}, "allow everybody to read"),
        ({"status": 200, "body": b"x" * 5000}, "x" * 80 + "…”"),
        ({"status": 0, "body": b"", "trouble": "no connection: Connection refused"}, "Connection refused"),
        ({"status": 404, "hops": (PROOF.url, "https://site.test/x")}, "after a redirect to https://site.test/x"),
    ],
)
def test_what_is_seen_instead_is_told_with_a_remedy(changes: dict[str, object], told: str) -> None:
    ((severity, text),) = look(sight(HERE, **changes))
    assert severity is Severity.BAD
    assert told in text
    assert f"site.test at {HERE}" in text


def test_one_wrong_address_of_several_is_bad_and_named() -> None:
    first, second = look(sight(HERE), sight(THERE, status=404, body=b"old"))
    assert first[0] is Severity.OK
    assert second[0] is Severity.BAD
    assert f"does not answer at {THERE}" in second[1]


def test_a_proxy_in_front_and_a_bad_certificate_on_the_way_are_told() -> None:
    ((severity, text),) = look(sight(THERE, status=404, proxy="Via: 1.1 edge"))
    assert severity is Severity.BAD
    assert "a proxy or CDN answers at 127.0.0.9 (Via: 1.1 edge)" in text
    expired = sight(HERE, hops=(PROOF.url, "https://site.test/x"), untrusted="certificate has expired")
    ((severity, text),) = look(expired)
    assert severity is Severity.WARN
    assert "certificate has expired" in text


def test_an_address_that_this_machine_has_no_way_to_is_passed_over_unless_it_is_the_only_one() -> None:
    unseen = sight("2001:db8::1", status=0, trouble="Network is unreachable", no_route=True)
    assert [severity for severity, _ in look(unseen, sight(HERE))] == [Severity.NOTE, Severity.OK]
    assert [severity for severity, _ in look(unseen)] == [Severity.BAD]
    careful, anyway = Caution(whole=True), Caution(whole=True, anyway=True)
    found, told = look(unseen, sight(HERE), caution=careful)[0]
    assert found is Severity.BAD, "before the first certificate a person is asked: the CA may ask there first"
    assert "AAAA record" in told
    assert "--anyway" in told
    assert look(unseen, sight(HERE), caution=anyway)[0][0] is Severity.WARN
    assert look(unseen, caution=anyway)[0][0] is Severity.BAD, "nothing serves the expected response"
    refuses = sight("2001:db8::1", status=0, trouble="no connection: Connection refused")
    found, told = look(refuses, sight(HERE), caution=careful)[0]
    assert found is Severity.BAD
    assert "--anyway" in told
    assert look(refuses, sight(HERE), caution=anyway)[0][0] is Severity.WARN
    wrong = sight("2001:db8::1", status=404, body=b"")
    assert look(wrong, sight(HERE), caution=anyway)[0][0] is Severity.BAD, "a wrong answer is one"


def test_a_name_without_an_address_is_told_in_the_words_of_dns() -> None:
    addresses = Addresses((), (), "site.test does not exist in DNS (NXDOMAIN)")
    (finding,) = judge(PROOF, addresses, lambda _: sight(HERE), lambda _: True)
    assert finding.severity is Severity.BAD
    assert "NXDOMAIN" in finding.seen
    assert "A or AAAA" in finding.remedy
    silent = Addresses((), (), "the resolver gave no answer", silent=True)
    (finding,) = judge(PROOF, silent, lambda _: sight(HERE), lambda _: True)
    assert "resolver answers" in finding.remedy
