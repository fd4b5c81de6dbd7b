"""What a portal wants to see: filled in, judged, and where an order stands by it. Pure, so told by tables."""

from collections.abc import Sequence

import pytest
from authority_of_tests import NOW
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.config.model import Authority, Certificate
from inkstamp.config.templates import PLACEHOLDERS, fill, placeholders, template_fault, wants
from inkstamp.errors import Actor, UsageError
from inkstamp.jobs.status.portal_stall import portal_stall
from inkstamp.ledger.records import OrderRecord, OrderState, PortalProof, ProofMethod
from inkstamp.proof.email_validation import constructed, domains_of, is_allowed, judge_mail
from inkstamp.proof.portal_validation import Step, by_rule, file_for, has_rule, method_of, record_for, step_of
from inkstamp.proof.record import RecordProof, look_at_record
from inkstamp.proof.web_file import plain_path, portal_file
from inkstamp.severity import Severity
from inkstamp.view.questions import Answer

VALUES = placeholders("*.shop.example.org", "aa11", "bb22", "cc33dd44", "Tok")


@pytest.mark.parametrize(
    ("template", "filled"),
    [
        ("_{md5}.{domain}", "_aa11.shop.example.org"),
        ("_{md5:upper}.{domain}", "_AA11.shop.example.org"),
        ("{sha256:1-4}.{sha256:5-8}.ca.test", "cc33.dd44.ca.test"),
        ("{sha1} {sha256:upper} {sha256:3-6:upper} {token}", "bb22 CC33DD44 33DD Tok"),
        ("_x.{registrable}", "_x.example.org"),
        ("no placeholder }{", "no placeholder }{"),
    ],
)
def test_a_rule_is_filled_in_with_the_digests_and_the_domain(template: str, filled: str) -> None:
    assert template_fault(template) is None
    assert fill(template, VALUES) == filled


@pytest.mark.parametrize(
    ("template", "placeholder", "told"),
    [
        ("{sha256-front}.ca.test", "sha256-front", "write {sha256:1-32}"),
        ("{sha256-back}.ca.test", "sha256-back", "write {sha256:33-64}"),
        ("{MD5}", "MD5", "write {md5:upper}"),
        ("{sha512}", "sha512", "known: {domain}"),
        ("{md5:1-33}", "md5:1-33", "digits 1-32"),
        ("{sha1:9-3}", "sha1:9-3", "digits 1-40"),
        ("{token:upper}", "token:upper", "write {token}"),
    ],
)
def test_a_placeholder_that_cannot_be_filled_in_is_refused_with_what_to_write(
    template: str, placeholder: str, told: str
) -> None:
    fault = template_fault(template)
    assert fault is not None
    assert fault[0] == placeholder
    assert told in fault[1]


@given(st.text("{}abdm5:1-2per", max_size=30))
def test_a_template_without_a_fault_can_always_be_filled(template: str) -> None:
    if template_fault(template) is None:
        assert fill(template, VALUES) is not None
    assert wants("x{token}", "token")
    assert wants("{sha256:1-32}", "sha256")
    assert set(VALUES) == set(PLACEHOLDERS)


RULED = Authority(
    kind="portal", path="/p/{md5}.txt", lines=("{sha1}", "x"), record="_d.{domain}", value="{md5}.ca.test."
)
TOKEN = Authority(kind="portal", record="_d.{domain}", value="{token}", record_type="txt")


def entry(proof: str | None = None, via: str = "front") -> Certificate:
    return Certificate(names=("example.org", "*.example.net"), authority="fogbell", via=via, proof=proof)  # type: ignore[arg-type]


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
    told = by_rule(
        entry(via="by-hand"), RULED, ["example.org", "*.example.net"], lambda n: placeholders(n, "m", "s", "cc", "")
    )
    assert [(each.name, each.place, each.content) for each in told] == [
        ("example.org", "_d.example.org", "m.ca.test."),
        ("*.example.net", "_d.example.net", "m.ca.test."),
    ]
    (file,) = by_rule(entry(), RULED, ["example.org"], lambda n: placeholders(n, "m", "s", "cc", ""))
    assert (file.place, file.content) == ("/p/m.txt", "s\nx\n")
    assert by_rule(entry("email"), RULED, ["example.org"], lambda _: VALUES) == []
    with pytest.raises(UsageError, match="wildcard"):
        file_for(["*.example.net"], "/p/x", "y")


@pytest.mark.parametrize(
    ("place", "names", "covered"),
    [
        ("_x.example.org.", ["example.org", "www.example.org", "example.net"], ["example.org", "www.example.org"]),
        ("_X._y.www.example.org", ["example.org", "www.example.org"], ["www.example.org"]),
        ("example.org", ["*.example.org", "example.org"], ["*.example.org", "example.org"]),
        ("_x.notexample.org", ["example.org"], []),
        ("_x", ["example.org"], []),
    ],
)
def test_a_record_proves_the_names_at_and_below_its_domain(place: str, names: list[str], covered: list[str]) -> None:
    if not covered:
        with pytest.raises(UsageError, match="validates none of"):
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
    assert plain_path("http://example.org/.well-known/x.txt") == plain_path(".well-known/x.txt") == "/.well-known/x.txt"
    proof = portal_file("example.org", "/.well-known/x.txt", "one\ntwo\n")
    assert proof.url == "http://example.org/.well-known/x.txt"
    assert proof.folder == "/.well-known/"
    assert proof.is_shown_by(b"one\r\ntwo")
    assert not proof.is_shown_by(b"one two")


