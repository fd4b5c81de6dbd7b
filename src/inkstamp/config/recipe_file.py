"""Recipes are read and judged: those that Ink Stamp brings, and files of the user's own."""

import re
from collections.abc import Iterator, Mapping
from importlib import resources
from pathlib import Path
from typing import Any

import jsonpointer
import msgspec
import uritemplate

from inkstamp.config.locate import line_of
from inkstamp.config.recipe import PLACEHOLDER, Authentication, Recipe, Replacement, RequestTemplate
from inkstamp.config.record_changers import Nameserver
from inkstamp.config.renewal_rules import may_be_plain
from inkstamp.config.server_rules import Fault
from inkstamp.config.toml_file import read_toml
from inkstamp.decoding import from_plain
from inkstamp.errors import ConfigurationError, FileTrouble, UrlTrouble
from inkstamp.files import read_bytes
from inkstamp.ownership import expect_ours
from inkstamp.urls import web_url
from inkstamp.wording import header_of

_SHIPPED = resources.files("inkstamp.config").joinpath("recipes")
_MOST_BYTES = 262_144
_STRAY = re.compile(r"[{}]")


_ZONE = {"zone", "zone_id"}
_SET = {*_ZONE, "name", "relative", "type"}
_VALUE = {*_SET, "value", "rdata", "ttl"}
_KNOWN: Mapping[str, set[str]] = {
    "zone": {"zone", "page"},
    "records": {*_SET, "page"},
    "add": _VALUE,
    "remove": {*_VALUE, "record_id"},
    "replace": {*_SET, "ttl", "values"},
    "clear": {*_SET, "ttl"},
    "publish": _ZONE,
    "pending": {*_ZONE, "change_id"},
}
"""By table, what placeholders of its request stand for, beside the recipe's settings."""
SIGNED = {"method", "host", "target", "time", "nonce", "body", "body_digest", "key_id"}
"""What the text to be signed can hold."""


def shipped_recipes() -> list[str]:
    """Return the names of the recipes that Ink Stamp brings."""
    return sorted(each.name.removesuffix(".toml") for each in _SHIPPED.iterdir() if each.name.endswith(".toml"))


def load_recipe(name: str, entry: Nameserver) -> Recipe:
    """Read the recipe of a nameserver's table: one of those that Ink Stamp brings, or a file.

    Raises:
        ConfigurationError: It is not there, is not to be relied on, has a mistake, or the table lacks what it needs.

    """
    fault = recipe_fault(entry)
    if fault is not None:
        raise ConfigurationError(fault.what, where=header_of("nameserver", name), advice=fault.advice)
    return read_recipe(entry.recipe)


def read_recipe(called: str) -> Recipe:
    """Read a recipe by its name, or the file that it is in where there is a slash; raises as `load_recipe`."""
    if "/" not in called:
        return parse_recipe(_SHIPPED.joinpath(f"{called}.toml").read_bytes(), Path(f"{called}.toml"))
    file = Path(called)
    expect_ours(file, "the recipe")
    try:
        return parse_recipe(read_bytes(file, limit=_MOST_BYTES), file)
    except FileTrouble as error:
        raise ConfigurationError(error.what, where=error.where, said=error.said, advice="correct `recipe`") from error


def parse_recipe(data: bytes, file: Path) -> Recipe:
    """Read a recipe.

    Raises:
        ConfigurationError: It has a mistake; names the line.

    """
    text, raw = read_toml(data, file)
    try:
        recipe = from_plain(raw, Recipe)
    except msgspec.ValidationError as error:
        said, _, at = str(error).partition(" - at `$.")
        path = tuple(re.findall(r"[A-Za-z_]+", at))
        told = f"“{'.'.join(path)}” is wrong" if path else "it is no recipe"
        raise _mistake(text, file, path, told, said) from error
    for path, what, advice in _faults(recipe):
        raise _mistake(text, file, path, what, advice)
    return recipe


def settings_of(recipe: Recipe, entry: Nameserver) -> dict[str, str]:
    """Return what a recipe's settings are for a nameserver."""
    return {**recipe.settings, **(entry.settings or {})}


def address_of(recipe: Recipe, entry: Nameserver) -> str:
    """Return the URL that an API's paths are below, without a slash at the end."""
    return (entry.address or recipe.address).rstrip("/")


def _mistake(text: str, file: Path, path: tuple[str, ...], what: str, advice: str) -> ConfigurationError:
    where = f"{file}, line {line_of(text, path)}"
    return ConfigurationError(f"the recipe has a mistake: {what}", where=where, advice=advice)


def recipe_fault(entry: Nameserver) -> Fault | None:
    """Return what is wrong with a nameserver's table for its recipe; raises as `load_recipe` for a mistake there."""
    if "/" not in entry.recipe and entry.recipe not in shipped_recipes():
        return Fault(f"there is no recipe “{entry.recipe}”", ("recipe",),
                     f"known: {', '.join(shipped_recipes())}; or name a file, with a slash in it")  # fmt: skip
    recipe = read_recipe(entry.recipe)
    known = ", ".join(recipe.settings) or "none"
    strange = next((each for each in entry.settings or () if each not in recipe.settings), "")
    lacking = next((key for key, value in settings_of(recipe, entry).items() if not value), "")
    if strange or lacking:
        told = f"has no setting “{strange}”" if strange else f"needs the setting “{lacking}”"
        return Fault(f"the recipe “{entry.recipe}” {told}", ("settings",), f"it has: {known}")
    address = address_of(recipe, entry)
    if not address:
        return Fault(f"the recipe “{entry.recipe}” leaves open where the API is", (), "add a line address = …")
    if not is_private(address):
        return Fault(f"“{address}” is no https URL", ("address",),
                     "a secret goes there: begin it with https://; http:// is for an API on this machine")  # fmt: skip
    return None


