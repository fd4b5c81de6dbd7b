"""The state of certificates, from records alone: no network, and nothing is written but notes."""
