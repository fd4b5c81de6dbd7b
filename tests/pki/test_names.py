"""Names as certificates know them."""

import string
from pathlib import Path

import publicsuffixlist
import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.errors import NameTrouble
from inkstamp.pki.names import covers, normalise, uncovered
from inkstamp.pki.suffixes import is_delegated_suffix, registrable

LABEL = st.text(string.ascii_lowercase + string.digits, min_size=1, max_size=12)
NAME = st.lists(LABEL, min_size=2, max_size=5).map(".".join).filter(lambda name: not name.rpartition(".")[2].isdigit())


@pytest.mark.parametrize(
    ("given_name", "expected"),
    [
        ("Rowing.Saltmarsh.TEST.", "rowing.saltmarsh.test"),
        ("bäckerei.test", "xn--bckerei-5wa.test"),
        ("XN--BCKEREI-5WA.test", "xn--bckerei-5wa.test"),
        ("*.saltmarsh.test", "*.saltmarsh.test"),
        ("  bakery.test ", "bakery.test"),
    ],
)
def test_a_name_is_written_one_way_whatever_way_it_was_typed(given_name: str, expected: str) -> None:
    assert normalise(given_name) == expected


@pytest.mark.parametrize(
    "hostile",
    ["", ".", "a..b", "-a.test", "a-.test", "a_b.test", "a b.test", "a/b.test", "../x", "www.*.test", "w*.test",
     "**.test", "*", "192.0.2.1", "[::1]", "http://a.test", "a.test:80", "a.test\n", "x" * 64 + ".test",
     ".".join(["abc"] * 64) + ".test", "\x00.test", "a\u202eb.test"],
)  # fmt: skip
def test_what_is_no_name_is_refused_with_its_own_text_in_the_message(hostile: str) -> None:
    if hostile == "a.test\n":  # white space around a name is a slip of the hand, not a mistake
        assert normalise(hostile) == "a.test"
        return
    with pytest.raises(NameTrouble) as caught:
        normalise(hostile)
    assert caught.value.exit_status == 2
    assert caught.value.advice or caught.value.said


@given(NAME)
def test_normalising_twice_changes_nothing(name: str) -> None:
    assert normalise(normalise(name)) == normalise(name)


@given(NAME, LABEL)
def test_a_wildcard_covers_one_label_more_and_nothing_else(name: str, label: str) -> None:
    """RFC 9525 section 6.3."""
    wildcard = f"*.{name}"
    assert covers(wildcard, f"{label}.{name}")
    assert not covers(wildcard, name)
    assert not covers(wildcard, f"{label}.{label}.{name}")
    assert not covers(name, f"{label}.{name}")
    assert uncovered([name, wildcard], [name, f"{label}.{name}", wildcard]) == ()


_SOME = st.lists(st.sampled_from(["a.test", "b.a.test", "*.a.test", "*.test", "test", "*.b.a.test", "c.b.a.test", ""]))


@given(_SOME, _SOME)
def test_many_names_are_compared_with_many_patterns_as_one_with_one(patterns: list[str], names: list[str]) -> None:
    pairwise = tuple(name for name in names if not any(covers(each, name) for each in patterns))
    assert uncovered(patterns, names) == pairwise


def test_what_can_be_registered_is_what_the_whole_public_suffix_list_says() -> None:
    whole = publicsuffixlist.PublicSuffixList(only_icann=True)
    text = Path(publicsuffixlist.__file__).with_name("public_suffix_list.dat").read_text("utf-8")
    rules = [each.strip().lstrip("!").replace("*", "any") for each in text.split("\n") if each[:2] not in {"", "//"}]
    suffixes = [each.encode("idna").decode() for each in rules]
    assert len(suffixes) > 5000
    odd = ["", "test", "a.test", "xn--a", "a.xn--", "a.xn--zzzzzzzz99", "a.com.", "a.[", "*.com"]
    for name in [*odd, *suffixes, *(f"b.{each}" for each in suffixes), *(f"a.b.{each}" for each in suffixes[::5])]:
        assert registrable(name) == (whole.privatesuffix(name.removeprefix("*.")) or ""), name
        top = name.rpartition(".")[2]
        assert is_delegated_suffix(name) is (whole.publicsuffix(top, accept_unknown=False) is not None), name
