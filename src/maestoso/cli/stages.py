"""Set-up in stages: a line for each, long output in a log file that an error names."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from maestoso.server.config.options import ROOT


class StageFailed(Exception):
    """A stage did not come to its end; the text says why and where to look."""


@contextmanager
def stage(title: str) -> Iterator[None]:
    """Say what is being done."""
    print(f"  {title} ...", flush=True)
    yield


def run(command: Sequence[str], log: Path, *, cwd: Path = ROOT, env: dict[str, str] | None = None) -> None:
    """Run a command with its output in ``log``. Raises StageFailed with the last lines."""
    log.parent.mkdir(parents=True, exist_ok=True)
    with log.open("ab") as file:
        begin = file.tell()
        done = subprocess.run(command, stdout=file, stderr=file, cwd=cwd, env=env, check=False)
    if done.returncode:
        with log.open("rb") as file:
            file.seek(begin)
            said = file.read().decode(errors="replace").strip().splitlines()[-8:]
        lines = "\n".join(f"    {line}" for line in said)
        raise StageFailed(f"{Path(command[0]).name} failed:\n{lines}\n  All of it is in {log}.")
