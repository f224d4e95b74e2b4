"""Where cues stand in the graph."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, Hold, Notify, Pause, Probe, ScriptCall
from maestoso.core.model.plan import Member, Plan
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.planning.isolated_test import LEAK_CHECK, PROVE_COPIES, VERDICT, compile_test
from maestoso.practice.scenario import digest
from tests import worlds
from tests.core.planning.test_isolated_test import ancestors

TEXT = "echo hello\n"
SCRIPT = ScriptText(name="hello", interpreter="sh", text=TEXT, sha256=digest(TEXT))
CALL = ScriptCall(script="hello", sha256=SCRIPT.sha256)


def pause(name: str, **changes: object) -> Cue:
    """A pause of a minute."""
    return replace(Cue(id=name, title=name, pause=Pause(seconds=60)), **changes)  # type: ignore[arg-type]


def graph_of(plan: Plan) -> StepGraph:
    """The graph of a test of a plan."""
    return compile_test(worlds.inputs(worlds.context(plan=plan, scripts={"hello": SCRIPT})))


def with_member(name: str, **changes: object) -> Plan:
    """The small plan with one member changed."""
    plan = worlds.plan()

    def one(member: Member) -> Member:
        return replace(member, **changes) if member.workload == name else member  # type: ignore[arg-type]

    waves = tuple(replace(wave, members=tuple(map(one, wave.members))) for wave in plan.waves)
    return replace(plan, waves=waves)


class Places(unittest.TestCase):
    """Before and after the plan, a wave, a member."""

    def test_before_the_plan_nothing_gets_power(self) -> None:
        graph = graph_of(worlds.plan(cues=(pause("first"),)))
        for name in worlds.NAMES:
            self.assertIn("pause:first", ancestors(graph, f"power-on:{name}"))
        self.assertIn(PROVE_COPIES, ancestors(graph, "pause:first"))

    def test_after_the_plan_everything_is_ready_and_the_verdict_waits(self) -> None:
        graph = graph_of(worlds.plan(cues=(pause("last", at="after"),)))
        self.assertIn("probe-service:web:web-service", ancestors(graph, "pause:last"))
        self.assertIn("pause:last", ancestors(graph, VERDICT))

    def test_before_a_wave_only_that_wave_and_what_follows_wait(self) -> None:
        graph = graph_of(worlds.with_cues(worlds.plan(), 1, pause("middle")))
        self.assertIn("pause:middle", ancestors(graph, "power-on:app"))
        self.assertIn("pause:middle", ancestors(graph, "power-on:web"))
        self.assertNotIn("pause:middle", ancestors(graph, "power-on:db"))

    def test_after_a_wave_the_next_wave_waits(self) -> None:
        graph = graph_of(worlds.with_cues(worlds.plan(), 0, pause("rest", at="after")))
        self.assertIn("pause:rest", ancestors(graph, "open-wave:2"))
        self.assertIn("probe-service:queue:queue-service", ancestors(graph, "pause:rest"))

    def test_after_a_member_it_is_ready_only_with_its_cue(self) -> None:
        graph = graph_of(with_member("db", cues=(pause("settle", at="after"),)))
        self.assertIn("pause:settle", ancestors(graph, "power-on:app"))
        self.assertIn("probe-service:db:db-service", ancestors(graph, "pause:settle"))
        self.assertNotIn("pause:settle", ancestors(graph, "power-on:queue"))

    def test_before_a_member_its_delay_counts_from_the_cue(self) -> None:
        graph = graph_of(with_member("app", cues=(pause("gap"),)))
        self.assertIn("pause:gap", graph["power-on:app"].delay_from)

    def test_cues_at_one_place_come_one_after_the_other(self) -> None:
        graph = graph_of(worlds.with_cues(worlds.plan(), 0, pause("one"), pause("two")))
        self.assertIn("pause:one", ancestors(graph, "pause:two"))

    def test_a_cue_for_other_kinds_of_run_is_not_in_a_test(self) -> None:
        graph = graph_of(worlds.plan(cues=(pause("live", kinds=("planned",)),)))
        self.assertNotIn("pause:live", graph)

    def test_a_member_left_off_has_no_cues(self) -> None:
        graph = graph_of(with_member("web", power_on=False, cues=(pause("none"),)))
        self.assertNotIn("pause:none", graph)

    def test_the_leak_check_comes_behind_every_cue(self) -> None:
        plan = worlds.with_cues(worlds.plan(cues=(pause("a"),)), 1, pause("b", at="after"))
        graph = graph_of(plan)
        self.assertEqual(ancestors(graph, LEAK_CHECK), {step.id for step in graph.steps} - {LEAK_CHECK})


class Kinds(unittest.TestCase):
    """What each kind of cue asks for."""

    def test_a_pause_is_a_delay_of_its_own(self) -> None:
        step = graph_of(worlds.plan(cues=(pause("first"),)))["pause:first"]
        self.assertEqual((step.site, step.delay_s, step.delay_from), (None, 60.0, step.after))

    def test_a_hold_says_who_may_answer_and_until_when(self) -> None:
        hold = Hold(instruction="Call.", who=("ann",), limit_s=60, then="abort")
        step = graph_of(worlds.plan(cues=(Cue(id="ask", title="Ask", hold=hold),)))["hold:ask"]
        self.assertTrue(step.person)
        self.assertEqual(step.args, {"instruction": "Call.", "who": ["ann"], "limit_s": 60, "then": "abort"})

    def test_a_script_goes_with_its_text_and_the_names_of_its_secrets(self) -> None:
        call = replace(CALL, parameters={"A": "1"}, secrets={"T": "token"})
        step = graph_of(worlds.plan(cues=(Cue(id="run", title="Run", script=call),)))["script:run"]
        self.assertEqual((step.verb, step.site), ("run-script", "B"))
        self.assertEqual((step.args["text"], step.args["secrets"]), (TEXT, {"T": "token"}))

    def test_a_script_in_a_guest_waits_for_its_power_and_goes_with_it(self) -> None:
        cue = Cue(id="run", title="Run", at="after", script=replace(CALL, where="guest"))
        step = graph_of(with_member("db", cues=(cue,)))["script:run"]
        self.assertEqual((step.subject, step.needs, step.workload), ("db--t1", ("power-on:db",), "db"))

    def test_a_probe_of_a_workload_asks_its_copy_and_one_of_an_address_asks_that(self) -> None:
        aimed = Cue(id="p", title="P", at="after", probe=Probe(workload="web", protocol="http", text="hi"))
        fixed = Cue(id="q", title="Q", at="after", probe=Probe(address="10.2.0.14"))
        graph = graph_of(worlds.plan(cues=(aimed, fixed)))
        self.assertEqual((graph["probe:p"].subject, graph["probe:p"].args["text"]), ("web--t1", "hi"))
        self.assertEqual(graph["probe:q"].args["address"], "10.2.0.14")

    def test_telling_everybody_is_a_step_of_the_engine(self) -> None:
        step = graph_of(worlds.plan(cues=(Cue(id="n", title="N", notify=Notify(text="Up.")),)))["notify:n"]
        self.assertEqual((step.site, step.person, step.args["text"]), (None, False, "Up."))
