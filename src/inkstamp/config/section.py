"""What all tables of the configuration file have in common."""

import enum
import types
import typing

import msgspec


class Section(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of all tables of the file."""

    def given(self) -> dict[str, object]:
        """Return the keys that differ from the defaults, and those without one, as they would be written."""
        defaults, fields = type(self).__struct_defaults__, type(self).__struct_fields__
        required = len(fields) - len(defaults)
        values = [(index, field, getattr(self, field)) for index, field in enumerate(fields)]
        return {
            field: value for index, field, value in values if index < required or value != defaults[index - required]
        }


def allowed_values(kind: type[Section], key: str) -> str:
    """Say which values a key takes, where it takes few."""
    known = typing.get_type_hints(kind).get(key)
    if typing.get_origin(known) is types.UnionType or typing.get_origin(known) is typing.Union:
        known = next(each for each in typing.get_args(known) if each is not type(None))  # a key that may be left out
    if typing.get_origin(known) is tuple:
        known = typing.get_args(known)[0]
    if isinstance(known, type) and issubclass(known, enum.Enum):
        return "known values: " + ", ".join(member.value for member in known)
    if typing.get_origin(known) is typing.Literal:
        return "known values: " + ", ".join(typing.get_args(known))
    return "correct the value"
