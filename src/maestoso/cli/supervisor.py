"""supervisord as we need it: ``python -m maestoso.cli.supervisor -n -c FILE``.

Its processes are copies of itself where they can be (:mod:`maestoso.cli.forking`), those of one priority are
stopped together, and its log files cannot end it. As it comes, it ends when a line of a log cannot be
written, and everything it looks after is left to itself. On a disk without room the line is lost instead, and
the log goes on when there is room again.
"""

from __future__ import annotations

import contextlib
from typing import IO, Any

from supervisor import loggers, process, supervisord

from maestoso.cli.forking import ForkedProcess, ForkingOptions


class InOrder(supervisord.Supervisor):  # type: ignore[misc]  # supervisor has no types
    """Ends those of one priority together, and not one after the other; then those started before them."""

    def runforever(self) -> None:
        """Begin at once; as it comes, it waits a second first."""
        for group in sorted(self.process_groups.values()):
            group.transition()
        super().runforever()

    def ordered_stop_groups_phase_1(self) -> None:
        """Stop all that are next."""
        for group in self.stop_groups:
            if group.config.priority == self.stop_groups[-1].config.priority:
                group.stop_all()

    def ordered_stop_groups_phase_2(self) -> None:
        """Forget those that have ended; it comes here once a second."""
        while self.stop_groups and not self.stop_groups[-1].get_unstopped_processes():
            self.stop_groups.pop()


class PatientFile(loggers.RotatingFileHandler):  # type: ignore[misc]
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
    supervisord.Supervisor = InOrder
    supervisord.ServerOptions = ForkingOptions
    process.Subprocess = ForkedProcess
    supervisord.main()


if __name__ == "__main__":
    main()
