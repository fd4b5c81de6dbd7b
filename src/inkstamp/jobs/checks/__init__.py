"""Live names as visitors see them: chain, TLS, DNS, HTTP, revocation. Changes nothing."""

FACE = (
    "check.CheckOptions",
    "check.NameReport",
    "check.Verdict",
    "check.check",
    "check.look",
    "check.of_sites",
    "check.together",
    "comparison.Changed",
    "comparison.remember",
    "context.ChecksContext",
    "targets.Target",
)
"""What other rooms and the command line may import from here."""
