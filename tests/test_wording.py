"""How numbers and lists of names are said."""

import pytest

from inkstamp.wording import counted, known_names


@pytest.mark.parametrize(("number", "said"), [(0, "0 days"), (1, "1 day"), (-1, "-1 day"), (2, "2 days")])
def test_one_is_never_told_in_the_plural(number: int, said: str) -> None:
    assert counted(number, "day") == said


def test_names_are_listed_with_the_nearest_first_and_none_is_left_out_in_silence() -> None:
    assert known_names(["museum", "rowing", "shop"], "rownig") == "known: rowing, shop, museum"
    assert known_names([], "x") == "known: none"
    many = known_names([f"site-{number}" for number in range(50)], "site-7")
    assert many.startswith("known: site-7, ")
    assert many.endswith(" and 30 more")
