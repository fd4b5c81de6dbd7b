"""One HTTP API, asked as a recipe says: requests signed, kept to its hosts, waiting for limits, pages and changes."""

import json
import secrets
from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

from msgspec import Struct

from inkstamp.acme.patience import parse_retry_after
from inkstamp.clock import Clock, SystemClock
from inkstamp.config.recipe import ChangeStatus, Recipe, RequestTemplate
from inkstamp.config.recipe_file import address_of, load_recipe, settings_of
from inkstamp.config.record_changers import Nameserver
from inkstamp.deadline import poll, time_left
from inkstamp.errors import CarrierTrouble, ReachTrouble, UrlTrouble
from inkstamp.files import read_secret_line
from inkstamp.printable import one_line, printable
from inkstamp.proof.recipe_requests import (
    ApiRequest,
    Values,
    authorization,
    make_request,
    next_request,
    pick,
    secrets_in,
    texts_in,
)
from inkstamp.reach.answers import read_json
from inkstamp.reach.json_api import ApiAnswer, JsonApi
from inkstamp.urls import web_url
from inkstamp.wording import counted

_MOST_PAGES = 500
_LEAST_WAIT, _LONGEST_PAUSE = 0.2, 30.0
_SHOWN = 300
_BLANK = "********"


class Exchange(Struct, frozen=True, kw_only=True):
    """A request and its answer, to be shown: secrets are blanked."""

    method: str
    url: str
    sent: str
    """The body; empty for none."""
    status: int
    answered: str
    """The beginning of the answer's JSON; empty for none."""


