"""Which bindings of a Windows Server are to have a certificate, and what brings them back."""

import base64

import pytest
from authority_of_tests import Signer
from cryptography.hazmat.primitives import hashes, serialization

from inkstamp.errors import ServerTrouble
from inkstamp.reach.windows.state import CENTRAL, SNI, Binding, IisSite, StoreItem, WindowsState
from inkstamp.servers.iis.bindings import SiteBinding, answering, brought_back, https_bindings, targets

ROOT = Signer("Root")


def item(*names: str) -> StoreItem:
    leaf = Signer(names[0], ROOT, ca=False, names=names).certificate
    der = base64.b64encode(leaf.public_bytes(serialization.Encoding.DER)).decode()
    return StoreItem("My", leaf.fingerprint(hashes.SHA1()).hex().upper(), der)  # noqa: S303  as Windows names it


def state(*bindings: Binding, items: tuple[StoreItem, ...] = ()) -> WindowsState:
    return WindowsState(sites=(IisSite("Club", "Started", r"C:\club", bindings),), certificates=items)


def found(whole: WindowsState, name: str, *covered: str) -> list[tuple[str, int, str, int]]:
    wanted = targets(whole, name, covered or (name,), 443, "iis1")
    return [(each.ip, each.port, each.host, each.flags) for each in wanted]


HTTP, NAMED = Binding("http", "*:80:"), Binding("http", "192.0.2.1:80:a.test")


@pytest.mark.parametrize(
    ("bindings", "expected"),
    [
        ((Binding("https", "*:8443:A.test", SNI), NAMED), [("*", 8443, "a.test", SNI)]),
        ((Binding("https", "[2001:db8::1]:443:a.test"),), [("[2001:db8::1]", 443, "a.test", 0)]),
        ((NAMED,), [("192.0.2.1", 443, "a.test", SNI)]),
        ((HTTP,), [("*", 443, "a.test", SNI)]),
        ((Binding("https", "*:443:"), NAMED), [("*", 443, "", 0)]),
        ((Binding("https", "*:443:*.test", SNI),), [("*", 443, "*.test", SNI)]),
        ((Binding("net.tcp", "808:*"), Binding("https", "broken"), NAMED), [("192.0.2.1", 443, "a.test", SNI)]),
    ],
)
def test_a_name_is_served_by_its_own_binding_or_by_a_new_one_for_it(
    bindings: tuple[Binding, ...], expected: list[tuple[str, int, str, int]]
) -> None:
    assert found(state(*bindings), "a.test") == expected


def test_a_binding_that_others_need_is_left_alone_and_the_name_gets_one_beside_it() -> None:
    theirs = item("a.test", "b.test")
    whole = state(Binding("https", "*:443:", 0, theirs.thumbprint, "My"), items=(theirs,))
    assert found(whole, "a.test") == [("*", 443, "a.test", SNI)]
    assert found(whole, "a.test", "a.test", "b.test") == [("*", 443, "", 0)]


def test_what_has_no_place_or_comes_from_the_central_store_is_told_with_what_to_do() -> None:
    with pytest.raises(ServerTrouble, match=r"no site of server “iis1” answers b\.test") as caught:
        found(state(Binding("http", "*:80:a.test")), "b.test")
    assert "add a binding for b.test" in caught.value.advice
    with pytest.raises(ServerTrouble, match="central certificate store") as caught:
        found(state(Binding("https", "*:443:a.test", SNI | CENTRAL)), "a.test")
    assert "kind = “files”" in caught.value.advice


def test_the_most_exact_binding_answers() -> None:
    whole = state(HTTP, Binding("http", "*:80:*.a.test"), Binding("http", "*:80:x.a.test"))
    hosts = {
        name: [each.host for _, each in answering(whole, name, "http")] for name in ("x.a.test", "y.a.test", "z.test")
    }
    assert hosts == {"x.a.test": ["x.a.test"], "y.a.test": ["*.a.test"], "z.test": [""]}


def test_going_back_touches_bindings_of_ours_alone_and_removes_those_that_were_not_there() -> None:
    def bound(host: str, thumbprint: str) -> SiteBinding:
        return SiteBinding("Club", "*", 443, host, SNI, thumbprint, "My")

    before = [bound("a.test", "THEIRS"), bound("b.test", "OURS1"), bound("d.test", "X")]
    now = [bound("a.test", "OURS2"), bound("b.test", "OURS1"), bound("c.test", "OURS2"), bound("d.test", "CHANGED")]
    back = brought_back(now, before, frozenset({"OURS1", "OURS2"}))
    assert [(each.host, each.thumbprint) for each in back] == [("a.test", "THEIRS"), ("c.test", "")]
    assert https_bindings(state(Binding("https", "*:443:a.test", SNI, "ab", "My"))) == [bound("a.test", "AB")]
