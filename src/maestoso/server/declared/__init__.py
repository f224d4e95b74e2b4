"""Outages that somebody, or a program, says there are: people are told, and nothing is started."""
