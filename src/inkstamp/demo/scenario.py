"""Who is who in the demo, and what is typed: Saltmarsh Hosting and the sites it keeps."""

import shlex
from dataclasses import dataclass

OLD_HOST = "127.0.0.9"
"""Where the museum's site used to be; its DNS record still says so when the demo begins."""
HERE = "127.0.0.1"


@dataclass(frozen=True, slots=True)
class DemoSite:
    """A site on the demo's web server."""

    label: str
    names: tuple[str, ...]
    title: str
    old_certificate: bool = False
    """Whether it comes with a self-signed certificate that has nearly expired."""


SITES = (
    DemoSite("rowing", ("rowing.saltmarsh.test", "www.rowing.saltmarsh.test"), "Saltmarsh Rowing Club"),
    DemoSite("bakery", ("bakery.saltmarsh.test",), "The Dyke Lane Bakehouse", old_certificate=True),
    DemoSite("museum", ("museum.saltmarsh.test",), "Museum of Tides"),
    DemoSite("shop", ("shop.saltmarsh.test",), "The Museum's Shop"),
)


NEW_SITES = (
    DemoSite("ferry", ("ferry.saltmarsh.test", "www.ferry.saltmarsh.test"), "The Saltmarsh Ferry"),
    DemoSite("lido", ("lido.saltmarsh.test",), "Dyke Lane Lido"),
    DemoSite("choir", ("choir.saltmarsh.test",), "The Harbour Choir"),
)
"""Sites that move in while the demo is under way."""


@dataclass(frozen=True, slots=True)
class Act:
    """One command of the demo."""

    before: str
    """What to tell before it, as the narrator."""
    command: str
    """As typed; `{directory}`, `{trust}`, `{portal}` and `{download}` are filled in."""
    status: int = 0
    """The exit status it should have."""
    prepare: str = ""
    """What the narrator does to the world first: `fix-dns`, `age-bakery`, `paste-at-fogbell`, `fogbell-issues`,
    `new-sites`."""

    def typed(self, **known: object) -> str:
        """Return the command with what is known of the world filled in."""
        command = self.command
        for name, value in known.items():
            command = command.replace(f"{{{name}}}", shlex.quote(str(value)))
        return command


ACTS = (
    Act("Which sites are on this machine, and which have a certificate?", "inkstamp survey"),
    Act(
        "An account with a CA. Quayside is simulated, as all here is.",
        "inkstamp authority add quayside --directory {directory} --email certs@saltmarsh.test --agree-terms "
        "--trust {trust}",
    ),
    Act(
        "Would a CA accept? A test file is placed for each name and fetched as a CA would.",
        "inkstamp precheck rowing.saltmarsh.test bakery.saltmarsh.test museum.saltmarsh.test",
        status=1,
    ),
    Act(
        "The rowing club: order, validation, certificate, web server, in one command.",
        "inkstamp stamp rowing.saltmarsh.test www.rowing.saltmarsh.test",
    ),
    Act("What does the public see now?", "inkstamp check rowing.saltmarsh.test"),
    Act(
        "The museum has moved here, but its DNS record still leads to the old host. The CA is not asked to "
        "validate before that is fixed: CAs limit failures.",
        "inkstamp stamp museum.saltmarsh.test",
        status=1,
    ),
    Act("What is it waiting for, since when, and who must act?", "inkstamp why museum.saltmarsh.test"),
    Act(
        "The record is corrected. The same command resumes the same order.",
        "inkstamp stamp museum.saltmarsh.test",
        prepare="fix-dns",
    ),
    Act(
        "The bakery's self-signed certificate is replaced. (The CA makes the new one look 63 days old, so that it "
        "can be renewed below.)",
        "inkstamp stamp bakery.saltmarsh.test",
        prepare="age-bakery",
    ),
    Act(
        "The museum's shop has its certificate from Fogbell, a CA with a web portal. Its rule for "
        "validation files is configured once.",
        "inkstamp authority add fogbell --portal {portal} --path /.well-known/pki-validation/fogbell.txt "
        "--line fogbell-proof={sha256}",
    ),
    Act(
        "Key and CSR are made here; a person pastes the CSR at the portal.",
        "inkstamp order shop.saltmarsh.test --authority fogbell",
        status=3,
    ),
    Act(
        "(It is pasted.) The validation file follows from the rule.",
        "inkstamp prove shop.saltmarsh.test",
        prepare="paste-at-fogbell",
    ),
    Act("Who must act now?", "inkstamp why shop.saltmarsh.test"),
    Act(
        "(Fogbell has validated and issued; its ZIP is downloaded.)",
        "inkstamp collect {download}",
        prepare="fogbell-issues",
    ),
    Act("Install it on the web server.", "inkstamp stamp shop.saltmarsh.test"),
    Act("What is the state of everything?", "inkstamp status"),
    Act("A timer would run this every day: it renews what is due, and nothing else.", "inkstamp renew"),
    Act("", "inkstamp status"),
    Act("What is planned for the next weeks?", "inkstamp calendar --weeks 10"),
    Act(
        "Somebody may have seen the rowing club's key. A new edition is served first, then the old one is revoked.",
        "inkstamp revoke rowing.saltmarsh.test --reason key-compromise --and-replace --yes",
    ),
    Act(
        "Three sites move in. What they have in common is written once, as [group.web]; their names go into the "
        "ledger, with as many others as there may be.",
        "inkstamp enrol --group web --sites",
        prepare="new-sites",
    ),
    Act("All that the group has no certificate for yet, at once.", "inkstamp stamp --group web --quiet"),
    Act("And what happened to the bakery's certificate?", "inkstamp history bakery.saltmarsh.test"),
)
