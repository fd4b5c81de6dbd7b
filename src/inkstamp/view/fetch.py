"""Fetch a file over HTTP or HTTPS from where a certificate says that it is: the whole URL is a stranger's choice."""

from inkstamp.deadline import within
from inkstamp.errors import NetworkTrouble, UrlTrouble
from inkstamp.pki.names import as_address
from inkstamp.urls import WebUrl, web_url
from inkstamp.view.addresses import address_book
from inkstamp.view.point import View
from inkstamp.view.web import LOOK_SECONDS, MOST_BODY, fetch

_WHOLE = 2 * LOOK_SECONDS
"""Seconds for all addresses together."""
_MOST_ADDRESSES = 4
_PORTS = {80, 443}
_ADVICE = "fetch it elsewhere and give the file"


def download(url: str, view: View, limit: int = MOST_BODY) -> bytes:
    """Return the body at `url`, `limit` bytes at most, from the first address that gives it.

    The other side is not authenticated: what comes back must prove itself, as a certificate does by its signature. No
    port but those of the web is asked, and no address inside of our own network, unless the view is private.

    Raises:
        NetworkTrouble: No address gave it, or none may be asked.

    """
    try:
        where = web_url(url)
    except UrlTrouble as error:
        raise NetworkTrouble(f"cannot fetch {error.where}", where=error.where, said=error.said) from error
    with within(_WHOLE):
        trouble = ""
        for address in _addresses(where, view)[:_MOST_ADDRESSES]:
            sight = fetch(url, address, view, limit)
            if sight.status == 200 and not sight.trouble:
                return sight.body
            trouble = sight.trouble or f"it answers {sight.status}"
    raise NetworkTrouble(f"cannot fetch {url}", where=url, said=trouble, advice=_ADVICE)


def _addresses(where: WebUrl, view: View) -> tuple[str, ...]:
    """Return which addresses may be asked; NetworkTrouble when there are none."""

    def refused(why: str) -> NetworkTrouble:
        return NetworkTrouble(f"{where.text} is not fetched", where=where.text, said=why, advice=_ADVICE)

    port = where.usual_port
    if not view.is_private and port not in _PORTS:
        raise refused(f"port {port} is not one of the web's")
    literal = as_address(where.host)
    found = None if literal else address_book(view).look_up(where.host)
    known = found.all if found else (literal,)
    if found and not known:
        raise NetworkTrouble(f"cannot fetch {where.text}", where=where.text, said=found.trouble, advice=_ADVICE)
    allowed = tuple(each for each in known if not view.is_internal(each))
    if not allowed:
        raise refused(f"its address {known[0]} is not one of the public Internet")
    return allowed
