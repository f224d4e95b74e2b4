"""How long tests take: ``python -m tests.timing discover -s tests/core -t .`` is unittest that writes it down.

Every test adds a line to the file that ``MAESTOSO_TEST_TIMES`` names: its part, module, class and name, seconds of its
own, and seconds that passed before it since the test before (the first of a class pays for what its class sets up).
"""

from __future__ import annotations

import json
import os
import time
import unittest
from pathlib import Path
from typing import Any

from django.conf import settings
from django.test.runner import DiscoverRunner

FILE = "MAESTOSO_TEST_TIMES"


class TimedResult(unittest.TextTestResult):
    """A result that notes when each test began and ended."""

    def __init__(self, *args: Any, **more: Any) -> None:
        super().__init__(*args, **more)
        self._ended = self._began = time.perf_counter()

    def startTest(self, test: unittest.TestCase) -> None:
        """A test begins."""
        self._began = time.perf_counter()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:
        """A test has ended."""
        super().stopTest(test)
        before, self._ended = self._ended, time.perf_counter()
        name = os.environ.get(FILE)
        if name:
            line = {
                "class": f"{type(test).__module__}.{type(test).__name__}",
                "test": test._testMethodName,
                "took_s": round(self._ended - self._began, 3),
                "set_up_s": round(self._began - before, 3),
            }
            with Path(name).open("a", encoding="utf-8") as file:
                file.write(json.dumps(line) + "\n")


class TimedTextRunner(unittest.TextTestRunner):
    """Unittest's runner with that result; a class, so that it is given what the command line says (``-v``)."""

    resultclass = TimedResult


class TimedRunner(DiscoverRunner):
    """Django's runner with that result."""

    def setup_test_environment(self, **more: Any) -> None:
        """Jobs are done where they are waited for: what a test began is seen by nobody else."""
        super().setup_test_environment(**more)
        settings.JOBS_AT_ONCE = True

    def get_resultclass(self) -> type[unittest.TextTestResult]:
        """What tests are counted in."""
        return TimedResult


if __name__ == "__main__":
    unittest.main(module=None, testRunner=TimedTextRunner)
