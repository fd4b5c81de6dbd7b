"""RFC 8555 and what belongs to it: messages, signatures, states, and one session with one CA."""
