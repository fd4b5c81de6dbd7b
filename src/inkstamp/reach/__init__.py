"""Files and commands on a host."""
