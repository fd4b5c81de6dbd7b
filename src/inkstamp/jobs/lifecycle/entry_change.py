"""What a certificate's entry says, changed without an editor: in the configuration file or on the roster."""

from collections.abc import Mapping
from typing import Any

import msgspec

from inkstamp.config.enrolled import OWN_SETTINGS, enrolled_entry
from inkstamp.errors import UsageError
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.ledger.roster import keep_copy


def change_settings(context: LifecycleContext, name: str, settings: Mapping[str, Any]) -> None:
    """Set keys of a certificate's entry, as in the file; None takes one out.

    Raises:
        UsageError: There is no such certificate.
        ConfigurationError: The entry would not be valid then; nothing is changed.

    """
    context.certificates.entry(name)
    record = context.certificates.record(name)
    if record is None:
        context.configuration.change_entry("certificate", name, settings)
        return
    unknown = next((key for key in settings if key not in OWN_SETTINGS), "")
    if unknown:
        raise UsageError(
            f"“{unknown}” is no setting of a certificate on the roster", advice="inkstamp enrol changes names"
        )
    merged = {key: value for key, value in {**record.settings, **settings}.items() if value is not None}
    enrolled_entry(context.config, name, record.group, record.names, merged)
    changed = msgspec.structs.replace(record, settings=merged)
    context.ledger.roster.enrol([changed], f"“{name}”: {', '.join(settings)} changed")
    context.certificates.forget()
    keep_copy(context.home, context.ledger.roster)
