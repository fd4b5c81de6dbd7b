"""Many certificates of one server, renewed in one run: one reload, and none is held up by another."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from more_servers import Counting, apache
from world import Ran, World, real_world

CREWS = [f"crew{number}" for number in range(6)]
ODD = CREWS[3]


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        for crew in CREWS:
            made.site(crew, [f"{crew}.saltmarsh.test"])
        yield made


@pytest.fixture(scope="module")
def counting(world: World) -> Counting:
    """All six have their first edition, and nginx is asked by way of a script."""
    made = Counting(world.folder, world.nginx.program)
    text = world.config.read_text().replace(f'program = "{world.nginx.program}"', f'program = "{made.program}"')
    for crew in CREWS:
        text += f'\n[certificate.{crew}]\nnames = ["{crew}.saltmarsh.test"]\nauthority = "quayside"\nkey = "rsa-2048"\n'
        text += 'via = "front"\ninstall = ["front"]\n'
    world.config.write_text(text)
    made.begin()
    first = world.run("renew")
    assert first.status == 0, first.err
    assert made.asked("reload") == 2  # each has a file of its own in the configuration
    return made


def renew_all(world: World, key: str, program: str = "") -> Ran:
    """Have all six renewed, since their sort of key is another one now."""
    world.config.write_text(re.sub(r'key = "(rsa|ecdsa)[^"]*"', f'key = "{key}"', world.config.read_text()))
    return world.run("renew", program=program)


def assert_served(world: World, **editions: int) -> None:
    for crew, number in editions.items():
        assert world.served(f"{crew}.saltmarsh.test") == world.edition(crew, number), crew
        assert (world.home / "shelf" / crew / "current").readlink() == Path(f"{number:04d}")


def all_but_odd(number: int) -> dict[str, int]:
    return {crew: number for crew in CREWS if crew != ODD}


def test_a_server_is_reloaded_once_for_all_that_come_in_while_it_is_left_alone(
    world: World, counting: Counting
) -> None:
    counting.begin()
    done = renew_all(world, "ecdsa-p256")
    assert done.status == 0, done.err
    assert_served(world, **dict.fromkeys(CREWS, 2))
    assert counting.asked("reload") == 2  # the first at once, the others together
    assert re.search(r"front: \d new editions, one reload", done.err)
    assert "crew3: edition 2 on front, valid until" in done.out


def test_one_that_a_server_refuses_is_found_and_holds_up_none_of_the_others(world: World, counting: Counting) -> None:
    orders = world.ca.orders()
    refuses = f'case "$*" in *-t) [ "$(readlink {world.home}/shelf/{ODD}/current)" = 0003 ] && '
    counting.begin(refuses + '{ echo "nginx: [emerg] not this one" >&2; exit 1; } ;; esac\n')
    done = renew_all(world, "ecdsa-p384")
    assert done.status == 1
    assert_served(world, **all_but_odd(3), **{ODD: 2})
    assert "not this one" in done.flat
    assert done.flat.count("refuses the new configuration") == 1
    why = world.run("why", ODD)
    assert "installing edition 3" in why.flat
    counting.begin()
    assert world.run("renew", ODD).status == 0
    assert_served(world, **dict.fromkeys(CREWS, 3))
    assert world.ca.orders() - orders == len(CREWS)


def test_one_that_is_not_served_after_the_reload_goes_back_and_the_others_stay(
    world: World, counting: Counting
) -> None:
    link = f"{world.home}/shelf/{ODD}/current"
    counting.begin(
        f'case "$*" in *reload) [ "$(readlink {link})" = 0004 ] && {{ ln -sfn 0003 {link}; {world.nginx.program} "$@"; '
        f"sleep 1; ln -sfn 0004 {link}; exit 0; }} ;; esac\n"
    )
    done = renew_all(world, "rsa-2048")
    assert done.status == 1
    assert_served(world, **all_but_odd(4), **{ODD: 3})
    assert f"still serves another certificate for {ODD}.saltmarsh.test" in done.flat
    assert "all files are restored" in done.flat
    counting.begin()
    assert world.run("renew", ODD).status == 0
    assert_served(world, **dict.fromkeys(CREWS, 4))


def test_a_run_killed_while_it_installs_them_together_goes_on_without_a_new_order(
    world: World, counting: Counting
) -> None:
    orders = world.ca.orders()
    once = world.folder / "killed"
    counting.begin(
        f'case "$*" in *reload) [ $(grep -c reload {counting.log}) = 2 ] && [ ! -e {once} ] && '
        f"{{ touch {once}; kill -9 $PPID; exit 1; }} ;; esac\n"
    )
    assert renew_all(world, "ecdsa-p256").status == -9
    counting.begin()
    done = world.run("renew")
    assert done.status == 0, done.err
    assert counting.asked("reload") <= 3  # what was begun goes back with one
    assert_served(world, **dict.fromkeys(CREWS, 5))
    assert world.ca.orders() - orders == len(CREWS)
    assert world.left_behind() == []
    assert "all 6 are ok" in world.run("status").out


def test_a_run_that_is_broken_off_begins_nothing_more_and_the_next_one_goes_on(
    world: World, counting: Counting
) -> None:
    orders = world.ca.orders()
    counting.begin('case "$*" in *reload) kill -INT $PPID; sleep 1;; esac\n')
    program = Path(world.folder / "as-at-a-terminal")  # what is started in the background may have SIGINT ignored
    program.write_text(
        "import signal\nfrom inkstamp.__main__ import main\n"
        "signal.signal(signal.SIGINT, signal.default_int_handler)\nmain()\n"
    )
    done = renew_all(world, "ecdsa-p384", str(program))
    assert done.status == 130
    assert "stopped; run the same command again to resume" in done.err
    assert "Traceback" not in done.err
    counting.begin()
    second = world.run("renew")
    assert second.status == 0
    # Ctrl-C takes challenge responses down; a CA that looks in that moment refuses, and that order has ended.
    ended = [
        crew for crew in CREWS
        if f"{crew}: resuming order" in second.err and f"{crew}: ordering a certificate" in second.err
    ]  # fmt: skip
    assert_served(world, **{crew: 7 if crew in ended else 6 for crew in CREWS})
    assert world.ca.orders() - orders == len(CREWS) + len(ended)
    assert world.left_behind() == []


def test_a_broken_configuration_is_tested_once_for_all_that_are_due_and_nothing_is_ordered(
    world: World, counting: Counting
) -> None:
    orders = world.ca.orders()
    counting.begin('echo "nginx: [emerg] a typing error" >&2; exit 1\n')
    done = renew_all(world, "rsa-2048")
    assert done.status == 1
    assert counting.asked("-t") == 1
    assert done.flat.count("is broken already") == done.flat.count("a typing error") == len(CREWS)
    assert world.ca.orders() == orders
    counting.begin()
    world.config.write_text(world.config.read_text().replace("rsa-2048", "ecdsa-p384"))


def test_sites_whose_changes_get_in_each_others_way_are_given_tls_in_one_run_all_the_same(
    world: World, folder: Path
) -> None:
    """Each by itself needs a `Listen` in its own file, and all together need just one."""
    with apache(folder / "apache", "127.0.0.3", world.nginx.http_port) as httpd:
        clubs = [f"club{number}" for number in range(4)]
        text = world.config.read_text() + httpd.entry("httpd")
        for club in clubs:
            httpd.site(club, [f"{club}.saltmarsh.test"])
            world.nameserver.table[f"{club}.saltmarsh.test"] = ["127.0.0.3"]
            text += f'\n[certificate.{club}]\nnames = ["{club}.saltmarsh.test"]\nauthority = "quayside"\n'
            text += 'via = "httpd"\ninstall = ["httpd"]\n'
        world.config.write_text(text)
        done = world.run("renew", *clubs)
        assert done.status == 0, done.err
        listens = "".join(httpd.site_file(club).read_text() for club in clubs).count("Listen ")
        assert listens == 1
        assert world.run("check", *clubs, "--quick").status == 0
