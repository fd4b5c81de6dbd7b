"""Certificates that are kept in the ledger: enrolled, taken over from servers, given up. Never how one is got."""

FACE = (
    "enrol.Enrolment",
    "enrol.EnrolmentRequest",
    "enrol.EnrolmentState",
    "enrol.Packing",
    "enrol.enrol",
    "enrol.of_sites",
    "lists.Line",
    "lists.MOST_BYTES",
    "lists.WantedCertificate",
    "lists.read_list",
)
"""What other rooms and the command line may import from here."""
