"""The log is the truth: fold, decide, controls, and what they say to people."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from maestoso.core.errors import BadValue, DomainError, LogCorrupt, NotFound, Refused
from maestoso.core.model.estate import SiteLimits
from maestoso.core.planning.failover import ACKNOWLEDGE, ASK_SOURCE, DECISION, SOURCE_LIMIT_S
from maestoso.core.planning.graph import Step
from maestoso.core.planning.isolated_test import LEAK_CHECK, PROVE_COPIES, VERDICT
from maestoso.core.runs.controls import CONTROLS, control
from maestoso.core.runs.decide import GONE_S, TRIED_S, decide
from maestoso.core.runs.events import Draft
from maestoso.core.runs.needs import needs
from maestoso.core.runs.operations import OperationState, operation_for, outcome
from maestoso.core.runs.progress import expected, expected_ready_s, measures, planned
from maestoso.core.runs.state import fold
from maestoso.core.runs.steps import TABLE, diagram, next_status
from maestoso.core.runs.words import sentence
from maestoso.core.score import forecast_score, run_score
from tests import worlds
from tests.player import Player

DOCS = Path(__file__).resolve().parents[3] / "docs"


class StepTable(unittest.TestCase):
    """One table, one reader."""

    def test_moves_that_are_not_in_the_table_are_refused_with_names(self) -> None:
        with self.assertRaises(LogCorrupt) as caught:
            next_status("power-on:db", "done", "step.asked")
        self.assertIn("power-on:db is done", caught.exception.sentence)

    def test_nothing_leads_out_of_the_end(self) -> None:
        ends = {"done", "skipped", "cancelled"}
        self.assertEqual({event for status, event in TABLE if status in ends}, {"point.changed"})

    def test_the_picture_in_the_documentation_is_the_tables(self) -> None:
        self.assertIn(diagram(), (DOCS / "runs.md").read_text(encoding="utf-8"))


STEP = Step(id="s", verb="register", subject="s", phase="prepare", title="A step")


class Deciding(unittest.TestCase):
    """What comes next."""

    def test_at_the_start_everything_that_waits_for_nothing_is_asked_for(self) -> None:
        play = Player()
        self.assertEqual(
            play.state.in_flight,
            {"make-sandbox:b-net.sandbox-t1", *(f"clone-point:{name}" for name in worlds.NAMES)},
        )

    def test_slots_limit_what_is_asked_and_the_longest_path_goes_first(self) -> None:
        play = Player(replace(worlds.inputs(), limits=SiteLimits(clones=1, power=1)))
        for _ in worlds.NAMES:
            flying = [step for step in play.state.in_flight if step.startswith("clone")]
            self.assertEqual(len(flying), 1)
            play.done(*flying)
        play.until("power-on:db")
        # app waits for db as well as for its wave, so more hangs on db than on queue.
        self.assertEqual((play.status("power-on:db"), play.status("power-on:queue")), ("asked", "waiting"))
        play.done("power-on:db")
        self.assertEqual(play.status("power-on:queue"), "asked")

    def test_a_boot_delay_is_waited_for_and_the_wake_up_is_told(self) -> None:
        play = Player()
        play.until("open-wave:2")
        self.assertEqual(play.status("open-wave:2"), "done")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        self.assertEqual(play.status("power-on:app"), "waiting")
        decision = decide(play.state, play.now)
        assert decision.wake_at is not None
        wait = (decision.wake_at - play.now).total_seconds()
        self.assertGreater(wait, 20)
        play.go(wait - 1)
        self.assertEqual(play.status("power-on:app"), "waiting")
        play.go(1.1)
        self.assertEqual(play.status("power-on:app"), "asked")

    def test_at_pace_twenty_a_delay_passes_twenty_times_as_fast(self) -> None:
        slow, fast = Player(), Player(replace(worlds.inputs(), pace=20.0))
        for play in (slow, fast):
            play.until("open-wave:2")
            while play.state.in_flight:
                play.done(*play.state.in_flight, seconds=0.0)
        waits = []
        for play in (slow, fast):
            wake = decide(play.state, play.now).wake_at
            assert wake is not None
            waits.append((wake - play.now).total_seconds())
        self.assertAlmostEqual(waits[0] / waits[1], 20.0, delta=0.1)

    def test_a_hold_stops_what_is_behind_it_and_nothing_else(self) -> None:
        play = Player(worlds.inputs(worlds.context(plan=worlds.with_hold(worlds.plan(), 1))))
        play.until("hold:ask")
        self.assertEqual(play.status("hold:ask"), "person")
        play.go(10_000)
        self.assertEqual(play.status("power-on:app"), "waiting")
        play.tell("answer", step="hold:ask")
        play.go(31)
        self.assertEqual(play.status("power-on:app"), "asked")

    def test_hold_all_starts_nothing_new_and_lets_what_flies_finish(self) -> None:
        play = Player()
        play.tell("hold", text="lunch")
        flying = set(play.state.in_flight)
        play.done(*flying)
        self.assertEqual(play.state.in_flight, set())
        self.assertEqual(play.state.held_because, "lunch")
        play.tell("resume")
        self.assertTrue(play.state.in_flight)

    def test_what_fails_waits_for_a_person_who_may_try_again(self) -> None:
        play = Player()
        play.fail("clone-point:db", reason="Storage is full.")
        self.assertEqual([need.kind for need in needs(play.state)], ["failure"])
        play.tell("retry", step="clone-point:db")
        self.assertEqual(
            (play.status("clone-point:db"), play.state.steps["clone-point:db"].attempt), ("asked", 2)
        )

    def test_skipping_the_clone_skips_all_that_makes_no_sense_without_it(self) -> None:
        play = Player()
        play.fail("clone-point:web")
        play.tell("skip", step="clone-point:web", text="not needed today")
        play.until(VERDICT)
        for verb in ("register", "set-size", "attach-nics", "set-addresses", "power-on", "await-heartbeat"):
            self.assertEqual(play.status(f"{verb}:web"), "skipped", verb)
        self.assertEqual(play.status("power-on:db"), "done")

    def test_a_member_that_may_fail_does_not_hold_the_run_up(self) -> None:
        made = worlds.plan()
        first = replace(made.waves[0], members=(replace(made.waves[0].members[0], on_failure="go-on"),))
        play = Player(worlds.inputs(worlds.context(plan=replace(made, waves=(first, *made.waves[1:])))))
        play.until("await-heartbeat:db")
        play.fail("await-heartbeat:db", reason="silent")
        self.assertEqual(play.status("await-heartbeat:db"), "skipped")
        self.assertIn("go on", play.state.steps["await-heartbeat:db"].reason)

    def test_isolation_that_is_not_proved_holds_the_run_before_any_power(self) -> None:
        play = Player()
        play.until(PROVE_COPIES)
        play.fail(PROVE_COPIES, code="not-isolated", reason="It reaches production.")
        self.assertIn("production", play.state.held_because or "")
        play.tell("resume")
        play.go(10_000)
        self.assertFalse(
            [s for s in play.state.steps if s.startswith("power-on") and play.status(s) != "waiting"]
        )
        with self.assertRaises(Refused):
            control(play.state, "skip", by="ann", step=PROVE_COPIES, text="never mind")
        play.tell("abort")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        self.assertEqual(play.state.outcome, "aborted")

    def test_nobody_judges_in_time_so_it_cleans_up_by_itself(self) -> None:
        play = Player(replace(worlds.inputs(), cleanup_at=worlds.NOW + timedelta(hours=4)))
        play.until(VERDICT)
        self.assertEqual(decide(play.state, play.now).wake_at, worlds.NOW + timedelta(hours=4))
        play.go(4 * 3600)
        self.assertEqual(play.state.verdict, "inconclusive")
        self.assertIn("by itself", play.state.notes)

    def asking(self, silent_s: float) -> Player:
        """A disaster that has begun, of a source that was heard last so long before the start."""
        heard = {"A": worlds.NOW - timedelta(seconds=silent_s)}
        ctx = worlds.context(lost_sites={"A": "No connection."}, silent_since=heard)
        player = Player(worlds.live_inputs("disaster", ctx))
        self.assertEqual(player.status(ASK_SOURCE), "asked")
        return player

    def test_a_source_that_was_silent_before_is_tried_once_and_not_waited_for(self) -> None:
        player = self.asking(SOURCE_LIMIT_S)
        player.go(1)
        self.assertEqual(player.status(ASK_SOURCE), "asked", "it has not been tried yet")
        player.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        self.assertEqual(player.status(ASK_SOURCE), "skipped")
        (failed,) = [event for event in player.log if event.kind == "step.failed"]
        self.assertIn("silent before the start", failed.data["reason"])
        self.assertEqual(player.status("shut-down:db"), "skipped")

    def test_a_source_that_never_answered_is_not_waited_for_behind_the_commit(self) -> None:
        player = self.asking(SOURCE_LIMIT_S)
        player.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        player.until(ACKNOWLEDGE)
        player.tell("answer", step=ACKNOWLEDGE)
        player.until(DECISION)
        player.tell("commit")
        self.assertEqual(player.status("give-up:run"), "skipped", "its fences are kept until it answers")
        while player.state.in_flight:
            player.done(*player.state.in_flight)
        self.assertEqual(player.state.outcome, "committed")

    def test_a_source_that_is_lost_in_the_middle_is_waited_for_once(self) -> None:
        player = Player(worlds.live_inputs("disaster", worlds.context()))
        player.done(ASK_SOURCE)
        (asked,) = player.state.in_flight
        self.assertTrue(asked.startswith("shut-down:"), asked)
        player.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        player.go(GONE_S - 1)
        self.assertEqual(player.status(asked), "asked", "it may come back")
        player.go(1)
        self.assertEqual(player.status(asked), "skipped")
        self.assertIn("does not answer any more: No connection.", player.state.steps[asked].reason)
        later = [step for step in player.state.graph.steps if step.limit_s and step.phase != "commit"]
        for _ in later:
            player.go(TRIED_S)
        self.assertEqual(player.status(ACKNOWLEDGE), "person", "nothing else of it is waited for as long")

    def test_a_target_that_is_lost_in_the_middle_keeps_the_time_of_the_last_copy(self) -> None:
        player = Player(worlds.live_inputs("disaster", worlds.context()))
        player.until("final-sync:shop")
        player.write(Draft(kind="site.lost", data={"site": "B", "reason": "No connection."}))
        player.go(GONE_S + TRIED_S)
        self.assertEqual(
            player.status("final-sync:shop"), "asked", "without it, work would be lost for nothing"
        )

    def test_a_source_that_comes_back_in_the_middle_is_given_its_time(self) -> None:
        player = Player(worlds.live_inputs("disaster", worlds.context()))
        player.done(ASK_SOURCE)
        (asked,) = player.state.in_flight
        player.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        player.go(GONE_S - 1)
        player.write(Draft(kind="site.back", data={"site": "A"}))
        player.go(GONE_S)
        self.assertEqual(player.status(asked), "asked")

    def test_a_source_that_was_heard_a_moment_ago_is_waited_for(self) -> None:
        player = self.asking(SOURCE_LIMIT_S - 1)
        player.write(Draft(kind="site.lost", data={"site": "A", "reason": "No connection."}))
        player.go(SOURCE_LIMIT_S - 1)
        self.assertEqual(player.status(ASK_SOURCE), "asked")
        player.go(1)
        self.assertEqual(player.status(ASK_SOURCE), "skipped")

    def test_abort_cancels_what_waits_settles_what_flies_and_takes_all_away(self) -> None:
        play = Player()
        play.until("power-on:db")
        play.tell("abort", text="wrong plan")
        self.assertIn("power-on:db", play.state.in_flight)
        self.assertEqual(play.status("power-on:web"), "cancelled")
        self.assertEqual(play.status("power-off:db"), "waiting")
        play.done("power-on:db")
        self.assertEqual(play.status("power-off:db"), "asked")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        self.assertEqual(play.state.outcome, "aborted")
        self.assertEqual(play.status("power-off:web"), "skipped")  # it never had power
        self.assertEqual(play.status(LEAK_CHECK), "done")

    def test_what_fails_while_aborting_asks_nobody(self) -> None:
        play = Player()
        play.tell("abort")
        play.fail("clone-point:db")
        self.assertEqual(play.status("clone-point:db"), "cancelled")
        self.assertEqual(play.state.failed, set())

    def test_a_cleanup_that_fails_is_asked_about(self) -> None:
        play = Player()
        play.until(VERDICT)
        play.tell("verdict", verdict="passed")
        play.fail("power-off:db")
        self.assertEqual([need.kind for need in needs(play.state)], ["failure"])
        self.assertFalse(play.state.finished)

    def test_the_operation_of_an_attempt_is_the_same_each_time(self) -> None:
        play = Player(worlds.inputs(sync_first=True))
        play.write(Draft(kind="step.done", data={"step": "sync:shop", "result": {"point": "fresh"}}))
        one, two = (operation_for(play.state, "x-1", "clone-point:db") for _ in range(2))
        self.assertEqual(one, two)
        self.assertEqual((one.key, one.args["point"]), ("x-1:clone-point:db:1", "fresh"))

    def test_answers_become_events(self) -> None:
        good = outcome(STEP, OperationState(key="k", status="done", result={"a": 1}), "test")
        bad = outcome(STEP, OperationState(key="k", status="failed", code="c", reason="r"), "test")
        self.assertEqual((good.kind, bad.kind, bad.data["code"]), ("step.done", "step.failed", "c"))

    def test_a_fence_that_does_not_say_what_it_must_has_failed(self) -> None:
        fence = replace(STEP, id="fence:db", verb="fence", site="HAR")
        for kind, said, lacks in (
            ("planned", {"was_running": False}, "contents"),
            ("planned", {}, "was_running and contents"),
            ("disaster", {"contents": 4.0}, "was_running"),
        ):
            with self.subTest(kind=kind, said=said):
                draft = outcome(fence, OperationState(key="k", status="done", result=said), kind)
                self.assertEqual((draft.kind, draft.data["code"]), ("step.failed", "answer-incomplete"))
                self.assertIn(f"not what it must say of it: {lacks}.", draft.data["reason"])
        for kind, said in (
            ("planned", {"was_running": True, "contents": 4.0}),
            ("disaster", {"was_running": True}),
        ):
            draft = outcome(fence, OperationState(key="k", status="done", result=said), kind)
            self.assertEqual((draft.kind, draft.data["result"]), ("step.done", said))


class Folding(unittest.TestCase):
    """State is fold(events)."""

    def whole(self) -> Player:
        play = Player(worlds.inputs(worlds.context(plan=worlds.with_hold(worlds.plan(), 2))))
        play.until("hold:ask")
        play.tell("answer", step="hold:ask")
        play.until(VERDICT)
        play.go(120)
        play.tell("verdict", verdict="passed", text="fine")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        return play

    def test_the_whole_log_gives_the_state_that_was(self) -> None:
        play = self.whole()
        again = fold(play.log)
        self.assertTrue(play.state.finished)
        for name in (
            "steps",
            "seq",
            "run_s",
            "people_s",
            "outcome",
            "verdict",
            "notes",
            "ready_s",
            "settled_s",
        ):
            self.assertEqual(getattr(again, name), getattr(play.state, name), name)

    @given(st.data())
    @settings(max_examples=30)
    def test_a_crash_anywhere_loses_nothing_and_decides_the_same(self, data: st.DataObject) -> None:
        log = self.whole().log
        cut = data.draw(st.integers(1, len(log)))
        one, two = fold(log[:cut]), fold(log[:cut])
        self.assertEqual(decide(one, log[cut - 1].at), decide(two, log[cut - 1].at))
        for event in log[cut:]:
            one.apply(event)
        self.assertEqual(one.steps, fold(log).steps)

    def test_a_missing_or_doubled_event_is_noticed(self) -> None:
        log = self.whole().log
        for broken in (log[:5] + log[6:], log[:5] + log[4:], log[1:], []):
            with self.assertRaises(LogCorrupt):
                fold(broken)

    def test_a_step_that_the_plan_does_not_have_is_noticed(self) -> None:
        play = Player()
        with self.assertRaises(LogCorrupt) as caught:
            play.write(Draft(kind="step.asked", data={"step": "power-on:ghost", "attempt": 1}))
        self.assertIn("ghost", caught.exception.sentence)

    def test_an_attempt_that_was_left_out_is_noticed(self) -> None:
        play = Player()
        play.fail("clone-point:db")
        play.state.apply(
            play.state.event(Draft(kind="step.retried", data={"step": "clone-point:db"}), play.now)
        )
        with self.assertRaises(LogCorrupt):
            play.write(Draft(kind="step.asked", data={"step": "clone-point:db", "attempt": 4}))

    def test_nothing_happens_after_the_end(self) -> None:
        play = self.whole()
        with self.assertRaises(LogCorrupt):
            play.state.apply(play.state.event(Draft(kind="run.resumed"), play.now))

    def test_run_time_never_goes_back_even_when_the_clock_does(self) -> None:
        play = Player()
        play.done("clone-point:db", seconds=10)
        event = play.state.event(Draft(kind="run.resumed"), play.now - timedelta(hours=1))
        self.assertGreaterEqual(event.run_s, play.state.run_s)
        self.assertGreaterEqual(event.at, play.state.at)

    def test_people_waiting_goes_by_the_wall_clock_and_is_kept_apart(self) -> None:
        play = Player(replace(worlds.inputs(), pace=10.0))
        play.until(VERDICT)
        ready = play.state.ready_s
        play.go(100)
        play.tell("verdict", verdict="passed")
        self.assertAlmostEqual(play.state.people_s, 100, places=3)
        self.assertAlmostEqual(play.state.run_s - (ready or 0), 100, places=3)


class Controls(unittest.TestCase):
    """What a person may say, and when."""

    def refused(
        self, kind: str, error: type[DomainError] = Refused, play: Player | None = None, **more: str
    ) -> str:
        with self.assertRaises(error) as caught:
            control((play or Player()).state, kind, by="ann", **more)
        return caught.exception.sentence

    def test_each_refusal_is_a_sentence(self) -> None:
        play = Player()
        self.assertIn("not something", self.refused("explode", BadValue))
        self.assertIn("no step", self.refused("retry", NotFound, step="x"))
        self.assertIn("has not failed", self.refused("retry", step="power-on:db"))
        self.assertIn("has not failed", self.refused("skip", step="power-on:db"))
        self.assertIn("not held", self.refused("resume"))
        self.assertIn("does not wait", self.refused("verdict", verdict="passed"))
        self.assertIn("does not wait", self.refused("answer", step="power-on:db"))
        play.tell("hold")
        self.assertIn("held already", self.refused("hold", play=play))
        play.tell("abort")
        self.assertIn("already", self.refused("abort", play=play))

    def test_skipping_wants_a_reason(self) -> None:
        play = Player()
        play.fail("clone-point:db")
        self.assertIn("reason", self.refused("skip", BadValue, play, step="clone-point:db", text="  "))

    def test_a_verdict_must_be_one(self) -> None:
        play = Player()
        play.until(VERDICT)
        self.assertIn("not a verdict", self.refused("verdict", BadValue, play, verdict="splendid"))

    def test_nothing_can_be_said_after_the_end_or_aborted_after_the_verdict(self) -> None:
        play = Player()
        play.until(VERDICT)
        play.tell("verdict", verdict="failed", text="no")
        self.assertIn("judged", self.refused("abort", play=play))
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        for kind in CONTROLS:
            self.assertIn("finished", self.refused(kind, play=play, step=VERDICT, verdict="passed"))


class Telling(unittest.TestCase):
    """Measures, expectations, words and the score."""

    def test_measures_of_a_run(self) -> None:
        play = Player()
        play.fail("clone-point:db")
        play.tell("retry", step="clone-point:db")
        play.until(VERDICT)
        measured = measures(play.state)
        self.assertEqual(measured.rto_s, play.state.ready_s)
        self.assertAlmostEqual(measured.rpo_s["shop"], (worlds.NOW - worlds.POINT.at).total_seconds())
        self.assertEqual(measured.people_s, play.state.people_s)

    def test_what_is_expected_keeps_what_happened_and_lays_the_rest_behind_now(self) -> None:
        play = Player()
        play.until("power-on:db")
        ahead = expected(play.state, play.now + timedelta(seconds=50))
        now_s = play.state.run_seconds(play.now + timedelta(seconds=50))
        for at, step in enumerate(play.state.graph.steps):
            if play.status(step.id) == "waiting":
                self.assertGreaterEqual(ahead.start_s[at], now_s)
        self.assertGreater(
            expected_ready_s(play.state, ahead), expected_ready_s(play.state, planned(play.state)) - 1
        )

    def test_every_event_has_its_sentence(self) -> None:
        play = Player(worlds.inputs(worlds.context(plan=worlds.with_hold(worlds.plan(), 1))))
        play.tell("hold", text="a moment")
        play.tell("resume")
        play.fail("clone-point:web", reason="Full.")
        play.tell("retry", step="clone-point:web")
        play.fail("clone-point:web", reason="Full.")
        play.tell("skip", step="clone-point:web", text="later")
        play.write(Draft(kind="site.lost", data={"site": "B", "reason": "No connection."}))
        play.write(Draft(kind="site.back", data={"site": "B"}))
        play.until("hold:ask")
        play.tell("answer", step="hold:ask", text="they said yes")
        play.until(VERDICT)
        play.tell("verdict", verdict="inconclusive", text="half")
        while play.state.in_flight:
            play.done(*play.state.in_flight)
        said = {event.kind: sentence(event, play.state.graph) for event in play.log}
        for text in said.values():
            self.assertRegex(text, r"^[A-Z\w].*\.$")
        self.assertIn("web: clone its disks", said["step.failed"])
        self.assertIn("They said yes.", said["hold.answered"])
        self.assertEqual(said["run.finished"], "Finished. Nothing is left behind.")
        aborted = Player()
        aborted.tell("abort", text="wrong plan.")
        said_abort = next(event for event in aborted.log if event.kind == "run.aborted")
        self.assertTrue(sentence(said_abort, aborted.state.graph).endswith("taken back. Wrong plan."))

    def test_needs_come_failures_first(self) -> None:
        play = Player(worlds.inputs(worlds.context(plan=worlds.with_hold(worlds.plan(), 0))))
        play.until("hold:ask")
        play.tell("hold")
        self.assertEqual([need.kind for need in needs(play.state)], ["hold", "held"])
        self.assertEqual(needs(play.state)[0].text, "Call the office.")

    def test_the_score_of_a_forecast_has_the_steps_of_a_run_up_to_the_verdict(self) -> None:
        from maestoso.core.readiness.assess import Options, assess

        judged = assess(worlds.context(), Options(points={}), "t1", {}, samples=20)
        assert judged.graph and judged.forecast
        play = Player()
        play.fail("clone-point:db", reason="Full.")
        run = run_score(play.state, play.now)
        made = forecast_score(judged.graph, judged.forecast)
        # A forecast ends with the verdict.
        self.assertEqual([s.id for s in run if s.phase != "cleanup"], [s.id for s in made])
        failed = next(s for s in run if s.id == "clone-point:db")
        self.assertEqual((failed.status, failed.reason, failed.finish_s), ("failed", "Full.", 0.0))
        self.assertTrue(any(s.critical for s in made))
        self.assertTrue(all(s.low_s is not None and s.high_s is not None for s in made))
        waiting = next(s for s in run if s.id == "power-on:web")
        self.assertEqual((waiting.start_s, waiting.finish_s), (None, None))


if __name__ == "__main__":
    unittest.main()
