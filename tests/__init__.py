"""Tests: how to run them and how to add to each kind is in CONTRIBUTING.md."""

import sys
from pathlib import Path

from hypothesis import settings

# The client is no part of the application, and not installed with it.
sys.path.insert(0, str(Path(__file__).resolve().parents[1] / "clients" / "python"))

# Time limits have their place in bench/: here they would fail on a machine that is slow just then.
settings.register_profile("maestoso", deadline=None)
settings.load_profile("maestoso")
