"""Django's tests on a copy of the prepared world: ``python -m tests.server [LABEL ...]``, all of them without a label."""

from __future__ import annotations

import os
import sys
from dataclasses import replace

from maestoso.cli import database
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.testing import LOG
from maestoso.server.config.options import ROOT
from tests import prepared


def main() -> int:
    """Copy the world, start its database, and run the tests that are named; what Django understands, it is given."""
    given = ["-v2" if word == "-v" else word for word in sys.argv[1:]]
    if all(word.startswith("-") for word in given):
        given.append("tests/server")
    os.chdir(ROOT)
    with prepared.scratch() as options:
        prepared.copy_to(options)
        # What a practice site is asked for outside of runs takes its time: here a tenth of it.
        options = replace(options, pace=10 * options.pace)
        processes = Processes(options, make_secrets(options), practice=False)
        database.initialise(options, processes.secrets, LOG)
        processes.start_supervisor(everything=False)
        try:
            processes.wait_for_records()
            os.environ.update(processes.environment())
            from django.core.management import execute_from_command_line

            runner = ["--testrunner", "tests.timing.TimedRunner", "--no-input", "--keepdb"]
            execute_from_command_line(["django", "test", *runner, "-t", ".", *given])
        except SystemExit as ended:
            return int(ended.code or 0)
        finally:
            processes.stop()
    return 0


if __name__ == "__main__":
    sys.exit(main())
