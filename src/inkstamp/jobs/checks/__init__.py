"""Live names as visitors see them: chain, TLS, DNS, HTTP, revocation. Changes nothing."""
