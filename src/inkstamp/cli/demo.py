"""The whole job in a simulated world on this machine: CA, nameserver, web server, all on loopback."""
