"""`inkstamp stamp` without a name: sites are listed by number, several are picked, one plan is agreed to."""

import os
import re
from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st
from simulated import NAME, SimulatedWorld
from terminal import on_terminal
from world import inkstamp_program

from inkstamp.errors import UsageError
from inkstamp.jobs.inventory.site_choice import picked


@given(st.text(alphabet="0123456789-, al", max_size=12), st.integers(1, 40))
def test_a_choice_is_numbers_of_what_is_there_each_once_or_an_error(text: str, count: int) -> None:
    with suppress(UsageError):
        numbers = picked(text, count)
        assert len(set(numbers)) == len(numbers)
        assert set(numbers) <= set(range(1, count + 1))


@pytest.mark.parametrize(
    ("text", "numbers"),
    [("2", (2,)), ("1-3,7", (1, 2, 3, 7)), ("3 1-3", (3, 1, 2)), (" ALL \n", tuple(range(1, 9))), ("\n", ())],
)
def test_what_people_type_means_what_they_mean(text: str, numbers: tuple[int, ...]) -> None:
    assert picked(text, 8) == numbers


@pytest.mark.parametrize("text", ["0", "9", "3-1", "one", "1-", "-1", "1-99999999999", "²"])
def test_what_is_no_number_of_a_site_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        picked(text, 8)


def test_picked_sites_get_a_certificate_each_that_is_called_like_its_whole_first_name(
    world: SimulatedWorld,
) -> None:
    world.site("other", ["rowing.club.saltmarsh.test", "www.rowing.club.saltmarsh.test"])
    world.site("third", ["third.saltmarsh.test"])
    command = [inkstamp_program(), "--config", str(world.config), "stamp"]
    env = {**os.environ, **world.env}
    status, screen = on_terminal(command, env, world.folder, ["5", "1-2", "no"])
    assert status == 2, screen
    assert "“5” is not from 1 to 4" in screen, "it is asked again"
    assert "2 certificates will be ordered and installed." in screen
    assert not (world.home / "shelf").exists(), "nothing was done"
    number = dict(re.findall(r"(?m)^(?:\x00)?(\d+) +front .* (\S+\.test)", screen.replace("\r", "")))
    place = {name: at for at, name in number.items()}
    wanted = f"{place[NAME]},{place['rowing.club.saltmarsh.test']}"
    status, screen = on_terminal(command, env, world.folder, [wanted, "yes"], seconds=90)
    assert status == 0, screen
    text = world.config.read_text()
    assert f'[certificate."{NAME}"]' in text
    assert '[certificate."rowing.club.saltmarsh.test"]' in text
    assert "edition 1 is served" in screen
    assert (world.home / "shelf" / "rowing.club.saltmarsh.test" / "0001").is_dir()


def test_without_a_terminal_it_says_how_to_name_sites(world: SimulatedWorld) -> None:
    done = world.run("stamp")
    assert done.status == 2
    assert "there is no terminal to ask on" in done.flat
    assert "inkstamp stamp NAME…; `inkstamp survey` lists them" in done.flat
    assert world.run("stamp", "--json").status == 2
