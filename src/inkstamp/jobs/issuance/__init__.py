"""From key and CSR to a verified edition on the shelf. Knows no servers and no challenges."""

FACE = (
    "acceptance.Chain",
    "acceptance.judge",
    "acceptance.record_of",
    "acceptance.shelve",
    "context.IssuanceContext",
    "csr_elsewhere.csr_for_order",
    "csr_elsewhere.expect_names",
    "csr_elsewhere.is_compromised",
    "csr_elsewhere.read_brought",
    "csr_files.Made",
    "csr_files.MakeRequest",
    "csr_files.judge_field",
    "csr_files.judge_names",
    "csr_files.judge_request",
    "csr_files.make_request",
    "csr_files.show_request",
    "download.collect",
    "kept_key.keep_key",
    "ledger_rebuild.rebuild",
    "renewal_plan.renewal_moment",
)
"""What other rooms and the command line may import from here."""
