"""A supervisor for tests that starts one process: ``python -m tests.cli.forker loaded|bare PROGRAM ARGUMENT…``.

The environment of that process comes in JSON by the standard input. It is a process of its own because a copy
also ends as its original would: with what other tests have left to be done at the end of theirs.
"""

from __future__ import annotations

import json
import os
import sys

from maestoso.cli.forking import ForkingOptions

if __name__ == "__main__":
    options = ForkingOptions()
    options._loaded = sys.argv[1] == "loaded"
    program = sys.argv[2:]
    environment = json.load(sys.stdin)
    pid = options.fork()
    if pid == 0:
        try:
            options.execve(program[0], program, environment)
        finally:
            os._exit(99)
    os._exit(os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1]))
