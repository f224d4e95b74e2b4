"""Tests: how to run them and how to add to each kind is in CONTRIBUTING.md."""

from hypothesis import settings

# Time limits have their place in bench/: here they would fail on a machine that is slow just then.
settings.register_profile("maestoso", deadline=None)
settings.load_profile("maestoso")
