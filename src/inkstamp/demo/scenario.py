"""Who is who in the demo, and what is typed: Saltmarsh Hosting and the sites it keeps."""

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
    """What the narrator does to the world first: `fix-dns`, `age-bakery`, `paste-at-fogbell`, `fogbell-issues`."""

    def typed(self, **known: object) -> str:
        """Return the command with what is known of the world filled in."""
        command = self.command
        for name, value in known.items():
            command = command.replace(f"{{{name}}}", str(value))
        return command


ACTS = (
    Act("First a look around: which sites are here, and which have a certificate?", "inkstamp survey"),
    Act(
        "An account with a CA. Quayside is simulated, as all here is.",
        "inkstamp authority add quayside --directory {directory} --email certs@saltmarsh.test --agree-terms "
        "--trust {trust}",
    ),
    Act(
        "Would a CA be content? A file of random content is put up for each name and fetched as a CA would.",
        "inkstamp precheck rowing.saltmarsh.test bakery.saltmarsh.test museum.saltmarsh.test",
        status=1,
    ),
    Act(
        "The whole round for the rowing club: order, proof, certificate, web server.",
        "inkstamp stamp rowing.saltmarsh.test www.rowing.saltmarsh.test",
    ),
    Act("What does the public see now?", "inkstamp check rowing"),
    Act(
        "The museum has moved here, but its DNS record still leads to the old host. Ink Stamp does not ask the CA "
        "before that is fixed: CAs count failures.",
        "inkstamp stamp museum.saltmarsh.test",
        status=1,
    ),
    Act("What holds it up, since when, and who must act, for whoever comes on duty next:", "inkstamp why museum"),
    Act(
        "The record is corrected. The same command resumes the same order.",
        "inkstamp stamp museum",
        prepare="fix-dns",
    ),
    Act(
        "The bakery's self-signed certificate is replaced. (The CA makes the new one look 63 days old, for the sake of "
        "what follows.)",
        "inkstamp stamp bakery.saltmarsh.test",
        prepare="age-bakery",
    ),
    Act(
        "The museum's shop has its certificate from Fogbell, a CA with a web portal. Its rule for files is stated "
        "once.",
        "inkstamp authority add fogbell --portal {portal} --path /.well-known/pki-validation/fogbell.txt "
        "--line fogbell-proof={sha256}",
    ),
    Act(
        "Key and request are made here; a person pastes the request at the portal.",
        "inkstamp order shop.saltmarsh.test --authority fogbell",
        status=3,
    ),
    Act(
        "(It is pasted.) What the portal wants to see follows from its rule.",
        "inkstamp prove shop",
        prepare="paste-at-fogbell",
    ),
    Act("Who must act now?", "inkstamp why shop"),
    Act(
        "(Fogbell has looked and issued; its ZIP is downloaded.) Whatever the files in it are called:",
        "inkstamp collect {download}",
        prepare="fogbell-issues",
    ),
    Act("And onto the web server.", "inkstamp stamp shop"),
    Act("Where does everything stand?", "inkstamp status"),
    Act("A timer would run this every day: it renews what is due, and nothing else.", "inkstamp renew"),
    Act("", "inkstamp status"),
    Act("And what comes in the next weeks?", "inkstamp calendar --weeks 10"),
    Act(
        "Somebody may have seen the rowing club's key. A new edition is served first, then the old one is revoked.",
        "inkstamp revoke rowing --reason key-compromise --and-replace --yes",
    ),
    Act("And what happened to the bakery's certificate?", "inkstamp history bakery"),
)
