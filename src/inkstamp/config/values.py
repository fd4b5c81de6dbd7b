"""Settings as they are typed, `KEY=VALUE`, made into what stands in `inkstamp.toml`."""

import difflib
import json
import types
import typing
from collections.abc import Mapping, Sequence
from pathlib import Path

from inkstamp.config.entries import NAMES_OR_PATHS, PATHS
from inkstamp.config.section import Section
from inkstamp.errors import UsageError

_YES, _NO = {"true", "yes", "on"}, {"false", "no", "off"}


def read_values(kind: type[Section], pairs: Sequence[str]) -> dict[str, object]:
    """Read settings of an entry as typed; None for a key that is to be taken out (`KEY=`).

    A list is written with commas, or as JSON; a table of words as `KEY=one=1,two=2`. Whether a value is possible is
    judged when the file is read back.

    Raises:
        UsageError: One has no `=`, names no key of such an entry, or is no value for it.

    """
    known = {name: hint for name, hint in typing.get_type_hints(kind).items() if name in kind.__struct_fields__}
    found: dict[str, object] = {}
    for pair in pairs:
        key, equals, text = pair.partition("=")
        if not equals:
            raise UsageError(f"“{pair}” is not KEY=VALUE", advice="write as in redirect=true; KEY= takes the key out")
        if key not in known:
            near = difflib.get_close_matches(key, known, n=1, cutoff=0.5)
            hint = f"did you mean “{near[0]}”? " if near else ""
            raise UsageError(f"there is no key “{key}”", advice=f"{hint}known here: {', '.join(known)}")
        if key in found:
            raise UsageError(f"“{key}” is given twice", advice="give it once")
        found[key] = _value(key, text, known[key], is_path=key in PATHS.get(kind, ()))
    return found


def _value(key: str, text: str, hint: object, *, is_path: bool) -> object:
    if not text:
        return None
    kinds = _kinds(hint)
    if bool in kinds:
        if text.lower() not in _YES | _NO:
            raise UsageError(f"“{key}” is true or false, and not “{text}”", advice=f"write {key}=true or {key}=false")
        return text.lower() in _YES
    if int in kinds or float in kinds:
        try:
            return int(text) if int in kinds or text.isdigit() else float(text)
        except ValueError:
            raise UsageError(f"“{key}” is a number, and not “{text}”", advice=f"write as in {key}=30") from None
    if tuple in kinds:
        return _list(key, text, may_be_one=str in kinds)
    if Mapping in kinds:
        return _pairs(key, text)
    if str not in kinds:
        raise UsageError(f"“{key}” is a table, which is not typed in one line", advice="edit the configuration file")
    is_relative = is_path and not text.startswith("/") and (key not in NAMES_OR_PATHS or "/" in text)
    return str(Path(text).absolute()) if is_relative else text


def _kinds(hint: object) -> set[type]:
    """Return what a key may hold: `bool`, `int`, `float`, `str`, `tuple` or `Mapping` of words; `dict` for tables."""
    if isinstance(hint, types.UnionType) or typing.get_origin(hint) is typing.Union:
        return set().union(*(_kinds(each) for each in typing.get_args(hint)))
    origin = typing.get_origin(hint)
    if origin is typing.Literal:
        return {str}
    if typing.get_args(hint) == (str, str):
        return {Mapping}
    if origin is tuple:
        inner = _kinds(typing.get_args(hint)[0])
        return {tuple} if inner == {str} else {dict}
    if isinstance(hint, type) and issubclass(hint, str):
        return {str}
    return {hint} if hint in {bool, int, float} else set() if hint is type(None) else {dict}


def _pairs(key: str, text: str) -> dict[str, str]:
    pairs = [each.partition("=") for each in text.split(",")]
    if not all(name.strip() and equals for name, equals, _ in pairs):
        raise UsageError(f"“{key}” is no list of NAME=VALUE", advice=f"write as in {key}=server=localhost,region=north")
    return {name.strip(): value.strip() for name, _, value in pairs}


def _list(key: str, text: str, *, may_be_one: bool) -> object:
    if text.startswith("["):
        try:
            found = json.loads(text)
        except (ValueError, RecursionError):
            found = None
        if not isinstance(found, list) or not all(isinstance(each, str) for each in found):
            raise UsageError(f"“{key}” is no list of words", advice=f"write as in {key}=one,two")
        return found
    words = [each for word in text.split(",") if (each := word.strip())]
    return words[0] if may_be_one and len(words) == 1 else words
