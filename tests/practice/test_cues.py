"""Cues at a practice site, played through the engine's rules in virtual time."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, Hold, NameRecord, Names, Notify, Pause, Probe, ScriptCall
from maestoso.core.model.plan import Plan
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.words import sentence
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.server import _without_secrets
from maestoso.practice.spec import Fault
from maestoso.sites.contract import Submission
from tests import worlds
from tests.core.planning.test_bring_up import CALL, SCRIPT, pause, with_member
from tests.typed_verbs import speaks_as_agreed

GUEST = replace(CALL, where="guest")


def after_all(**part: object) -> Plan:
    """The small plan with one cue behind everything."""
    return worlds.plan(cues=(Cue(id="x", title="X", at="after", **part),))  # type: ignore[arg-type]


def played(plan: Plan, *faults: Fault, silent: bool = False, **more: object) -> Rehearsal:
    """A test of ``plan``; a ``silent`` person answers no hold."""
    world = worlds.world()
    for fault in faults:
        world.add_fault(fault, world.now)
    ctx = worlds.context(plan=plan, scripts={"hello": SCRIPT}, secrets=frozenset({"token"}), **more)
    rehearsal = Rehearsal("r-1", worlds.inputs(ctx), {"B": world}, worlds.NOW, "ann")

    def person(state: RunState) -> tuple[Draft, float] | None:
        if silent and state.persons - {"verdict"} and state.held_because is None:
            return None
        return worlds.judge(state)

    rehearsal.play(person)
    speaks_as_agreed(unittest.TestCase(), world)
    return rehearsal


class Scripts(unittest.TestCase):
    """Their exit code is judged by the plan."""

    def test_it_runs_and_what_it_said_is_kept(self) -> None:
        done = played(after_all(script=CALL))
        self.assertEqual(done.state.outcome, "passed")
        step = done.state.steps["script:x"]
        self.assertEqual((step.status, step.result["exit_code"]), ("done", 0))
        self.assertIn("hello", step.result["output"])

    def test_another_exit_code_fails_with_what_it_said(self) -> None:
        broken = Fault(verb="run-script", effect="exits", exit_code=3, reason="disk full")
        step = played(after_all(script=CALL), broken).log
        said = next(event for event in step if event.kind == "step.failed").data["reason"]
        self.assertEqual(said, "hello ended with exit code 3; 0 would be success. It said: disk full")

    def test_a_code_that_the_plan_allows_is_success(self) -> None:
        broken = Fault(verb="run-script", effect="exits", exit_code=3, reason="nothing to do")
        done = played(after_all(script=replace(CALL, ok_codes=(0, 3))), broken)
        self.assertEqual(done.state.steps["script:x"].attempt, 1)

    def test_one_that_never_ends_is_killed_at_its_limit(self) -> None:
        done = played(after_all(script=replace(CALL, limit_s=30)), Fault(verb="run-script", effect="hang"))
        said = next(event for event in done.log if event.kind == "step.failed").data
        self.assertEqual((said["code"], said["reason"]), ("script-timeout", "hello did not end within 30 s."))
        self.assertEqual(done.state.steps["script:x"].status, "done")

    def test_inside_a_guest_it_needs_the_guest_agent(self) -> None:
        mute = {**worlds.WORKLOADS, "web": replace(worlds.WORKLOADS["web"], guest_agent=False, nics=())}
        world = worlds.world(copied=replace(worlds.spec().copied, workloads=tuple(mute.values())))
        plan = after_all(script=replace(GUEST, workload="web"))
        ctx = worlds.context(plan=plan, workloads=mute, scripts={"hello": SCRIPT})
        run = Rehearsal("r-1", worlds.inputs(ctx), {"B": world}, worlds.NOW, "ann")
        run.play(worlds.judge)
        said = next(event for event in run.log if event.kind == "step.failed").data
        self.assertEqual(said["code"], "no-guest-agent")

    def test_a_text_that_is_not_what_was_looked_at_is_not_run(self) -> None:
        world = worlds.world()
        args = {"script": "hello", "text": "echo bye\n", "sha256": SCRIPT.sha256, "where": "site"}
        world.submit("k", Submission(verb="run-script", subject="x", run="r", fence=1, args=args), world.now)
        world.advance(world.now + 600)
        answer = world.operation("k")
        assert answer is not None
        self.assertEqual((answer.status, answer.code), ("failed", "script-altered"))

    def test_an_abort_ends_a_script_with_its_guest(self) -> None:
        slow = Fault(verb="run-script", effect="slow", factor=1000, times=None)
        world = worlds.world()
        world.add_fault(slow, world.now)
        script = Cue(id="x", title="X", at="after", script=replace(GUEST, limit_s=9000))
        hold = Cue(id="ask", title="Ask", hold=Hold(instruction="Call."))
        plan = with_member("db", cues=(script,))
        beside = replace(plan.waves[1], opens="at-once", cues=(hold,))
        plan = replace(plan, waves=(plan.waves[0], beside, plan.waves[2]))
        ctx = worlds.context(plan=plan, scripts={"hello": SCRIPT})
        run = Rehearsal("r-1", worlds.inputs(ctx), {"B": world}, worlds.NOW, "ann")

        def person(state: RunState) -> tuple[Draft, float] | None:
            if "script:x" not in state.in_flight:
                return None
            return Draft(kind="run.aborted", data={"reason": "enough"}, by="ann"), 1.0

        run.play(person)
        self.assertEqual((run.state.outcome, world.remains("t1")), ("aborted", []))
        self.assertLess(run.state.run_s, 2000)

    def test_secrets_are_not_written_down_by_practice_sites(self) -> None:
        sent = Submission(verb="run-script", subject="x", run="r", fence=1, args={"secrets": {"T": "hush"}})
        self.assertEqual(_without_secrets(sent).args, {"secrets": {"T": ""}})
        plain = Submission(verb="sync", subject="x", run="r", fence=1)
        self.assertIs(_without_secrets(plain), plain)


class Probes(unittest.TestCase):
    """Asked as a client would."""

    def answer(self, probe: Probe) -> tuple[str, str]:
        rehearsal = played(after_all(probe=probe))
        failed = [event.data for event in rehearsal.log if event.kind == "step.failed"]
        return (failed[0]["code"], failed[0]["reason"]) if failed else ("", "")

    def test_what_is_right_is_right(self) -> None:
        for probe in (
            Probe(workload="web", port=1014),
            Probe(workload="web", port=1014, protocol="http", text="web-service"),
            Probe(workload="web", port=1014, protocol="tls", days=1),
            Probe(workload="web", port=1014, protocol="dns", name="shop.example"),
            Probe(address="10.2.0.14", port=1014),
        ):
            with self.subTest(probe):
                self.assertEqual(self.answer(probe), ("", ""))

    def test_what_is_wrong_is_said(self) -> None:
        for probe, code, words in (
            (Probe(workload="web", port=1), "no-answer", "does not answer on port 1"),
            (
                Probe(workload="web", port=1014, protocol="http", text="ferry"),
                "wrong-answer",
                "web-service is up",
            ),
            (Probe(workload="web", port=1014, protocol="http", status=404), "wrong-answer", "answered 200"),
            (Probe(workload="web", port=1014, protocol="tls", days=3000), "certificate-ends", "more days"),
            (Probe(address="10.9.9.9", port=1014, limit_s=5), "no-answer", "Nothing answers at 10.9.9.9"),
        ):
            with self.subTest(words):
                said = self.answer(probe)
                self.assertEqual(said[0], code)
                self.assertIn(words, said[1])


class PausesAndWords(unittest.TestCase):
    """Time passes; everybody is told."""

    def test_a_pause_lasts_as_long_as_it_says(self) -> None:
        plain, paused = played(worlds.plan()), played(worlds.plan(cues=(pause("x", at="after"),)))
        assert plain.state.ready_s is not None and paused.state.ready_s is not None
        self.assertAlmostEqual(paused.state.ready_s - plain.state.ready_s, 60.0, delta=1.0)

    def test_what_everybody_is_told_stands_in_the_log(self) -> None:
        done = played(after_all(notify=Notify(text="tickets are sold again")))
        event = next(e for e in done.log if e.kind == "step.done" and e.data["step"] == "notify:x")
        self.assertEqual(sentence(event, done.state.graph), "Everybody was told: Tickets are sold again.")


class CopiesByName(unittest.TestCase):
    """In a test the isolated networks answer the names of a plan, and nobody else hears of them."""

    def test_they_are_answered_there_and_gone_with_the_networks(self) -> None:
        record = NameRecord(name="shop.tidewell.example", workload="web")
        plan = worlds.plan(
            cues=(
                Cue(id="n", title="The front", at="after", names=Names(records=(record,))),
                Cue(id="p", title="It is answered", at="after",
                    probe=Probe(workload="web", port=1014, protocol="dns", name=record.name)),
            )
        )  # fmt: skip
        done = played(plan, zones={"tidewell.example": ""})
        self.assertEqual((done.state.outcome, done.worlds["B"].sandboxes), ("passed", {}))
        (landed,) = [
            nic.addresses[0].ip
            for one in done.state.inputs.landings
            if one.workload == "web"
            for nic in one.nics
        ]
        self.assertEqual(done.state.steps["probe:p"].result["values"], [str(landed)])
        (told,) = [entry for entry in done.worlds["B"].journal if entry.verb == "name-copies"]
        self.assertEqual(told.effect, {"named": [record.name]})

    def test_without_an_isolated_network_nobody_could_ask(self) -> None:
        world = worlds.world()
        args = {"mark": "t9", "names": []}
        world.submit(
            "k",
            Submission(verb="name-copies", subject="The front", run="r", fence=1, args=args, pace=1.0),
            world.now,
        )
        world.advance(world.now + 60)
        state = world.operation("k")
        assert state is not None
        self.assertEqual((state.status, state.code), ("failed", "no-such-network"))


class Holds(unittest.TestCase):
    """What happens when nobody answers."""

    def ask(self, then: str, **changes: object) -> Rehearsal:
        hold = Hold(instruction="Call.", limit_s=120, then=then)  # type: ignore[arg-type]
        return played(after_all(hold=replace(hold, **changes)), silent=True)  # type: ignore[arg-type]

    def test_it_may_go_on_by_itself(self) -> None:
        done = self.ask("go-on")
        event = next(e for e in done.log if e.kind == "hold.answered")
        self.assertEqual((event.by, done.state.outcome), ("engine", "passed"))
        self.assertIn("Nobody answered X within 120 s", sentence(event, done.state.graph))

    def test_it_may_abort_the_run(self) -> None:
        done = self.ask("abort")
        self.assertEqual((done.state.outcome, done.worlds["B"].remains("t1")), ("aborted", []))

    def test_it_may_hold_the_run_once_and_then_waits_on(self) -> None:
        done = self.ask("stop")
        held = [event for event in done.log if event.kind == "run.held"]
        self.assertEqual(len(held), 1)
        self.assertEqual(held[0].data["reason"], "Nobody answered X within 120 s.")

    def test_without_a_limit_it_waits_for_ever(self) -> None:
        done = self.ask("abort", limit_s=0)
        self.assertEqual((done.state.outcome, done.state.persons), (None, {"hold:x"}))

    def test_the_log_reads_back(self) -> None:
        done = self.ask("go-on")
        self.assertEqual(fold(done.log).steps, done.state.steps)


class Whole(unittest.TestCase):
    """A plan with every kind of cue at every place comes up and goes away."""

    def test_every_kind_at_every_place(self) -> None:
        def cues(place: str, name: str) -> tuple[Cue, ...]:
            parts: list[dict[str, object]] = [
                {"hold": Hold(instruction="Call.")},
                {"script": CALL},
                {"pause": Pause(seconds=5)},
                {"notify": Notify(text="Here.")},
            ]
            if place == "after":
                parts.append({"probe": Probe(workload="db", port=1011)})
                parts.append(
                    {"script": ScriptCall(script="hello", sha256=SCRIPT.sha256, where="guest", workload="db")}
                )
            return tuple(
                Cue(id=f"{name}-{place}-{index}", title=f"{name} {index}", at=place, **part)  # type: ignore[arg-type]
                for index, part in enumerate(parts)
            )

        def both(name: str) -> tuple[Cue, ...]:
            return (*cues("before", name), *cues("after", name))

        plan = with_member("db", cues=both("member"))
        plan = replace(
            plan, cues=both("plan"), waves=(replace(plan.waves[0], cues=both("wave")), *plan.waves[1:])
        )
        done = played(plan)
        self.assertEqual((done.state.outcome, done.worlds["B"].remains("t1")), ("passed", []))
        self.assertTrue(all(done.state.steps[cue.step].status == "done" for _, _, cue in plan.placed_cues()))
