"""Live names as visitors see them: chain, TLS, DNS, HTTP, revocation. Changes nothing."""

FACE = (
    "check.CheckOptions",
    "check.NameReport",
    "check.Target",
    "check.Verdict",
    "check.check",
    "check.look",
    "check.of_sites",
    "check.together",
    "comparison.Changed",
    "comparison.remember",
    "context.ChecksContext",
)
"""What other rooms and the command line may import from here."""
