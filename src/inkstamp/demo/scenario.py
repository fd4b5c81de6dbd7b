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
    DemoSite("bakery", ("bakery.saltmarsh.test",), "The Mill Lane Bakery", old_certificate=True),
    DemoSite("museum", ("museum.saltmarsh.test",), "Museum of Tides"),
)


@dataclass(frozen=True, slots=True)
class Act:
    """One command of the demo."""

    before: str
    """What to tell before it, as the narrator."""
    command: str
    """As typed; `{directory}` and `{trust}` are filled in."""
    status: int = 0
    """The exit status it should have."""
    prepare: str = ""
    """What the narrator does to the world first: `mend-dns`, `age-bakery`."""


ACTS = (
    Act("First a look around: which sites are here, and which have a certificate?", "inkstamp survey"),
    Act(
        "An account with a CA. Quayside is simulated, as all here is.",
        "inkstamp authority add quayside --directory {directory} --email certs@saltmarsh.test --agree-terms "
        "--trust {trust}",
    ),
    Act(
        "The whole round for the rowing club: order, proof, certificate, web server.",
        "inkstamp stamp rowing.saltmarsh.test www.rowing.saltmarsh.test",
    ),
    Act("What does the public see now?", "inkstamp check rowing"),
    Act(
        "The museum has moved here, but its DNS record still leads to the old host. Ink Stamp notices before the CA "
        "does: CAs count failures.",
        "inkstamp stamp museum.saltmarsh.test",
        status=1,
    ),
    Act(
        "The record is corrected. The same command goes on with the same order.",
        "inkstamp stamp museum",
        prepare="mend-dns",
    ),
    Act(
        "The bakery's self-made certificate is replaced. (The CA makes the new one look 61 days old, for the sake of "
        "what follows.)",
        "inkstamp stamp bakery.saltmarsh.test",
        prepare="age-bakery",
    ),
    Act("Where does everything stand?", "inkstamp status"),
    Act("A timer would run this every day: it renews what is due, and nothing else.", "inkstamp renew"),
    Act("", "inkstamp status"),
    Act("And what happened to the bakery's certificate?", "inkstamp history bakery"),
)
