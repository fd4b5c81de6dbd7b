"""What a portal wants to see: filled in, judged, and where an order stands by it. Pure, so told by tables."""

from collections.abc import Sequence

import pytest
from authority_of_tests import NOW
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.config.model import Authority, Certificate
from inkstamp.config.templates import PLACEHOLDERS, fill, placeholders, unknown_placeholders, wants
from inkstamp.errors import UsageError
from inkstamp.findings import Severity
from inkstamp.jobs.stall import Actor, portal_stall
from inkstamp.ledger.records import OrderRecord, OrderState, PortalProof, ProofMethod
from inkstamp.proof.mail import constructed, domains_of, is_allowed, judge_mail
from inkstamp.proof.portal import Step, by_rule, file_for, has_rule, method_of, record_for, step_of
from inkstamp.proof.record import RecordProof, look_at_record
from inkstamp.proof.web_file import plain_path, portal_file
from inkstamp.view.questions import Answer

VALUES = placeholders("*.site.org", "aa11", "bb22", "cc33dd44", "Tok")


@pytest.mark.parametrize(
    ("template", "filled"),
    [
        ("_{md5}.{domain}", "_aa11.site.org"),
        ("_{MD5}.{domain}", "_AA11.site.org"),
        ("{sha256-front}.{sha256-back}.ca.org", "cc33.dd44.ca.org"),
        ("{sha1} {SHA256} {token} {TOKEN}", "bb22 CC33DD44 Tok Tok"),
        ("no placeholder }{", "no placeholder }{"),
    ],
)
def test_a_rule_is_filled_in_with_the_digests_and_the_domain(template: str, filled: str) -> None:
    assert unknown_placeholders(template) == []
    assert fill(template, VALUES) == filled


@given(st.text("{}abdm5-", max_size=30))
def test_a_template_without_unknown_placeholders_can_always_be_filled(template: str) -> None:
    if not unknown_placeholders(template):
        assert fill(template, VALUES) is not None
    assert wants("{Token}", "token")
    assert set(VALUES) == set(PLACEHOLDERS)


RULED = Authority(
    kind="portal", path="/p/{md5}.txt", lines=("{sha1}", "x"), record="_d.{domain}", value="{md5}.ca.org."
)
TOKEN = Authority(kind="portal", record="_d.{domain}", value="{token}", record_type="txt")


def entry(proof: str | None = None, via: str = "front") -> Certificate:
    return Certificate(names=("a.org", "*.b.org"), authority="fogbell", via=via, proof=proof)  # type: ignore[arg-type]


@pytest.mark.parametrize(
    ("proof", "via", "authority", "method", "ruled"),
    [
        (None, "front", RULED, ProofMethod.FILE, True),
        (None, "by-hand", RULED, ProofMethod.CNAME, True),
        ("txt", "by-hand", RULED, ProofMethod.TXT, False),
        ("email", "by-hand", RULED, ProofMethod.EMAIL, False),
        (None, "by-hand", TOKEN, ProofMethod.TXT, False),
        (None, "front", Authority(kind="portal"), None, False),
    ],
)
def test_the_way_of_proving_follows_from_the_configuration(
    proof: str | None, via: str, authority: Authority, method: ProofMethod | None, ruled: bool
) -> None:
    assert method_of(entry(proof, via), authority) is method
    assert has_rule(entry(proof, via), authority, token=False) is ruled


def test_a_rule_tells_place_and_content_for_each_name() -> None:
    told = by_rule(entry(via="by-hand"), RULED, ["a.org", "*.b.org"], lambda n: placeholders(n, "m", "s", "cc", ""))
    assert [(each.name, each.place, each.content) for each in told] == [
        ("a.org", "_d.a.org", "m.ca.org."), ("*.b.org", "_d.b.org", "m.ca.org."),
    ]  # fmt: skip
    (file,) = by_rule(entry(), RULED, ["a.org"], lambda n: placeholders(n, "m", "s", "cc", ""))
    assert (file.place, file.content) == ("/p/m.txt", "s\nx\n")
    assert by_rule(entry("email"), RULED, ["a.org"], lambda _: VALUES) == []
    with pytest.raises(UsageError, match="wildcard"):
        file_for(["*.b.org"], "/p/x", "y")


@pytest.mark.parametrize(
    ("place", "names", "covered"),
    [
        ("_x.a.org.", ["a.org", "www.a.org", "b.org"], ["a.org", "www.a.org"]),
        ("_X._y.www.a.org", ["a.org", "www.a.org"], ["www.a.org"]),
        ("a.org", ["*.a.org", "a.org"], ["*.a.org", "a.org"]),
        ("_x.xa.org", ["a.org"], []),
        ("_x", ["a.org"], []),
    ],
)
def test_a_record_proves_the_names_at_and_below_its_domain(place: str, names: list[str], covered: list[str]) -> None:
    if not covered:
        with pytest.raises(UsageError, match="proves none of"):
            record_for(names, ProofMethod.TXT, place, "v")
    else:
        assert [each.name for each in record_for(names, ProofMethod.TXT, place, " v ")] == covered


@pytest.mark.parametrize(
    "path", ["", "/", "/a/", "a//b", "/a/../b", "./a", "/a b", "/a?b", "/a%2e", "http://h/", "/" + "a" * 600]
)
def test_a_path_that_no_file_can_have_is_refused(path: str) -> None:
    with pytest.raises(UsageError, match="not the path of a file"):
        plain_path(path)


