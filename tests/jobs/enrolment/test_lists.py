"""Lists that people hand in: three forms, and a line that is wrong holds up no other."""

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.errors import UsageError
from inkstamp.jobs.enrolment.lists import MOST_BYTES, WantedCertificate, WrongLine, pack, read_list

PLAIN = "# all of them\nclub.test www.club.test\n\nbakery.test, www.bakery.test  # moved in May\r\n"
CSV = '﻿names,certificate,customer\r\nclub.test www.club.test,club,"Club, The"\nbakery.test,,\n'
JSON = '{"names": ["club.test", "www.club.test"], "certificate": "club", "key": "rsa-2048"}\n{"names": "bakery.test"}\n'


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        (PLAIN, [("club.test www.club.test", "", ""), ("bakery.test www.bakery.test", "", "")]),
        (CSV, [("club.test www.club.test", "club", "Club, The"), ("bakery.test", "", "")]),
        (JSON, [("club.test www.club.test", "club", ""), ("bakery.test", "", "")]),
        ("", []),
        ("# nobody\n", []),
        ("customer,names\nCrew 1,club.test\n", [("club.test", "", "Crew 1")]),
    ],
    ids=["a line each", "csv", "json lines", "empty", "a comment alone", "columns in another order"],
)
def test_each_form_is_told_apart_and_read(text: str, wanted: list[tuple[str, str, str]]) -> None:
    found = [each for each in read_list(text.encode()) if isinstance(each, WantedCertificate)]
    assert [(" ".join(each.names), each.certificate, each.customer) for each in found] == wanted
    assert all(each.place.startswith("line ") for each in found)


@pytest.mark.parametrize(
    ("text", "place", "what"),
    [
        ('names,customer\n"club.test,x\nfine.test,\n', "line 2", "it is no CSV"),
        ("names,customer\nclub.test,x,y\nfine.test,\n", "line 2", "it has 3 fields, and there are 2 columns"),
        ("names,customer\n ,x\nfine.test,\n", "line 2", "it has no names"),
        ("names,customer\nclub.test,\x1b[2J\nfine.test,\n", "line 2", "“customer” is no plain text"),
        ('{"names": ["club.test"]\n{"names": "fine.test"}\n', "line 1", "it is no JSON object"),
        ('{"names": 7}\n{"names": "fine.test"}\n', "line 1", "it has no names"),
        ('{"names": "a.test", "server": "x"}\n{"names": "fine.test"}\n', "line 1", "the key “server” is unknown"),
        ('{"names": "a.test", "certificate": 1}\n{"names": "fine.test"}\n', "line 1", "“certificate” is no plain text"),
        (f'{"{"}"names": {"[" * 5000}\n{{"names": "fine.test"}}\n', "line 1", "it is no JSON object"),
    ],
)
def test_a_line_that_is_wrong_is_told_with_its_number_and_the_others_are_read(text: str, place: str, what: str) -> None:
    wrong, fine = read_list(text.encode())
    assert isinstance(wrong, WrongLine)
    assert wrong.place == place
    assert what in wrong.what
    assert wrong.advice
    assert isinstance(fine, WantedCertificate)
    assert fine.names == ("fine.test",)


def test_columns_that_are_not_known_and_lists_that_are_too_large_are_refused_as_a_whole() -> None:
    with pytest.raises(UsageError, match="the column “domain” is unknown"):
        read_list(b"names,domain\na.test,b\n")
    with pytest.raises(UsageError, match="a column is there twice"):
        read_list(b"names,names\na.test,b\n")
    with pytest.raises(UsageError, match="larger than 256 MiB"):
        read_list(b" " * (MOST_BYTES + 1))


@given(st.binary(max_size=300))
def test_whatever_is_handed_in_is_read_or_told(data: bytes) -> None:
    with suppress(UsageError):
        assert all(each.place for each in read_list(data))


@given(
    st.lists(st.lists(st.integers(0, 30), min_size=1, max_size=6, unique=True), max_size=12),
    st.integers(1, 5),
)
def test_packing_keeps_every_name_within_its_owner_and_the_limit(groups: list[list[int]], most: int) -> None:
    # A name is in one certificate at most, as enrolment makes sure beforehand.
    seen: set[int] = set()
    wanted = []
    for group in groups:
        fresh = [number for number in group if number not in seen]
        seen |= set(fresh)
        if fresh:
            wanted.append(WantedCertificate(names=tuple(f"n{number}.d{number % 3}.test" for number in fresh)))
    owner = {name: name.partition(".")[2] for each in wanted for name in each.names}
    packed = pack(wanted, most, owner)
    assert sorted(name for each in packed for name in each.names) == sorted(owner)
    for each in packed:
        assert 1 <= len(each.names) <= most
        assert len({owner[name] for name in each.names}) == 1
