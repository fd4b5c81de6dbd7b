"""A configuration that cannot be read at all names no messengers: those that it named last are told."""

import msgspec

from inkstamp.bulkhead import attempt
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Messenger
from inkstamp.deadline import within
from inkstamp.decoding import from_msgpack
from inkstamp.errors import ConfigurationError, FileTrouble, InkStampError
from inkstamp.files import private_folder, read_bytes, write_bytes
from inkstamp.home import Home
from inkstamp.jobs.notification.context import NotificationContext
from inkstamp.jobs.notification.messages import EACH_SECONDS, send_news
from inkstamp.ownership import expect_ours
from inkstamp.policy.notification_rules import Matter, News

_FILE = "messengers.msgpack"


class _Kept(msgspec.Struct, frozen=True, kw_only=True):
    """What is kept of the configuration for the time when it cannot be read."""

    messengers: dict[str, Messenger]
    told: str = ""
    """What was wrong with it when they were told last; empty when it was in order since."""


def keep_messengers(context: NotificationContext) -> None:
    """Keep the messengers of a configuration that can be read, and tell them so where it could not before."""
    kept, now = _read(context.home), _Kept(messengers=dict(context.config.messenger))
    if kept == now:
        return
    if kept is not None and kept.told:
        _send(context, kept.messengers, News(begun=(), over=(_matter(context.configuration, kept.told, ""),)))
    _write(context.home, now)


def tell_unreadable(context: NotificationContext, error: ConfigurationError) -> None:
    """Tell the messengers that were kept what is wrong with the configuration, once for each mistake."""
    kept, what = _read(context.home), f"{error.what} ({error.where})"
    if kept is None or kept.told == what:
        return
    if _send(context, kept.messengers, News(begun=(_matter(context.configuration, what, error.advice),), over=())):
        _write(context.home, msgspec.structs.replace(kept, told=what))


def _matter(configuration: ConfigFile, what: str, advice: str) -> Matter:
    text = f"nothing can be renewed, since the configuration {configuration.path} cannot be read: {what}"
    return Matter(certificate="configuration", kind="failing", text=text, remedy=advice)


def _send(context: NotificationContext, messengers: dict[str, Messenger], news: News) -> bool:
    """Send it to all who are told of failures; returns whether anybody was told."""
    reached_any = False
    for name, entry in messengers.items():
        if "failing" not in entry.about:
            continue
        with within(EACH_SECONDS):
            sent = attempt(send_news, context, name, entry, news, ())
        if isinstance(sent, InkStampError):
            context.progress.step(name, f"could not send the notification, the next run tries again: {sent.what}")
        else:
            reached_any = True
    return reached_any


def _read(home: Home) -> _Kept | None:
    file = home.cache / _FILE
    try:
        expect_ours(file, "the messengers that were kept")
        return from_msgpack(read_bytes(file), _Kept)
    except (FileTrouble, ConfigurationError, msgspec.MsgspecError, ValueError):  # none, or of an older release
        return None


def _write(home: Home, kept: _Kept) -> None:
    write_bytes(private_folder(home.cache) / _FILE, msgspec.msgpack.encode(kept), mode=0o600)
