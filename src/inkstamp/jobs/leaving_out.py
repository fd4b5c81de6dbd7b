"""Go without names that a CA refuses, where the configuration allows it and there would be no good certificate else."""

from typing import TYPE_CHECKING

import msgspec

from inkstamp.config.model import Certificate
from inkstamp.errors import CaProblem
from inkstamp.findings import Finding, warn
from inkstamp.jobs.prove import first_and_count
from inkstamp.jobs.reasons import decision_on
from inkstamp.ledger.records import EditionRecord

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


def less_of(workplace: "Workplace", name: str, entry: Certificate, problem: CaProblem) -> Certificate:
    """Return the entry without the names that `problem` is about; raises `problem` itself where it must not go without.

    With a good edition it waits: what is refused now may be taken tomorrow, and the others lose nothing meanwhile.
    """
    refused = {each.lower() for each in problem.names}
    rest = tuple(each for each in entry.names if each.removeprefix("*.") not in refused and each not in refused)
    if not entry.leave_out_failing or not rest or len(rest) == len(entry.names) or not _is_urgent(workplace, name):
        raise problem
    left_out = [each for each in entry.names if each not in rest]
    workplace.progress.step(name, f"LEAVES OUT {first_and_count(left_out)}, which the CA refuses: {problem.said}")
    workplace.ledger.note("left out", f"{', '.join(left_out)}: {problem.said}", name)
    return msgspec.structs.replace(entry, names=rest)


def _is_urgent(workplace: "Workplace", name: str) -> bool:
    """Tell whether there is no edition that could go on being served."""
    edition = workplace.ledger.newest_edition(name)
    if edition is None:
        return True
    tidings = workplace.ledger.tidings.of(edition)
    return bool(tidings.revoked) or decision_on(workplace, edition, tidings, workplace.clock.now()).due


def what_is_left_out(entry: Certificate, edition: EditionRecord) -> list[Finding]:
    """Find the configured names that a new edition goes without."""
    missing = [each for each in entry.names if each not in edition.names]
    if not missing:
        return []
    told = ", ".join(missing)
    return [
        warn(
            "names",
            edition.certificate,
            f"edition {edition.number} goes without {told}, which the CA refused; visitors of these are warned",
            f"mend what the CA says of them (inkstamp history {edition.certificate}); every run tries them again",
        )
    ]
