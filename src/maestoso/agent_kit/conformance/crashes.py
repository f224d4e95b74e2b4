"""The agent is killed (SIGKILL) in the middle of what it does, and asked again."""

from __future__ import annotations

import os
import shlex
import signal
import subprocess
import tempfile
import threading
from contextlib import suppress
from functools import partial
from pathlib import Path

import httpx

from .client import Asked, Client, NotTested, Wrong, wait_until
from .rules import check, mark

PLACES = ("before-write", "after-write", "before-reply", "before-effect", "after-effect", "after-settle")
"""Places of the kit. An agent that does not have one is killed right after its answer instead."""
UP_S = 300.0
DIES_S = 0.5
"""How long after the end of the operation it may still come to the place."""


class Process:
    """An agent that the test starts, with a file that says where it shall die."""

    def __init__(self, command: str, site: Client) -> None:
        self.command = shlex.split(command)
        self.site = site
        self.folder = tempfile.TemporaryDirectory(prefix="conformance-")
        self.wanted = Path(self.folder.name) / "wanted"
        self.wanted.write_text("")
        self.running: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Start it and wait until it answers. Raises NotTested."""
        env = {**os.environ, "MAESTOSO_CRASH_POINTS": str(self.wanted)}
        self.running = subprocess.Popen(self.command, env=env, start_new_session=True)
        if not wait_until(lambda: self.ended() or self.answers(), UP_S) or self.ended():
            raise NotTested(f"The agent did not come up within {UP_S:.0f} s of its start.")

    def answers(self) -> bool:
        """Whether it answers."""
        try:
            return self.site.http.get("/capabilities").is_success
        except httpx.TransportError:
            return False

    def ended(self) -> bool:
        """Whether its process has ended."""
        return self.running is None or self.running.poll() is not None

    def kill(self) -> None:
        """SIGKILL, to it and all that it started."""
        if self.running is not None and self.running.poll() is None:
            os.killpg(self.running.pid, signal.SIGKILL)
            self.running.wait()

    def close(self) -> None:
        """End it."""
        self.kill()
        self.folder.cleanup()


def killed_at(process: Process, place: str) -> bool:
    """Kill it at a place while it makes an isolated network and while it removes it again, and ask once more.

    Returns whether it has the place. Raises Wrong where something was lost, or happened twice.
    """
    site, name, has = process.site, mark(), True
    made, removed = site.ask("make-sandbox", name, mark=name), site.ask("remove-sandbox", name)
    for asked, remains in ((made, [f"sandbox {name}"]), (removed, [])):
        process.wanted.write_text(f"{place} {asked.key}\n")
        sent = threading.Thread(target=_send, args=(asked,))
        sent.start()
        wait_until(partial(_over, process, asked))
        if not wait_until(process.ended, DIES_S):
            has = False
            process.kill()
        sent.join(60)
        process.wanted.write_text("")
        process.start()
        state = asked.settled()
        check(
            state["status"] == "done", f"Killed at {place} and asked again, it failed: {state.get('reason')}"
        )
        effects = len(site.effects(asked.key))
        check(
            effects == 1, f"Killed at {place}, an operation is {effects} times in the journal; once is right."
        )
        left = site.get("/remains", "Remains", mark=name)["remains"]
        check(len(left) == len(remains), f"Killed at {place}, there remains {left}; it should be {remains}.")
    return has


def remembers(process: Process) -> None:
    """What was answered is known after SIGKILL: keys, fences, held landings."""
    site, name = process.site, mark()
    asked = site.ask("leak-check", name, run=name, fence=7, mark=name)
    before = asked.settled()
    epoch = site.get("/pulse", "SitePulse").get("epoch")
    cursor = site.get("/operations", "Changes", after=-1, wait=0)["cursor"]
    process.kill()
    process.start()
    check(
        site.get(asked.path, "OperationState") == before,
        "After SIGKILL a key is answered otherwise than before.",
    )
    check(asked.refused(fence=6).code == "fence-too-low", "After SIGKILL a lower fence is taken.")
    check(
        site.get("/pulse", "SitePulse").get("epoch") == epoch, "The epoch changed, though nothing was lost."
    )
    after = site.get("/operations", "Changes", after=-1, wait=0)["cursor"]
    check(after >= cursor, f"The cursor of the feed went back from {cursor} to {after}.")


def _over(process: Process, asked: Asked) -> bool:
    """Whether it died, or did what was asked for without coming to the place."""
    try:
        answer = process.site.http.get(asked.path)
    except httpx.TransportError:
        return process.ended()
    return process.ended() or answer.json().get("status") in ("done", "failed")


def _send(asked: Asked) -> None:
    with suppress(httpx.TransportError, Wrong):  # it dies, which is the point
        asked.put()
