"""Whole runs in virtual time: the story, the bad days, and thousands of steps under seeded chance."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from itertools import groupby
from pathlib import Path

from maestoso.core.codec import from_data
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.protection import Group, Policy
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.parts import expand_parts
from maestoso.core.readiness.assess import Options, assess
from maestoso.core.readiness.context import Context
from maestoso.core.runs.progress import overhead
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.steps import RESOLVED
from maestoso.core.scheduling.list_schedule import lower_bound
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.scenario import Scenario
from maestoso.practice.spec import Fault
from maestoso.practice.world import World
from tests import worlds

TIDEWELL = Scenario(Path(__file__).resolve().parents[2] / "demo" / "tidewell")


def tidewell(code: str) -> tuple[RunInputs, World]:
    """A plan of the demo, and the practice site it would be tested at."""
    plans = {plan.code: plan for plan in TIDEWELL.plans()}
    laid = expand_parts(plans[code], plans.get)
    plan = laid.plan
    world = World(TIDEWELL.spec(plan.target, worlds.NOW - timedelta(days=1)), worlds.NOW - timedelta(days=1))
    world.advance(worlds.NOW.timestamp())
    walk = next(w for w in TIDEWELL.data("crosswalks")["crosswalks"] if w["source"] == plan.source)
    ctx = Context(
        plan=plan,
        version=1,
        now=worlds.NOW,
        workloads=TIDEWELL.workloads,
        ground=Ground({code: TIDEWELL.spec(code, worlds.NOW).inventory for code in TIDEWELL.site_codes()}),
        crosswalk=from_data(Crosswalk, {key: value for key, value in walk.items() if key != "twin"}),
        groups=tuple(
            Group(
                code=g["code"],
                name=g["name"],
                source=g["source"],
                target=g["target"],
                members=tuple(g["members"]),
                policy=from_data(Policy, g["policy"]),
            )
            for g in TIDEWELL.data("protection")["groups"]
        ),
        newest={group: world.points(group)[-1] for group in world.replication.copying},
        laid=laid,
        scripts={script.name: script for script in TIDEWELL.scripts()},
        secrets=frozenset(TIDEWELL.data("scripts")["secrets"]),
    )
    judged = assess(ctx, Options(points={}), "t1", {}, samples=20)
    assert judged.inputs is not None, judged.findings
    return judged.inputs, world


def played(inputs: RunInputs, world: World, away_s: Callable[[], float] = lambda: 0.0) -> Rehearsal:
    """A run with a person who helps it along."""
    rehearsal = Rehearsal("r1", inputs, {inputs.plan.target: world}, worlds.NOW, "ann", away_s)
    rehearsal.play(worlds.judge)
    return rehearsal


def took(state: RunState) -> list[float]:
    """What every step really took, in the order of the graph; people and the engine take nothing."""
    found = []
    for step in state.graph.steps:
        happened = state.steps[step.id]
        machine = step.site is not None and happened.asked_s is not None and happened.settled_s is not None
        found.append((happened.settled_s or 0.0) - (happened.asked_s or 0.0) if machine else 0.0)
    return found


class TheStory(unittest.TestCase):
    """Every plan of the demo can be tested."""

    def test_every_plan_is_tested_judged_and_leaves_nothing(self) -> None:
        for row in TIDEWELL.data("plans")["plans"]:
            with self.subTest(row["code"]):
                rehearsal = played(*tidewell(row["code"]))
                self.assertEqual(rehearsal.state.outcome, "passed")
                self.assertEqual(rehearsal.worlds[rehearsal.state.inputs.plan.target].remains("t1"), [])
                self.assertEqual(rehearsal.log[-1].data["remains"], [])

    def test_the_makespan_is_within_two_percent_of_what_the_limits_allow(self) -> None:
        for code in ("BOOK", "HARB", "FLEET"):
            with self.subTest(code):
                state = played(*tidewell(code)).state
                bound = lower_bound(state.graph, took(state), state.inputs.limits)
                machine = state.run_s - state.people_s
                self.assertLessEqual(machine / bound, 1.02)
                self.assertGreaterEqual(machine / bound, 0.999)
                self.assertAlmostEqual(overhead(state) or 0.0, 1.0, delta=0.01)

    def test_the_forecast_holds_what_happens(self) -> None:
        inputs, world = tidewell("HARB")
        state = played(inputs, world).state
        medians = sum(inputs.estimates[s].median_s for s in ("power-on:dir-01", "await-heartbeat:dir-01"))
        real = (state.steps["await-heartbeat:dir-01"].settled_s or 0) - (
            state.steps["power-on:dir-01"].asked_s or 0
        )
        self.assertTrue(0.4 < real / medians < 2.5)

    def test_the_same_run_twice_is_the_same_log(self) -> None:
        one, two = (played(worlds.inputs(), worlds.world()) for _ in range(2))
        self.assertEqual(one.log, two.log)

    def test_pace_changes_the_wall_clock_and_not_the_run_time(self) -> None:
        slow = played(worlds.inputs(), worlds.world())
        fast = played(replace(worlds.inputs(), pace=20.0), worlds.world())
        self.assertAlmostEqual(fast.state.run_s / slow.state.run_s, 1.0, places=3)
        walls = [(r.state.ready_s or 0, (r.log[-1].at - r.log[0].at).total_seconds()) for r in (slow, fast)]
        self.assertLess(walls[1][1], walls[0][1] / 4)


class BadDays(unittest.TestCase):
    """What a site may do to a run."""

    def test_a_leaking_sandbox_stops_the_run_before_any_power(self) -> None:
        world = worlds.world()
        world.add_fault(Fault(verb="make-sandbox", effect="leak"), world.now)
        rehearsal = played(worlds.inputs(), world)
        self.assertEqual(rehearsal.state.outcome, "aborted")
        self.assertFalse([entry for entry in world.journal if entry.verb == "power-on"])
        self.assertEqual(world.remains("t1"), [])

    def test_without_a_person_it_waits_for_a_named_thing(self) -> None:
        world = worlds.world()
        world.add_fault(Fault(verb="register", subject="db*", effect="fail"), world.now)
        rehearsal = Rehearsal("r1", worlds.inputs(), {"B": world}, worlds.NOW, "ann")
        state = rehearsal.play(lambda state: None)
        self.assertFalse(state.finished)
        self.assertEqual(state.failed, {"register:db"})

    def test_a_site_that_refuses_a_fence_fails_the_step_in_words(self) -> None:
        world = worlds.world()
        world.fences["r1"] = 9
        rehearsal = Rehearsal("r1", worlds.inputs(), {"B": world}, worlds.NOW, "ann")
        state = rehearsal.play(lambda state: None)
        self.assertEqual({state.steps[s].code for s in state.failed}, {"fence-too-low"})


class SeededChance(unittest.TestCase):
    """Many runs with many faults: whatever happens, the rules hold."""

    RUNS = 60

    def test_whatever_happens_the_rules_hold(self) -> None:
        for seed in range(self.RUNS):
            with self.subTest(seed=seed):
                self.check(self.run_with_faults(seed))

    def test_they_hold_too_where_nobody_decides_for_a_while(self) -> None:
        most = 0
        for seed in range(self.RUNS // 2):
            with self.subTest(seed=seed):
                away = random.Random(seed)
                rehearsal = self.run_with_faults(seed, lambda away=away: away.choice((0.0, 1.0, 30.0, 600.0)))
                self.check(rehearsal)
                kinds = groupby(event.kind for event in rehearsal.log)
                most = max(most, *(len(list(run)) for kind, run in kinds if kind == "step.done"))
        self.assertGreater(most, 4, "several things were found at once")

    def run_with_faults(self, seed: int, away_s: Callable[[], float] = lambda: 0.0) -> Rehearsal:
        chance = random.Random(seed)
        world = worlds.world(seed=seed)
        verbs = (
            "make-sandbox",
            "clone-point",
            "register",
            "attach-nics",
            "power-on",
            "power-off",
            "discard-clone",
        )
        for _ in range(chance.randint(0, 5)):
            effect = chance.choice(("fail", "slow", "leak", "boot-hangs", "fail"))
            world.add_fault(
                Fault(verb=chance.choice(verbs), effect=effect, times=chance.randint(1, 3)),  # type: ignore[arg-type]
                world.now,
            )
        return played(worlds.inputs(sync_first=chance.random() < 0.3), world, away_s)

    def check(self, rehearsal: Rehearsal) -> None:
        state, world = rehearsal.state, rehearsal.worlds["B"]
        self.assertTrue(
            state.finished or state.failed or state.persons, "it waits for nothing that has a name"
        )
        self.assertEqual([event.seq for event in rehearsal.log], list(range(1, len(rehearsal.log) + 1)))
        self.assertEqual(fold(rehearsal.log).steps, state.steps)
        keys = Counter(entry.key for entry in world.journal)
        self.assertEqual([key for key, times in keys.items() if times > 1], [])
        self.order_of_effects(state, world)
        if state.finished:
            self.assertEqual(world.remains("t1"), [])
            self.assertTrue(all(step.status in RESOLVED for step in state.steps.values()))

    def order_of_effects(self, state: RunState, world: World) -> None:
        """From the site's own journal: an effect comes after those of the steps it waits for."""
        place = {entry.key: entry.seq for entry in world.journal}
        last = {key.split(":", 1)[1].rsplit(":", 1)[0]: seq for key, seq in place.items()}
        for step in state.graph.steps:
            if step.id in last and step.phase != "cleanup":
                for pred in step.after:
                    if pred in last:
                        self.assertLess(last[pred], last[step.id], f"{pred} before {step.id}")
        proved = last.get("prove-isolation:copies")
        for name, seq in last.items():
            if name.startswith("power-on:"):
                self.assertIsNotNone(proved)
                self.assertGreater(seq, proved or 0)


if __name__ == "__main__":
    unittest.main()
