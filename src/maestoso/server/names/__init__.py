"""Zones whose names plans change: their servers and keys, and what they say."""
