"""What all tables of the configuration file have in common."""

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