def test_a_file_is_told_by_its_path_or_its_url_and_line_ends_do_no_harm() -> None:
    assert plain_path("http://a.org/.well-known/x.txt") == plain_path(".well-known/x.txt") == "/.well-known/x.txt"
    proof = portal_file("a.org", "/.well-known/x.txt", "one\ntwo\n")
    assert proof.url == "http://a.org/.well-known/x.txt"
    assert proof.folder == "/.well-known/"
    assert proof.is_shown_by(b"one\r\ntwo")
    assert not proof.is_shown_by(b"one two")


def answers(**known: Sequence[str]) -> object:
    return lambda name: Answer(tuple(known.get(name.replace(".", "_"), ())), "" if known else f"{name} is not there")


@pytest.mark.parametrize(
    ("kind", "known", "severity", "told"),
    [
        ("cname", {"x_a_org": ["t.ca.org"]}, Severity.GOOD, "right value"),
        ("cname", {"x_a_org": ["T.CA.org"]}, Severity.GOOD, "right value"),
        ("cname", {"x_a_org": ["t.ca.org.a.org"]}, Severity.BAD, "end the value with a dot"),
        ("cname", {"x_a_org": ["other"]}, Severity.BAD, "change it to t.ca.org"),
        ("cname", {"x_a_org_a_org": ["t.ca.org"]}, Severity.BAD, "enter x as its name"),
        ("cname", {}, Severity.BAD, "make there a CNAME record with the value t.ca.org"),
        ("txt", {"x_a_org": ["spf", "t.ca.org"]}, Severity.GOOD, "right value"),
        ("txt", {"x_a_org": ['"t.ca.org"']}, Severity.BAD, "take them out"),
        ("txt", {"x_a_org": ["T.ca.org"]}, Severity.BAD, "add a record with t.ca.org"),
    ],
)
def test_a_record_is_judged_as_a_ca_would_and_the_slip_is_named(
    kind: str, known: dict[str, list[str]], severity: Severity, told: str
) -> None:
    finding = look_at_record(RecordProof(kind, "x.a.org", "t.ca.org"), answers(**known))  # type: ignore[arg-type]
    assert finding.severity is severity
    assert told in f"{finding.seen} {finding.remedy}"


def test_a_resolver_that_keeps_silent_proves_nothing_either_way() -> None:
    finding = look_at_record(RecordProof("txt", "x.a.org", "v"), lambda _: Answer((), "no answer", known=False))
    assert finding.severity is Severity.NOTE


@pytest.mark.parametrize(
    ("mx", "address", "severity"),
    [
        (Answer(("mail.a.org", "b")), False, Severity.GOOD),
        (Answer(("",)), True, Severity.BAD),
        (Answer(()), True, Severity.WARN),
        (Answer(()), False, Severity.BAD),
        (Answer((), "no answer", known=False), True, Severity.WARN),
    ],
)
def test_whether_a_domain_takes_mail_is_told(mx: Answer, address: bool, severity: Severity) -> None:
    assert judge_mail("a.org", mx, address).severity is severity


def test_only_addresses_of_the_baseline_requirements_may_be_asked() -> None:
    assert domains_of("*.www.a.org") == ("www.a.org", "a.org")
    assert domains_of("a.org") == ("a.org",)
    assert len(constructed("a.org")) == 5
    assert is_allowed("Admin@a.org", "www.a.org", [])
    assert is_allowed("x@b.net", "www.a.org", ["X@b.net"])
    for wrong in ("info@a.org", "admin@org", "admin@x.www.a.org", "admin@b.org"):
        assert not is_allowed(wrong, "www.a.org", [])


def proof(name: str, *, seen: bool, method: ProofMethod = ProofMethod.CNAME) -> PortalProof:
    return PortalProof(
        order_id=1, name=name, method=method, place="p", content="c", told=NOW, seen=NOW if seen else None
    )


@pytest.mark.parametrize(
    ("proofs", "step", "who", "command"),
    [
        ([], Step.REQUEST, Actor.YOU, "inkstamp prove rowing --file|--cname|--txt|--email …"),
        ([proof("a.org", seen=True)], Step.REQUEST, Actor.YOU, "inkstamp prove rowing --file|--cname|--txt|--email …"),
        ([proof("a.org", seen=True), proof("b.org", seen=False)], Step.PROOF, Actor.DNS, "inkstamp prove rowing"),
        ([proof("a.org", seen=False, method=ProofMethod.FILE), proof("b.org", seen=True)], Step.PROOF, Actor.SERVER,
         "inkstamp prove rowing"),
        ([proof("a.org", seen=False, method=ProofMethod.EMAIL), proof("b.org", seen=True)], Step.PROOF, Actor.YOU,
         "inkstamp prove rowing --email p --sent"),
        ([proof("a.org", seen=True), proof("b.org", seen=True)], Step.REVIEW, Actor.CA,
         "inkstamp collect rowing FILE…"),
    ],
)  # fmt: skip
def test_an_order_always_says_at_which_step_it_is_who_must_act_and_what_to_type(
    proofs: list[PortalProof], step: Step, who: Actor, command: str
) -> None:
    order = OrderRecord(id=1, certificate="rowing", authority="fogbell", names=("a.org", "b.org"), url="", edition=1,
                        state=OrderState.WAITING, opened=NOW, changed=NOW)  # fmt: skip
    assert step_of(order.names, proofs) is step
    stall = portal_stall(order, proofs, ruled=False)
    assert (stall.who, stall.next_command, stall.since) == (who, command, NOW)
