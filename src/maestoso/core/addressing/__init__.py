"""Arithmetic on addresses: prefix translation, rule look-up, MACs."""
