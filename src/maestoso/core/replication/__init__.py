"""Replication arithmetic: which points a policy makes and keeps, and how much changed between them."""
