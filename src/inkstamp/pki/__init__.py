"""Names, keys, requests, certificates and chains: pure functions of their arguments."""
