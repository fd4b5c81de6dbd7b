"""Entries of certificates that are not in the file: what their group says, with names and settings of their own."""

import hashlib
from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from inkstamp.config.entries import EntryReader
from inkstamp.config.load import fail_clearly
from inkstamp.config.model import Certificate, Configuration
from inkstamp.errors import ConfigurationError

OWN_SETTINGS = tuple(each for each in Certificate.__struct_fields__ if each != "names")
"""What an enrolled certificate may say in the place of its group."""


class _EnrolledReader(EntryReader):
    """An entry reader that names the roster where a file's would name a line."""

    def __init__(self, where: str) -> None:
        self._where = where

    def absolute(self, value: str, path: tuple[str, ...]) -> str:
        """Return a path, which has to be absolute here; ConfigurationError where it is not."""
        if not value.startswith("/"):
            raise self.fail(f"“{path[-1]}” is no absolute path: {value}", path, "begin it with /")
        return value

    def fail(self, what: str, path: tuple[str, ...], advice: str) -> ConfigurationError:  # noqa: ARG002  no file to find it in
        """Return the error for what is wrong with an enrolled certificate."""
        return ConfigurationError(what, where=self._where, advice=advice)


def enrolled_entry(
    whole: Configuration, name: str, group: str, names: Sequence[str], settings: Mapping[str, Any]
) -> Certificate:
    """Return the entry of an enrolled certificate, as if it stood in the file.

    Args:
        whole: The configuration.
        name: The certificate's.
        group: Its group's.
        names: The names that it is for.
        settings: Those of `OWN_SETTINGS` that it says in the place of its group, as in the file.

    Raises:
        ConfigurationError: There is no such group, or a setting or name is not possible there.

    """
    common = whole.group.get(group)
    where = f"certificate “{name}” of group “{group}” on the roster"
    if common is None:
        mistake = whole.mistake_in("group", group)
        if mistake is not None:
            raise ConfigurationError(
                f"[group.{group}] has an error: {mistake.what}", where=mistake.where, advice=mistake.advice
            )
        raise ConfigurationError(
            f"there is no group “{group}” in the configuration", where=where, advice=f"add a table [group.{group}]"
        )
    reader = _EnrolledReader(where)
    with fail_clearly("the roster", where):
        given = {"names": list(names), "authority": common.authority, **settings}
        # What is the group's was checked when the file was read.
        own = reader.section(Certificate, given, ("certificate", name)) if settings else common
        merged = Certificate(
            names=tuple(names),
            **{field: getattr(own if field in settings else common, field) for field in OWN_SETTINGS},
        )
        if settings:
            reader.settings(("certificate", name), merged, whole)
        return reader.with_names(("certificate", name), merged, whole)


def group_digests(whole: Configuration) -> dict[str, str]:
    """Return a digest of all that decides when the certificates of each group are looked at, by group."""
    beside = (
        whole.renewal,
        {name: each.kind for name, each in whole.authority.items()},
        {name: (each.kind, each.decrypt) for name, each in whole.server.items()},
        sorted(whole.program),
        [(each.about, each.days_left) for each in whole.messenger.values()],
        whole.mistaken_beside,
    )
    return {
        name: hashlib.sha256(msgspec.json.encode((group, beside), order="sorted")).hexdigest()
        for name, group in whole.group.items()
    }
