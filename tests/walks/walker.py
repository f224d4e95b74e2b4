"""One walk: what people and sites do, drawn from a seed."""

from __future__ import annotations

import copy
import math
import random
from collections.abc import Callable
from dataclasses import replace
from unittest import mock

from django.core.cache import cache

from maestoso.core.errors import DomainError
from maestoso.core.planning.inputs import Kind
from maestoso.core.runs.needs import Need, needs
from maestoso.engine.clock import SystemClock
from maestoso.practice.spec import Switch, Trouble
from maestoso.practice.world import World
from maestoso.server.estate import agents
from maestoso.server.outbox import services as outbox
from maestoso.server.plans.models import PlanRow
from maestoso.server.plans.services import find_plan, retire_plan, save_plan
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import change_group, find_group, pause
from maestoso.server.readiness.shapes import RunOptions, StartRun
from maestoso.server.readiness.starts import start_run
from maestoso.server.runs import fences
from maestoso.server.runs.models import Run
from maestoso.server.runs.services import control_run
from maestoso.server.runs.shapes import Control
from maestoso.server.runs.states import current
from tests.walks import country
from tests.walks.engine import Engine
from tests.walks.sites import Clock

WHO = "ann"
PACE = 1


class Walk:
    """A random sequence of deeds; ``log`` says in words what was done, for who must understand a failure.

    ``name`` seeds it. :meth:`fork` gives another that goes on from here by itself.
    """

    def __init__(self, name: str, worlds: dict[str, World], clock: Clock) -> None:
        self.name = name
        self.random = random.Random(name)
        self.clock = clock
        self.sites = country.near(worlds, clock)
        self.engine = Engine(self.sites, clock)
        self.log: list[str] = []

    def fork(self, name: str) -> Walk:
        """One that has come the same way. Of the records there is one: they are the caller's to take back."""
        worlds = {code: copy.deepcopy(site.world) for code, site in self.sites.items()}
        other = Walk(name, worlds, Clock(self.clock.now()))
        for code, site in self.sites.items():
            other.sites[code].agent_dead = site.agent_dead
        other.engine.keep_at = self.engine.keep_at
        other.log = list(self.log)
        return other

    def patched(self) -> list[object]:
        """What stands in for the network and the clock while a walk goes on."""
        return [
            mock.patch.object(agents, "client", lambda site: self.sites[site.code]),
            # On a slow machine a site would be asked beside the walk, and its answer come into another one.
            mock.patch.object(agents, "LARGE_S", math.inf),
            mock.patch.object(outbox, "LOOK_AGAIN_S", 0.0),
            mock.patch.object(SystemClock, "now", lambda _: self.clock.now()),
        ]

    def step(self) -> None:
        """Do one thing, whatever the application says to it, and let a little time pass."""
        deeds = self._deeds()
        deed = self.random.choices(deeds, [weight for weight, _ in deeds])[0][1]
        cache.clear()
        try:
            deed()
        except DomainError as error:
            self.log.append(f"  refused: {error.sentence}")
        self.engine.pass_time(self.random.choice((0, 1, 15)))
        cache.clear()

    def _deeds(self) -> list[tuple[int, Callable[[], None]]]:
        deeds: list[tuple[int, Callable[[], None]]] = [
            (10, self._wait), (16, self._start), (2, self._edit_plan), (1, self._edit_group),
            (1, self._retire), (1, self._pause),
        ]  # fmt: skip
        asked = self._asked()
        if asked:
            deeds.append((40, lambda: self._answer(*self.random.choice(asked))))
        under_way = list(Run.objects.filter(outcome="").values_list("pk", flat=True))
        if under_way:
            deeds += [(2, lambda: self._tell(self.random.choice(under_way), "abort")), (20, self._wait)]
        broken = [code for code, site in self.sites.items() if not site.answers]
        deeds.append((12, lambda: self._mend(self.random.choice(broken))) if broken else (7, self._break))
        if any(site.world.replication.troubles for site in self.sites.values()):
            deeds.append((5, self._mend_links))
        if fences.unseen().exists():
            deeds.append((10, self._look))
        return deeds

    # --- what people do ---

    def _wait(self) -> None:
        seconds = self.random.choice((20, 90, 400, 1800, 7200))
        self.log.append(f"{seconds} s pass")
        self.engine.pass_time(seconds)

    def _start(self) -> None:
        known = list(PlanRow.objects.values_list("code", flat=True))
        code = self.random.choice(["SHOP", "SHOP", *known])
        kind: Kind = self.random.choice(("test", "planned", "disaster", "disaster", "re-protect"))
        if GroupRow.objects.filter(stage="running committed").exists() and self._maybe():
            kind = "re-protect"
        choices = RunOptions(
            kind=kind, pace=PACE, sync_first=kind == "planned" or (kind == "test" and self._maybe()),
            close_down=kind == "planned" or self._maybe(), go_on=kind == "disaster" and self._maybe(),
            at_commit=self.random.choice(("nothing", "nothing", "re-protect")),
        )  # fmt: skip
        self.log.append(f"start {kind} of {code} {'closing down' if choices.close_down else ''}")
        wanted = StartRun(plan=code, confirm=code, options=choices, reason="A walk.")
        run = start_run(wanted, by=WHO, key=f"{self.name} {len(self.log)}", at=self.clock.now())
        self.log.append(f"  run {run.pk}")

    def _maybe(self) -> bool:
        return self.random.random() < 0.5

    def _asked(self) -> list[tuple[int, Need]]:
        found = []
        for pk in Run.objects.filter(outcome="").values_list("pk", flat=True):
            with current(pk) as state:
                found += [(pk, need) for need in needs(state)]
        return found

    def _answer(self, run: int, need: Need) -> None:
        word = {
            "failure": ("retry", "skip", "abort"), "acknowledge": ("answer",), "hold": ("answer",),
            "verdict": ("verdict",), "decision": ("commit", "roll-back"), "held": ("resume", "abort"),
        }[need.kind]  # fmt: skip
        self._tell(run, self.random.choice(word), need.step)

    def _tell(self, run: int, kind: str, step: str = "") -> None:
        self.log.append(f"run {run}: {kind} {step}")
        said = Control(kind=kind, step=step, text="Because.", verdict="passed" if kind == "verdict" else "")
        control_run(run, said, by=WHO, key=None, at=self.clock.now())

    def _edit_plan(self) -> None:
        code = self.random.choice(("SHOP", "FRONT"))
        version = find_plan(code).version()
        plan, off = version.core(), self._maybe()
        waves = tuple(
            replace(w, members=tuple(
                replace(m, power_on=not off) if m.workload == "old" else m for m in w.members
            ))
            for w in plan.waves
        )  # fmt: skip
        self.log.append(f"edit {code}: old is {'left off' if off else 'powered on'}")
        save_plan(code, replace(plan, waves=waves), based_on=version.number, author=WHO, at=self.clock.now())

    def _edit_group(self) -> None:
        row = find_group("front")
        group = row.core()
        members = ("web",) if "old" in group.members else ("web", "old")
        self.log.append(f"edit front: {members}")
        change_group("front", replace(group, members=members), row.revision)

    def _retire(self) -> None:
        self.log.append("retire FRONT")
        retire_plan("FRONT", by=WHO, at=self.clock.now())

    def _pause(self) -> None:
        code, because = self.random.choice(("shop", "front")), self.random.choice(("", "Storage is moved"))
        self.log.append(f"pause {code}: {because}")
        pause(code, because, by=WHO)

    def _look(self) -> None:
        kept = fences.unseen().first()
        if kept is not None:
            self.log.append(f"looked at what run {kept.run_id} found running")
            fences.seen(kept.run, WHO)

    # --- what happens to sites ---

    def _break(self) -> None:
        code = self.random.choice(("ALD", "ALD", "BIR"))
        what = self.random.choice(("dark", "agent", "link"))
        self.log.append(f"{code}: {what}")
        if what == "dark":
            self.sites[code].world.throw(Switch(effect="dark"), self.clock.now().timestamp())
        elif what == "agent":
            self.sites[code].agent_dead = True
        else:
            other = "BIR" if code == "ALD" else "ALD"
            self.sites[code].world.add_trouble(
                Trouble(effect="cut", subject=other), self.clock.now().timestamp()
            )
        self._see_peers()

    def _mend(self, code: str) -> None:
        self.log.append(f"{code}: back")
        self.sites[code].agent_dead = False
        self.sites[code].world.set_dark(False, self.clock.now().timestamp())
        self._see_peers()
        # The engine hears at once what was done there meanwhile.
        self.engine.pass_time(0)

    def _mend_links(self) -> None:
        self.log.append("links are whole again")
        for site in self.sites.values():
            site.world.replication.troubles.clear()

    def _see_peers(self) -> None:
        """Sites notice when another goes away: nothing can be copied from it then."""
        for site in self.sites.values():
            for code, peer in self.sites.items():
                if peer is not site:
                    reason = "" if peer.answers else "does not answer"
                    site.world.set_away(code, reason, self.clock.now().timestamp())
