"""JSON and plain values into Structs, safely from several threads."""

import threading
from typing import Any, TypeVar

import msgspec

_T = TypeVar("_T")
_describing = threading.Lock()
_described: set[object] = set()


def described(kind: type[_T]) -> type[_T]:
    """Return `kind`, with what msgspec has to know of its fields worked out.

    msgspec does this when a Struct is decoded for the first time, without a lock: a second thread that decodes it
    in that moment reads fields that are not there yet, and the whole process dies of it (SIGSEGV).
    """
    if kind not in _described:
        with _describing:
            msgspec.json.Decoder(kind)
            _described.add(kind)
    return kind


def from_json(data: bytes | str, kind: type[_T]) -> _T:
    """Read JSON as an object of `kind`.

    Raises:
        msgspec.MsgspecError: It is not JSON, or not of that kind.

    """
    return msgspec.json.decode(data, type=described(kind))


def from_msgpack(data: bytes, kind: type[_T]) -> _T:
    """Read MessagePack as an object of `kind`.

    Raises:
        msgspec.MsgspecError: It is not MessagePack, or not of that kind.

    """
    return msgspec.msgpack.decode(data, type=described(kind))


def from_plain(value: Any, kind: type[_T]) -> _T:
    """Make an object of `kind` of dicts, lists and scalars.

    Raises:
        msgspec.ValidationError: The value is not of that kind.

    """
    return msgspec.convert(value, described(kind))
