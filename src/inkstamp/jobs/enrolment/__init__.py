"""Certificates that are kept in the ledger: enrolled, taken over from servers, given up. Never how one is got."""

FACE = (
    "adoption.Adopted",
    "adoption.AdoptionRequest",
    "adoption.CertificateInUse",
    "adoption.adopt",
    "adoption.of_files",
    "adoption.of_sites",
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
    "removal.KeysAfterwards",
    "removal.RemovalPlan",
    "removal.RemovalRequest",
    "removal.Removed",
    "removal.ServersAfterwards",
    "removal.plan_removal",
    "removal.remove",
)
"""What other rooms and the command line may import from here."""