def answers(**known: Sequence[str]) -> object:
    return lambda name: Answer(tuple(known.get(name.replace(".", "_"), ())), "" if known else f"{name} is not there")


@pytest.mark.parametrize(
    ("kind", "known", "severity", "told"),
    [
        ("cname", {"x_example_org": ["t.ca.test"]}, Severity.OK, "right value"),
        ("cname", {"x_example_org": ["T.CA.test"]}, Severity.OK, "right value"),
        ("cname", {"x_example_org": ["t.ca.test.example.org"]}, Severity.BAD, "end the value with a dot"),
        ("cname", {"x_example_org": ["other"]}, Severity.BAD, "change it to t.ca.test"),
        ("cname", {"x_example_org_example_org": ["t.ca.test"]}, Severity.BAD, "enter x as its name"),
        ("cname", {"x_example_org": ["x.dcv.test"], "x_dcv_test": ["t.ca.test"]}, Severity.OK, "right value"),
        ("cname", {"x_example_org": ["x.dcv.test"]}, Severity.BAD, "create there a CNAME record"),
        ("cname", {"x_example_org": ["x.dcv.test"], "x_dcv_test": ["x.example.org"]}, Severity.BAD, "change it to"),
        ("cname", {}, Severity.BAD, "create there a CNAME record with the value t.ca.test"),
        ("txt", {"x_example_org": ["spf", "t.ca.test"]}, Severity.OK, "right value"),
        ("txt", {"x_example_org": ['"t.ca.test"']}, Severity.BAD, "remove them"),
        ("txt", {"x_example_org": ["T.ca.test"]}, Severity.BAD, "add a record with t.ca.test"),
    ],
)
def test_a_record_is_judged_as_a_ca_would_and_the_slip_is_named(
    kind: str, known: dict[str, list[str]], severity: Severity, told: str
) -> None:
    finding = look_at_record(RecordProof(kind, "x.example.org", "t.ca.test"), answers(**known))  # type: ignore[arg-type]
    assert finding.severity is severity
    assert told in f"{finding.seen} {finding.remedy}"
    if kind == "cname" and known == {"x_example_org": ["x.dcv.test"]}:
        assert finding.subject == "x.dcv.test"  # where the alias leads is where it has to be made


def test_a_resolver_that_keeps_silent_proves_nothing_either_way() -> None:
    finding = look_at_record(RecordProof("txt", "x.example.org", "v"), lambda _: Answer((), "no answer", known=False))
    assert finding.severity is Severity.NOTE


@pytest.mark.parametrize(
    ("mx", "address", "severity"),
    [
        (Answer(("mail.example.org", "b")), False, Severity.OK),
        (Answer(("",)), True, Severity.BAD),
        (Answer(()), True, Severity.WARN),
        (Answer(()), False, Severity.BAD),
        (Answer((), "no answer", known=False), True, Severity.WARN),
    ],
)
def test_whether_a_domain_takes_mail_is_told(mx: Answer, address: bool, severity: Severity) -> None:
    assert judge_mail("example.org", mx, address).severity is severity


def test_only_addresses_of_the_baseline_requirements_may_be_asked() -> None:
    assert domains_of("*.www.example.org") == ("www.example.org", "example.org")
    assert domains_of("example.org") == ("example.org",)
    assert len(constructed("example.org")) == 5
    assert is_allowed("Admin@example.org", "www.example.org", [])
    assert is_allowed("x@example.edu", "www.example.org", ["X@example.edu"])
    for wrong in ("info@example.org", "admin@org", "admin@x.www.example.org", "admin@example.net"):
        assert not is_allowed(wrong, "www.example.org", [])


def proof(name: str, *, seen: bool, method: ProofMethod = ProofMethod.CNAME) -> PortalProof:
    return PortalProof(
        order_id=1, name=name, method=method, place="p", content="c", told=NOW, seen=NOW if seen else None
    )


@pytest.mark.parametrize(
    ("proofs", "step", "who", "command"),
    [
        ([], Step.REQUEST, Actor.YOU, "inkstamp prove rowing --file|--cname|--txt|--email …"),
        (
            [proof("example.org", seen=True)],
            Step.REQUEST,
            Actor.YOU,
            "inkstamp prove rowing --file|--cname|--txt|--email …",
        ),
        (
            [proof("example.org", seen=True), proof("example.net", seen=False)],
            Step.PROOF,
            Actor.DNS,
            "inkstamp prove rowing",
        ),
        (
            [proof("example.org", seen=False, method=ProofMethod.FILE), proof("example.net", seen=True)],
            Step.PROOF,
            Actor.SERVER,
            "inkstamp prove rowing",
        ),
        (
            [proof("example.org", seen=False, method=ProofMethod.EMAIL), proof("example.net", seen=True)],
            Step.PROOF,
            Actor.YOU,
            "inkstamp prove rowing --email p --sent",
        ),
        (
            [proof("example.org", seen=True), proof("example.net", seen=True)],
            Step.REVIEW,
            Actor.CA,
            "inkstamp collect rowing FILE…",
        ),
    ],
)
def test_an_order_always_says_at_which_step_it_is_who_must_act_and_what_to_type(
    proofs: list[PortalProof], step: Step, who: Actor, command: str
) -> None:
    order = OrderRecord(
        id=1,
        certificate="rowing",
        authority="fogbell",
        names=("example.org", "example.net"),
        url="",
        edition=1,
        state=OrderState.WAITING,
        opened=NOW,
        changed=NOW,
    )
    assert step_of(order.names, proofs) is step
    stall = portal_stall(order, proofs, ruled=False)
    assert (stall.who, stall.next_command, stall.since) == (who, command, NOW)
