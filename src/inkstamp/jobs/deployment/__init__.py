"""Editions on servers: plan, transaction, rollback, rollout, undo log, drift, and export. Asks no CA."""

FACE = (
    "context.DeploymentContext",
    "drift.look_at",
    "drift.places_of",
    "export.ExportRequest",
    "export.export",
    "hardening.ServerHardening",
    "hardening.harden",
    "hardening.show_hardening",
    "hardening.undo_hardening",
    "plan.Group",
    "plan.prepare",
    "rollback.recover",
    "rollback.tidy",
    "rollout.Deployment",
    "rollout.Pace",
    "rollout.install",
    "rollout.install_together",
    "rollout.take_back",
    "transaction.Result",
    "undo_log.all_back",
    "undo_log.edition_before",
    "undo_log.group_back",
    "undo_log.has_it",
    "undo_log.undoable",
)
"""What other rooms and the command line may import from here."""
