"""Kinds of server, one package or module each, behind one protocol."""
