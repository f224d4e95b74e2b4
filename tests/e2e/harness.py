"""The crash harness: lets processes die at named points or by chance, helps the run along, and checks its promises.

What must be true is read from the sites' journals as well as from Maestoso's log (``check_integrity --journals``).
"""

from __future__ import annotations

import os
import random
import signal
import threading
import time
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import httpx

from tests.e2e.application import Api, Application, until
from tests.e2e.lossy_line import LossyLine

PROCESSES = ("engine", "keeper", "mariadb", "site-HIL", "site-QUA", "web")
LONGEST_RUN_S = 400.0
MOST_TRIES = 4
LOOK_S = 0.5


class Harness:
    """Over one application that was started with :meth:`environment`. ``say`` is told what happens."""

    def __init__(self, app: Application, seed: int, say: Callable[[str], None] = lambda line: None) -> None:
        self.app = app
        self.chance = random.Random(seed)
        self.say = say
        self.points = app.folder / "crash-points"
        self.points.write_text("")
        self.killed = self.died = self.runs = 0
        self.lines: dict[str, LossyLine] = {}
        self.forgetful = False
        self._armed = 0
        self._first: tuple[tuple[str, ...], list[str]] = ((), [])

    @staticmethod
    def environment(app: Application) -> dict[str, str]:
        """What the application must be started with, so that crash points are looked for."""
        return {"MAESTOSO_CRASH_POINTS": str(app.folder / "crash-points")}

    def put_lines_between(self, seed: int) -> None:
        """From now on sites are spoken to over lines on which messages can be lost, doubled, late or garbled."""
        codes = ("HIL", "NOR", "QUA")
        for code in codes:
            address = next(site for site in self._api().get("/sites")["sites"] if site["code"] == code)[
                "agent_url"
            ]
            line = self.lines[code] = LossyLine(int(address.rsplit(":", 1)[1]), f"{seed} {code}")
            moved = self.app.command_of_django(
                "shell", "-c",
                "from maestoso.server.estate.models import Site;"
                f"Site.objects.filter(code='{code}').update(agent_url='http://127.0.0.1:{line.port}')",
            )  # fmt: skip
            if moved.returncode:
                raise AssertionError(moved.stderr)

    def trouble(self, share: float, *, forgetful: bool = False) -> None:
        """So many messages come to grief; ``forgetful``: agents lose their memory where harm is done."""
        self.forgetful = forgetful
        for line in self.lines.values():
            line.trouble = share

    def begin(self) -> None:
        """Nothing is wrong at the sites, nobody dies at any point, and harm is done by chance."""
        self.trouble(0.0)
        until(lambda: _quiet(lambda: self._api().send("DELETE", "/practice-lab", None)), "the practice lab")
        self.arm()
        self._first = ((), [])

    def arm(self, *lines: str) -> None:
        """Let processes die at these points, each once, and at no others any more."""
        self.died += self._armed - len(self.left())
        self._armed = len(lines)
        self.points.write_text("".join(f"{line}\n" for line in lines))

    def left(self) -> list[str]:
        """Points that nobody came to."""
        return self.points.read_text().splitlines()

    def run(
        self, plan: str, kind: str, *, decision: str = "roll-back", kill_every_s: float = 0.0, pace: int = 100,
        **options: Any,
    ) -> dict[str, Any]:  # fmt: skip
        """One run to its end. Raises AssertionError when it does not end, naming what it waits for."""
        api = self._api()
        key = {"Idempotency-Key": str(uuid.uuid4())}
        wanted = {"kind": kind, "pace": pace, "sync_first": kind == "planned", **options}
        body = {"plan": plan, "confirm": plan, "options": wanted}
        # The same key again after a crash: it still starts one run.
        number = int(until(lambda: _quiet(lambda: api.send("POST", "/runs", body, **key)), "a start")["id"])
        self.runs += 1
        self.say(f"  run {number}: {kind} of {plan}")
        end, next_kill = time.monotonic() + LONGEST_RUN_S, time.monotonic() + kill_every_s
        while True:
            status = api.status(number)
            if status and status["outcome"]:
                self.say(f"  run {number}: {status['outcome']}")
                return dict(status)
            for need in status["needs"] if status else []:
                self._help(api, number, need, decision)
            if time.monotonic() > end:
                steps = _quiet(lambda: api.get(f"/runs/{number}")["steps"]) or []
                flying = [step["id"] for step in steps if step["status"] == "asked"]
                self.say(f"  under way: {flying}")
                needs = [need["title"] for need in status["needs"]] if status else "an answer"
                raise AssertionError(f"run {number} did not end; it waits for {needs}")
            if kill_every_s and time.monotonic() > next_kill:
                self.harm()
                next_kill = time.monotonic() + kill_every_s * self.chance.uniform(0.5, 1.5)
            threading.Event().wait(LOOK_S)

    def kill_each_process_once(self) -> list[str]:
        """When harm is done from now on, the next process dies that did not yet; returns those that did."""
        killed: list[str] = []
        self._first = (PROCESSES, killed)
        return killed

    def harm(self) -> None:
        """Something dies, or stands still for a while: by chance, unless somebody is to die first."""
        wanted, killed = self._first
        if left := [one for one in wanted if one not in killed]:
            self.app.kill(left[-1])
            killed.append(left[-1])
            self.killed += 1
            return
        if wanted:
            return
        if self.forgetful and self.chance.random() < 0.3:
            site = self.chance.choice(("HIL", "QUA"))
            text = f"drill: Memory\nfaults:\n  - {{site: {site}, preset: forgets}}\n"
            _quiet(lambda: self._api().send("POST", "/practice-lab/fault-script", {"text": text}))
            self.say(f"  the agent of {site} forgets")
            return
        victim = self.chance.choice(PROCESSES)
        with suppress(AssertionError, ProcessLookupError):
            if self.chance.random() < 0.25 and victim != "mariadb":
                self.stall(victim, self.chance.choice((1.0, 4.0, 17.0)))
            else:
                self.app.kill(victim)
                self.say(f"  killed {victim}")
        self.killed += 1

    def stall(self, victim: str, seconds: float) -> None:
        """SIGSTOP for a while: 17 s is beyond the lease of an engine."""
        pid = self.app.pid(victim)
        self.say(f"  {victim} stands still for {seconds:.0f} s")
        os.kill(pid, signal.SIGSTOP)
        try:
            threading.Event().wait(seconds)
        finally:
            os.kill(pid, signal.SIGCONT)

    def check(self) -> None:
        """All promises of all runs. Raises AssertionError with what was broken."""
        self.trouble(0.0)
        done = until(self._checked, "the sites and the database to answer")
        if done.returncode:
            raise AssertionError(done.stdout + done.stderr)

    def _checked(self) -> Any:
        done = self.app.command_of_django("check_integrity", "--journals")
        away = "does not give its journal" in done.stderr or "OperationalError" in done.stderr
        return None if away else done

    def _api(self) -> Api:
        found: Api = until(lambda: _quiet(self.app.api), "the web server")
        return found

    def _help(self, api: Api, run: int, need: dict[str, Any], decision: str) -> None:
        """What a patient person would do."""
        kind, step = need["kind"], need["step"]
        said: dict[str, str] = {"step": step, "text": "by the harness"}
        if kind == "failure":
            shown = _quiet(lambda: api.step(run, step))
            if shown is None:
                return
            tries = shown["attempt"]
            said["kind"] = "retry" if tries < MOST_TRIES else ("skip" if need["skippable"] else "abort")
        else:
            said["kind"] = {
                "hold": "answer", "acknowledge": "answer", "decision": decision, "verdict": "verdict", "held": "resume",
            }[kind]  # fmt: skip
            said["verdict"] = "passed" if kind == "verdict" else ""
        _quiet(lambda: api.send("POST", f"/runs/{run}/controls", said))


def _quiet(call: Callable[[], Any]) -> Any:
    """The answer, or None while something is dead."""
    try:
        return call()
    except (httpx.HTTPError, AssertionError, ValueError):
        return None


@contextmanager
def harnessed(
    seed: int, say: Callable[[str], None] = lambda line: None, *, lossy: bool = False
) -> Iterator[Harness]:
    """A harness over an application of its own; ``lossy``: with lines that can be troubled."""
    app = Application(durable=True)
    harness = Harness(app, seed, say)
    try:
        app.start(**Harness.environment(app))
        if lossy:
            harness.put_lines_between(seed)
        yield harness
    finally:
        for line in harness.lines.values():
            line.close()
        app.close()


REPORTS = Path(__file__).resolve().parents[2] / "var" / "soak"
