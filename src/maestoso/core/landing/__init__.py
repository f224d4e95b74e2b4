"""Crosswalk and workload in; where and how it comes down out."""
