"""supervisord whose log files cannot end it: ``python -m maestoso.cli.supervisor -n -c FILE``.

As it comes, it ends when a line of a log cannot be written, and everything it looks after is left to itself.
On a disk without room the line is lost instead, and the log goes on when there is room again.
"""

from __future__ import annotations

import contextlib
from typing import IO, Any

from supervisor import loggers, supervisord


class PatientFile(loggers.RotatingFileHandler):  # type: ignore[misc]  # supervisor has no types
    """A log file that goes on after what could not be written."""

    stream: IO[bytes]

    def handleError(self) -> None:
        """Lose the line: there is nobody to tell, and no room to write it down."""

    def emit(self, record: Any) -> None:
        """Write, in a stream that an earlier trouble may have closed."""
        with contextlib.suppress(OSError):
            if self.stream.closed:
                self.stream = open(self.baseFilename, "ab")  # noqa: SIM115  (kept open, as its base class does)
                self.closed = False
            super().emit(record)

    def doRollover(self) -> None:
        """Begin a new file when this one is full; the full one stays where that is not possible."""
        with contextlib.suppress(OSError, ValueError):
            super().doRollover()


def main() -> None:
    """Become supervisord."""
    loggers.RotatingFileHandler = PatientFile
    loggers.Handler.handleError = lambda self: None
    supervisord.main()


if __name__ == "__main__":
    main()
