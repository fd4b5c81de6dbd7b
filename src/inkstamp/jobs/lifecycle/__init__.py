"""What spans several stages of one certificate: enrolment, provisioning, install, undo, revocation."""
