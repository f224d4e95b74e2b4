"""Faults that are known and not mended yet: a test that finds one is kept, and marked with its number.

The numbers are those of the issue *The engine that nothing stops*. Whoever mends a fault takes the mark away; until
then such a test is an expected failure, and one that passes by surprise fails the run.
"""

from __future__ import annotations

import unittest
from collections.abc import Callable
from typing import TypeVar

Test = TypeVar("Test", bound=Callable[..., object])

FAULTS = {
    5: "A fence that is delivered while its run is rolled back stays, and nobody lifts it.",
}


def fault(number: int) -> Callable[[Test], Test]:
    """Marks a test that finds a known fault."""
    if number not in FAULTS:
        raise ValueError(f"There is no known fault {number}.")
    return unittest.expectedFailure
