"""What every platform does alike with a script: check it, and run it on the host of the agent."""

from __future__ import annotations

import hashlib
import os
import subprocess
import tempfile
from pathlib import Path
from typing import Any

from .platform import Failure, Operation

LONGEST_OUTPUT = 20_000


def checked(op: Operation) -> None:
    """Raises Failure where a script is not the one that was meant, or was begun before the agent was
    killed."""
    if hashlib.sha256(op.args["text"].encode()).hexdigest() != op.args["sha256"]:
        raise Failure("script-altered")
    if op.again:
        raise Failure("interrupted", "The agent was restarted while it ran; nobody knows how far it came.")


def environment(op: Operation, path: str = os.defpath) -> dict[str, str]:
    """Parameters and secrets, and where programs are."""
    return {"PATH": path, **op.args["parameters"], **op.secrets}


def ended(op: Operation, exit_code: int, output: str) -> dict[str, Any]:
    """The result, and that it had an effect."""
    op.effect(ran=op.args["script"], exit_code=exit_code)
    return {"exit_code": exit_code, "output": output[-LONGEST_OUTPUT:]}


def run_here(op: Operation, folder: Path) -> tuple[int, str]:
    """Run it in a folder of this host; its exit code and what it said. Raises Failure, at its time limit,
    too."""
    args = op.args
    with tempfile.NamedTemporaryFile("w", suffix=".script", encoding="utf-8") as file:
        file.write(args["text"])
        file.flush()
        try:
            done = subprocess.run(
                [args["interpreter"], file.name], cwd=folder, timeout=args["timeout_s"], text=True,
                check=False,
                env=environment(op), stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
                stdin=subprocess.DEVNULL,
            )  # fmt: skip
        except subprocess.TimeoutExpired as error:
            raise Failure("script-timeout") from error
        except OSError as error:
            raise Failure("no-interpreter", f"{args['interpreter']} cannot be run: {error}.") from error
    return done.returncode, done.stdout
