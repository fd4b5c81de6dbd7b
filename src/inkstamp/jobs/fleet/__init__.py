"""A ledger that several machines share: made, moved into, looked after, and who they are. Knows no CA and no server."""

FACE = (
    "context.FleetContext",
    "machine_report.MachineReport",
    "machine_report.forget_machine",
    "machine_report.machine_reports",
    "machine_report.troubles",
    "move.move_back",
    "move.move_into_database",
    "presence.appear",
    "presence.assign",
    "presence.settle_presence",
    "rollout_progress.RolloutProgress",
    "rollout_progress.advance_rollouts",
    "rollout_progress.end_rollout",
    "rollout_progress.expect_rollouts",
    "rollout_progress.rollouts_under_way",
    "rollout_progress.take_edition_back",
    "upkeep.expect_shared",
    "upkeep.ledger_facts",
    "upkeep.make_ledger",
    "upkeep.migrate_ledger",
    "upkeep.reseal_ledger",
    "upkeep.verify_ledger",
)
"""What other rooms and the command line may import from here."""
