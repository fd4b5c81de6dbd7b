"""Errors: found again by their names, and never changed, since several certificates may be told the same one."""

import inspect

import pytest

from inkstamp import errors
from inkstamp.errors import CaProblem, InkStampError, error_class

CLASSES = [each for _, each in inspect.getmembers(errors, inspect.isclass) if issubclass(each, InkStampError)]


@pytest.mark.parametrize("kind", CLASSES)
def test_an_error_is_found_by_its_recorded_name_and_stays_as_it_is_when_words_are_added(
    kind: type[InkStampError],
) -> None:
    assert error_class(kind.__name__) is kind
    met = kind("the zone is not signed", advice="sign it")
    met.__cause__ = OSError("no route")
    told = met.amended(advice="sign it, then run `inkstamp renew`", step="validating")
    assert type(told) is kind
    assert told.__cause__ is met.__cause__, "--debug shows where it came from"
    assert (told.what, told.advice, told.step) == (met.what, "sign it, then run `inkstamp renew`", "validating")
    assert (met.advice, met.step) == ("sign it", "")
    assert vars(told).keys() == vars(met).keys()


def test_what_the_ca_said_stays_with_an_error_that_words_are_added_to() -> None:
    met = CaProblem("refused", kind="rateLimited", status=429, retry_after=60.0, names=["a.test"], said="too many")
    told = met.amended(what="refused for a.test")
    assert (told.kind, told.status, told.retry_after, told.names, told.said) == (
        "rateLimited", 429, 60.0, ("a.test",), "too many",
    )  # fmt: skip


def test_a_private_class_is_recorded_by_the_public_one_above_it_and_words_can_be_added_to_it_too() -> None:
    class _Moved(errors.CaMisbehaved):
        def __init__(self, target: str) -> None:
            super().__init__(f"the CA redirects a request to {target}")
            self.target = target

    told = _Moved("ca.saltmarsh.test").amended(advice="correct `directory`")
    assert (told.class_name, told.target, told.advice) == ("CaMisbehaved", "ca.saltmarsh.test", "correct `directory`")
    assert told.what == "the CA redirects a request to ca.saltmarsh.test"


def test_a_name_of_another_release_counts_as_any_error() -> None:
    assert error_class("OfAReleaseToCome") is InkStampError
