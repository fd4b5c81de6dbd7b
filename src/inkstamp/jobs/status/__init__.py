"""The state of certificates, from records alone: no network, and nothing is written but notes."""

FACE = (
    "calendar.Calendar",
    "calendar.calendar",
    "diagnosis.Why",
    "diagnosis.attach_note",
    "diagnosis.why",
    "due.Due",
    "due.DueList",
    "due.find_among",
    "due.find_due",
    "due.known_of_all",
    "due.mistaken",
    "due.names_meant",
    "editions.choose_edition",
    "editions.expect_pair",
    "editions.refuse_revoked",
    "editions.served_beside",
    "history.history",
    "overview.CertificateState",
    "overview.CertificateStatus",
    "overview.all_statuses",
    "renewal_reasons.reasons",
    "renewal_reasons.renewal_of",
    "stall.Stall",
    "stall.stall_of",
)
"""What other rooms and the command line may import from here."""
