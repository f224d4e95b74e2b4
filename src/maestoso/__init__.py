"""Maestoso: recovery plans that say what will happen, and runs that prove it did."""

__version__ = "0.8.0"
