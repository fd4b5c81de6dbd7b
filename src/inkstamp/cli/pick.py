"""Ask on a terminal which sites are meant, and whether the plan for them is right."""

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.errors import UsageError
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.inventory.survey import WholeSite
    from inkstamp.jobs.lifecycle.proposal import Plan
    from inkstamp.runtime import Runtime

_NONE = "no site was picked"


def expect_terminal() -> None:
    """Raise UsageError where nobody can be asked."""
    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UsageError(
            "no name is given, and there is no terminal to ask on",
            advice="name the sites: inkstamp stamp NAME…; `inkstamp survey` lists them",
        )


def pick_names(runtime: "Runtime") -> list[tuple[str, ...]]:
    """Have sites of the servers picked by number; returns the names of each, for one certificate each.

    Raises:
        UsageError: There is no site with a name, or none was picked.

    """
    from inkstamp.jobs.inventory.site_choice import choices, names_of, picked
    from inkstamp.jobs.inventory.survey import survey

    sites = choices(survey(runtime))
    if not sites:
        raise UsageError(
            "the servers have no site with a name", advice="give it a name there; `inkstamp survey` shows the sites"
        )
    _number(sites)
    while True:
        text = _answer(f"Which sites get a certificate? 1-{len(sites)}, as 1-3,7, or all: ")
        try:
            numbers = picked(text, len(sites))
        except UsageError as error:
            print(f"{error.what}; {error.advice}", file=sys.stderr)
            continue
        if not numbers:
            raise UsageError(_NONE, advice="nothing was done")
        return names_of(sites, numbers)


def _number(sites: "Sequence[WholeSite]") -> None:
    rows = []
    for number, each in enumerate(sites, 1):
        rows.append(
            (
                str(number),
                each.report.site.server,
                "-" if each.report.days_left is None else str(each.report.days_left),
                each.gist,
                output.first_of(each.report.site.names),
            )
        )
    output.table(("no.", "server", "days left", "worst", "site"), rows)


def _answer(question: str) -> str:
    print(question, end="", file=sys.stderr, flush=True)
    line = sys.stdin.readline()
    if not line:
        raise UsageError(_NONE, advice="nothing was done")
    return line


def agree_on(plans: "Sequence[Plan]") -> None:
    """Show what is planned for several certificates, and have a person agree; UsageError when nobody does."""
    rows = [
        (
            each.name,
            each.entry.authority,
            each.proof,
            ", ".join(each.entry.install) or "shelf only",
            ", ".join(each.entry.names),
        )
        for each in plans
    ]
    output.table(("certificate", "authority", "challenge", "install", "names"), rows)
    output.ask(f"{counted(len(plans), 'certificate')} will be ordered and installed.", "yes", yes=False)
