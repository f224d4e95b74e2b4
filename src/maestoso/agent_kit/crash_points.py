"""Named places where the crash harness lets a process die by SIGKILL.

Without ``MAESTOSO_CRASH_POINTS`` they do nothing. With it, it names a file of lines such as
``after-commit step.asked promote``: the process that comes to the place ``after-commit`` with both words
among its details takes the line out and dies. So each line kills once, however many processes look at once.
"""

from __future__ import annotations

import fcntl
import os
import signal
from collections.abc import Iterable
from pathlib import Path

_WANTED = os.environ.get("MAESTOSO_CRASH_POINTS", "")


def crash_point(place: str, details: Iterable[str] = ()) -> None:
    """Die here, if the harness wants it."""
    if not _WANTED:
        return
    file = Path(_WANTED)
    if not file.exists():
        return
    # Kept until it dies: of two that come to one line together the other one reads what is left.
    with file.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        lines = file.read_text(encoding="utf-8").splitlines()
        known = " ".join(details)
        for index, line in enumerate(lines):
            name, *words = line.split()
            if name == place and all(word in known for word in words):
                rest = "".join(f"{other}\n" for other in lines[:index] + lines[index + 1 :])
                fresh = file.with_suffix(f".{os.getpid()}")
                fresh.write_text(rest, encoding="utf-8")
                fresh.replace(file)
                os.kill(os.getpid(), signal.SIGKILL)
