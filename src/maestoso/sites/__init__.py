"""Clients of the site protocol."""
