"""ACME orders from newOrder to finalize (RFC 8555 section 7.4), retried and cancelled. Installs nothing."""
