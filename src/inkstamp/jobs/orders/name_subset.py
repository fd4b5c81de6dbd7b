"""Go without names that fail, where the configuration allows it and there would be no good certificate else."""

import re
from collections.abc import Iterable

import msgspec

from inkstamp.config.model import Certificate
from inkstamp.errors import CaProblem, ProofFailed
from inkstamp.findings import Finding, warn
from inkstamp.jobs.orders.context import OrdersContext
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.renewal_time import last_part
from inkstamp.severity import Severity
from inkstamp.wording import first_and_count

_ABOUT_NAMES = frozenset({"caa", "dns", "rejectedIdentifier", "unsupportedIdentifier"})
"""Problems that are about names."""


def less_of(context: OrdersContext, name: str, entry: Certificate, problem: CaProblem | ProofFailed) -> Certificate:
    """Return the entry without the names that `problem` is about; raises `problem` itself where it must not go without.

    With a good edition it waits: what fails now may pass tomorrow, and the others lose nothing meanwhile.
    """
    refused = {each.lower() for each in _about(problem, entry.names)}
    rest = tuple(each for each in entry.names if each.removeprefix("*.") not in refused and each not in refused)
    if not entry.leave_out_failing or not rest or len(rest) == len(entry.names) or not _is_urgent(context, name):
        raise problem
    left_out = [each for each in entry.names if each not in rest]
    why = problem.said or problem.what
    context.progress.step(name, f"LEAVES OUT {first_and_count(left_out)}: {why}")
    context.ledger.note("left out", f"{', '.join(left_out)}: {why}", name)
    return msgspec.structs.replace(entry, names=rest)


def _about(problem: CaProblem | ProofFailed, names: Iterable[str]) -> Iterable[str]:
    """Return the names that the CA, or our own look beforehand, found something wrong with.

    A CA that names them in no subproblem (RFC 8555 section 6.7.1) often does in the sentence that it writes.
    """
    if isinstance(problem, CaProblem):
        said = problem.said.lower() if problem.kind in _ABOUT_NAMES and not problem.names else ""
        return problem.names or [each for each in names if _stands_in(each, said)]
    return (each.subject.partition(" ")[0] for each in problem.findings if each.severity is Severity.BAD)


def _stands_in(name: str, said: str) -> bool:
    """Tell whether a name stands in a sentence, and not as a part of another one."""
    return re.search(rf"(?<![\w*.-]){re.escape(name)}(?![\w-]|\.\w)", said) is not None


def _is_urgent(context: OrdersContext, name: str) -> bool:
    """Tell whether there is no edition that could go on being served for a while."""
    edition = context.ledger.newest_edition(name)
    if edition is None or context.ledger.observations.of(edition).revoked:
        return True
    return context.clock.now() >= last_part(edition.not_before, edition.not_after)


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
            f"edition {edition.number} lacks {told}, which failed validation; their visitors get warnings",
            f"fix what was said of them (inkstamp history {edition.certificate}); every run tries them again",
        )
    ]