class RecipeApi:
    """An API as configured under `[nameserver.NAME]`; connections are kept."""

    def __init__(
        self,
        name: str,
        entry: Nameserver,
        *,
        clock: Clock | None = None,
        told: Callable[[Exchange], None] | None = None,
    ) -> None:
        """Begin; nothing is sent yet.

        Args:
            name: The nameserver's name.
            entry: Its table.
            clock: What waits; the machine's for None.
            told: Is called after each request; None for nobody.

        Raises:
            ConfigurationError: The recipe has a mistake.

        """
        self.recipe: Recipe = load_recipe(name, entry)
        self.name = name
        self.seconds = entry.seconds
        """For all requests of a change."""
        self._entry = entry
        self._clock: Clock = clock or SystemClock()
        self._told = told
        self._address = address_of(self.recipe, entry)
        self._api = JsonApi(f"the API of “{name}”", self._address, entry.trust, dict)
        self._secret = ""

    def expect_done(self, table: str, template: RequestTemplate, values: Values) -> ApiAnswer:
        """Send a request and return its answer, which says that it was carried out.

        Args:
            table: Which request of the recipe it is, for messages.
            template: It.
            values: What its placeholders stand for, beside the settings.

        Raises:
            CarrierTrouble: The API refuses it, cannot be reached, or asks to wait for longer than there is time.

        """
        return self._done(table, template, self._made(template, values))

    def change(self, table: str, template: RequestTemplate, values: Values) -> None:
        """Send a request that changes something, and wait until that is made; raises as `expect_done`."""
        answer = self.expect_done(table, template, values)
        pending = self.recipe.pending
        change = texts_in(answer.data, pending.id) if pending is not None else ""
        if pending is not None and change:
            self._follow(pending, {**values, "change_id": change})

    def items(self, table: str, template: RequestTemplate, place: str, values: Values) -> Iterator[Any]:
        """Yield what a list holds, from all of its pages; raises as `expect_done`."""
        pages = self.recipe.pages
        numbered = pages is not None and pages.kind == "number"
        request = self._made(template, {**values, "page": 1} if numbered else values)
        for number in range(2, _MOST_PAGES + 2):
            answer = self._done(table, template, request)
            found = pick(answer.data, place)
            if answer.status in template.also_done:
                return
            if not isinstance(found, list):
                raise self._trouble(f"its answer has no list at “{place}”", request, "correct `items` of the recipe")
            yield from found
            following = texts_in(answer.data, pages.next) if pages is not None else ""
            if pages is None or (numbered and not found) or (not numbered and not following):
                return
            if pages.kind == "url":
                request = self._within_urls(partial(next_request, request, following))
            else:
                request = self._made(template, {**values, "page": number if numbered else following})
        raise self._trouble("the list has no end", request, "correct `pages` of the recipe")

    def _made(self, template: RequestTemplate, values: Values) -> ApiRequest:
        known = {**settings_of(self.recipe, self._entry), **values}
        return self._within_urls(partial(make_request, template, known, self._address))

    def _within_urls(self, make: Callable[[], ApiRequest]) -> ApiRequest:
        """Make a request that goes to a host of the recipe; CarrierTrouble where it would go elsewhere."""
        try:
            request = make()
        except UrlTrouble as error:
            raise CarrierTrouble(error.what, where=error.where, said=error.said, refused=True,
                                 advice="correct `url` of the recipe") from error  # fmt: skip
        here, there = web_url(self._address), web_url(request.url)
        same = (here.scheme, here.host, here.usual_port) == (there.scheme, there.host, there.usual_port)
        if not same and not (there.scheme == "https" and there.authority in self.recipe.hosts):
            raise self._trouble(f"a URL leads to {there.authority}, which is none of its hosts", request,
                                "nothing was sent there; if it is right, name it in `hosts` of the recipe")  # fmt: skip
        return request

    def _done(self, table: str, template: RequestTemplate, request: ApiRequest) -> ApiAnswer:
        answer = self._ask(request)
        refusal = self._refusal(answer) if answer.status not in template.also_done else ""
        if refusal:
            wrong_key = "see the secret in the file that key_file names"
            raise CarrierTrouble(
                f"the API of “{self.name}” refuses [{table}]", where=request.url, said=refusal, refused=True,
                advice=wrong_key if answer.status in {401, 403} else "correct that, then run the command again",
            )  # fmt: skip
        return answer

    def _refusal(self, answer: ApiAnswer) -> str:
        """Return what an answer says is wrong; empty where the request was carried out."""
        known = self.recipe.error
        if answer.status < 300 and all(texts_in(answer.data, place) == said for place, said in known.unless.items()):
            return ""
        said = texts_in(answer.data, known.message) or texts_in(answer.data, known.code)
        return one_line(self._blanked(said), _SHOWN) or f"status {answer.status}"

    def _ask(self, request: ApiRequest) -> ApiAnswer:
        """Send a request until the API does not ask to wait."""
        pause = 1.0
        while True:
            answer = self._send(request)
            limit, code = self.recipe.limit, texts_in(answer.data, self.recipe.error.code)
            if answer.status not in limit.status and (not code or code not in limit.codes):
                return answer
            wait = max(self._asked_to_wait(answer, pause), _LEAST_WAIT)
            if wait >= time_left():
                raise CarrierTrouble(
                    f"the API of “{self.name}” asks to wait {counted(round(wait), 'second')}", where=request.url,
                    said=self._refusal(answer), refused=True,
                    advice=f"run it again then; or let it wait longer: seconds = … in [nameserver.{self.name}]",
                )  # fmt: skip
            self._clock.sleep(wait)
            pause = min(pause * 2, _LONGEST_PAUSE)

    def _asked_to_wait(self, answer: ApiAnswer, pause: float) -> float:
        try:
            return float(texts_in(answer.data, self.recipe.limit.wait))
        except ValueError:
            asked = parse_retry_after(answer.retry_after or None, self._clock.now())
            return pause if asked is None else asked

    def _send(self, request: ApiRequest) -> ApiAnswer:
        self._secret = read_secret_line(self._entry.key_file)
        shown = authorization(
            request, self.recipe.authentication, self._secret, self._clock.now(), secrets.token_hex(16)
        )
        headers = {**request.headers, **shown}
        try:
            answer = self._api.send(request.method, request.url, request.body or None, headers)
        except ReachTrouble as error:
            raise CarrierTrouble(error.what, where=error.where, said=self._blanked(error.said),
                                 advice=error.advice) from error  # fmt: skip
        if self._told is not None:
            self._told(self._exchange(request, answer))
        return answer

    def _exchange(self, request: ApiRequest, answer: ApiAnswer) -> Exchange:
        return Exchange(
            method=request.method,
            url=self._blanked(request.url),
            sent=self._blanked(_readable(request.body)),
            status=answer.status,
            answered=one_line(self._blanked(answer.text), _SHOWN),
        )

    def _blanked(self, text: str) -> str:
        for each in secrets_in(self._secret):
            text = text.replace(each, _BLANK)
        return text

    def _follow(self, pending: ChangeStatus, values: Values) -> None:
        """Wait until a change is made that the API answered before."""
        for _ in poll(self._clock, pause=max(pending.pause, _LEAST_WAIT), seconds=time_left()):
            answer = self.expect_done("pending", pending, values)
            state = texts_in(answer.data, pending.state)
            if state in pending.done:
                return
            if state in pending.failed:
                raise CarrierTrouble(
                    f"the API of “{self.name}” did not make a change", where=self._address, refused=True,
                    said=one_line(self._blanked(texts_in(answer.data, self.recipe.error.message) or state), _SHOWN),
                    advice="correct that, then run the command again",
                )  # fmt: skip
        raise CarrierTrouble(
            f"the API of “{self.name}” did not make a change in time", where=self._address,
            said=one_line(f"its state is “{state}”", _SHOWN), advice="run it again later; or raise `seconds`",
        )  # fmt: skip

    def _trouble(self, what: str, request: ApiRequest, advice: str) -> CarrierTrouble:
        told = f"the API of “{self.name}”: {what}"
        return CarrierTrouble(told, where=self._blanked(request.url), refused=True, advice=advice)


def _readable(body: bytes) -> str:
    """Return a body as people read it: JSON with blanks at which lines can be broken."""
    known = read_json(body)
    return printable(body.decode("utf-8", "replace") if known is None else json.dumps(known, ensure_ascii=False))