def is_private(url: str) -> bool:
    """Tell whether a secret may be sent to a URL: over TLS, or on this machine."""
    try:
        return web_url(url).scheme == "https" or may_be_plain(url)
    except UrlTrouble:
        return False


_Fault = tuple[tuple[str, ...], str, str]
"""Where, what, and what to do."""


def _faults(recipe: Recipe) -> Iterator[_Fault]:
    unreadable = [*_unreadable_urls(recipe)]
    if unreadable:
        yield from unreadable
        return
    yield from _lacking(recipe)
    for table, known in _KNOWN.items():
        request = getattr(recipe, table)
        if request is not None:
            yield from _request_faults(table, request, known | recipe.settings.keys())
    yield from _authentication_faults(recipe.authentication)
    yield from _pointer_faults(recipe)
    if recipe.pages is not None and recipe.pages.kind != "number" and not recipe.pages.next:
        yield ("pages",), "“next” is missing", "say where an answer has what comes next"


def _unreadable_urls(recipe: Recipe) -> Iterator[_Fault]:
    for table in _KNOWN:
        request = getattr(recipe, table)
        if request is not None:
            try:
                uritemplate.URITemplate(request.url)
            except ValueError:  # what is behind a colon is no number
                yield (table, "url"), f"[{table}] has a URL that is no template", "write it as RFC 6570 has it: {name}"


def _lacking(recipe: Recipe) -> Iterator[_Fault]:
    if recipe.replace is None and (recipe.add is None or recipe.remove is None):
        yield (), "it says not how records are changed", "add [add] and [remove], or [replace]"
    if recipe.replace is not None and (recipe.add is not None or recipe.remove is not None):
        yield ("replace",), "[replace] excludes [add] and [remove]", "remove the one or the others"
    if recipe.replace is not None and recipe.records is None:
        yield ("replace",), "[replace] needs [records]", "what others have at a name is written again"
    wanted = {name for table in _KNOWN for name in _placeholders(getattr(recipe, table))}
    if "zone_id" in wanted and recipe.zone is None:
        yield (), "{zone_id} needs [zone]", "say how a zone is found"
    if "record_id" in wanted and (recipe.records is None or not recipe.records.id):
        yield ("remove",), "{record_id} needs “id” in [records]", "say where a record has its identifier"


def _placeholders(request: RequestTemplate | None) -> set[str]:
    if request is None:
        return set()
    texts = [*_texts(request.json), *request.form.values(), *request.headers.values()]
    if isinstance(request, Replacement):
        texts += _texts(request.value)
    found = {name for text in texts for name in PLACEHOLDER.findall(text)}
    return found | set(uritemplate.URITemplate(request.url).variable_names)


def _texts(value: Any) -> list[str]:
    """Return all strings in what JSON is made of."""
    waiting, found = [value], []
    while waiting:
        each = waiting.pop()
        if isinstance(each, dict):
            waiting += each.values()
        elif isinstance(each, list):
            waiting += each
        elif isinstance(each, str):
            found.append(each)
    return found


def _request_faults(table: str, request: RequestTemplate, known: set[str]) -> Iterator[_Fault]:
    listed = ", ".join(f"{{{each}}}" for each in sorted(known))
    inner = {"value", "rdata"} if isinstance(request, Replacement) else set()
    for name in sorted(_placeholders(request) - known - inner):
        yield (table,), f"[{table}] has the unknown placeholder {{{name}}}", f"known there: {listed}"
    for name in sorted(uritemplate.URITemplate(request.url).variable_names & {"values"}):
        yield (table, "url"), f"{{{name}}} is a list and cannot be in a URL", "write it in `json`"
    if _STRAY.search(re.sub(r"\{[^{}]+\}", "", request.url)):
        yield (table, "url"), f"[{table}] has a URL with a stray brace", "write it as RFC 6570 has it: {name}"
    if request.json is not None and request.form:
        yield (table, "form"), f"[{table}] has both `json` and `form`", "remove one of them"


def _authentication_faults(given: Authentication) -> Iterator[_Fault]:
    if given.scheme != "hmac":
        if given.headers or given.message:
            yield ("authentication",), f"“message” and “headers” do not apply to {given.scheme}", "remove the lines"
        return
    if not given.message or not any("{signature}" in each for each in given.headers.values()):
        yield ("authentication",), "“hmac” needs “message”, and “headers” with {signature}", "add them"
    for text, known in ((given.message, SIGNED), *((each, {*SIGNED, "signature"}) for each in given.headers.values())):
        for name in sorted(set(PLACEHOLDER.findall(text)) - known):
            yield ("authentication",), f"unknown placeholder {{{name}}}", f"known there: {', '.join(sorted(known))}"


def _pointer_faults(recipe: Recipe) -> Iterator[_Fault]:
    places: dict[tuple[str, ...], str] = {("error", "message"): recipe.error.message, ("error", "code"):
                                          recipe.error.code, ("limit", "wait"): recipe.limit.wait}  # fmt: skip
    for table, keys in (("zone", ("items", "name", "id")), ("pending", ("id", "state")), ("pages", ("next",)),
                        ("records", ("items", "name", "type", "values", "value", "id", "ttl"))):  # fmt: skip
        section = getattr(recipe, table)
        places |= {(table, key): getattr(section, key) for key in keys} if section is not None else {}
    for path, place in [*places.items(), *((("error", "unless"), each) for each in recipe.error.unless)]:
        try:
            jsonpointer.JsonPointer(place)
        except jsonpointer.JsonPointerException:
            yield path, f"“{place}” is no JSON pointer", "write as RFC 6901 has it: /links/next"
