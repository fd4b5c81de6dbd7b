"""Editions on servers: plan, transaction, rollback, rollout, undo log, drift, and export. Asks no CA."""
