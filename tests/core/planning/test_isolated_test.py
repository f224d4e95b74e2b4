"""What a test does, and in which order."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.crosswalk import NetworkRow
from maestoso.core.model.plan import Member
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.isolated_test import (
    LEAK_CHECK,
    PROVE_COPIES,
    PROVE_NETWORKS,
    VERDICT,
    compile_test,
    copy_name,
)
from tests import worlds


def compiled(**changes: object) -> StepGraph:
    """The graph of the small plan, changed."""
    return compile_test(worlds.inputs(worlds.context(**changes)))


def ancestors(graph: StepGraph, name: str) -> set[str]:
    """Everything that must be resolved before a step."""
    found: set[str] = set()
    queue = [graph.index[name]]
    while queue:
        for pred in graph.preds[queue.pop()]:
            if graph.steps[pred].id not in found:
                found.add(graph.steps[pred].id)
                queue.append(pred)
    return found


class Safety(unittest.TestCase):
    """Nothing gets power before isolation is proved; everything made is taken away."""

    def test_up_to_the_verdict_it_is_the_same_graph_without_the_cleanup(self) -> None:
        inputs = worlds.inputs(sync_first=True)
        whole, ahead = compile_test(inputs), compile_test(inputs, whole=False)
        kept = [step.id for step in whole.steps if step.phase != "cleanup"]
        self.assertEqual([step.id for step in ahead.steps], kept)
        self.assertLess(len(ahead), len(whole))

    def test_everything_else_is_over_before_the_verdict(self) -> None:
        for change in (
            {},
            {"plan": worlds.plan((Member(workload="db", power_on=False), Member(workload="app")))},
        ):
            graph = compiled(**change)
            forward = {step.id for step in graph.steps if step.phase != "cleanup"}
            self.assertEqual(ancestors(graph, VERDICT), forward - {VERDICT})

    def test_no_copy_gets_power_before_all_copies_are_proved_isolated(self) -> None:
        graph = compiled()
        for name in worlds.NAMES:
            self.assertIn(PROVE_COPIES, ancestors(graph, f"power-on:{name}"))
            self.assertIn(f"attach-nics:{name}", ancestors(graph, PROVE_COPIES))

    def test_no_adapter_is_attached_before_the_networks_are_proved_isolated(self) -> None:
        graph = compiled()
        for name in worlds.NAMES:
            self.assertIn(PROVE_NETWORKS, ancestors(graph, f"attach-nics:{name}"))

    def test_proofs_of_isolation_stop_the_run_and_cannot_be_skipped(self) -> None:
        graph = compiled()
        for name in (PROVE_NETWORKS, PROVE_COPIES):
            self.assertEqual((graph[name].on_failure, graph[name].skippable), ("stop", False))

    def test_all_that_is_made_is_taken_away_after_the_verdict(self) -> None:
        graph = compiled()
        undone = {name for step in graph.steps for name in step.undoes}
        for step in graph.steps:
            if step.verb in ("make-sandbox", "clone-point", "register", "power-on"):
                self.assertIn(step.id, undone)
            if step.undoes:
                self.assertIn(VERDICT, ancestors(graph, step.id))

    def test_the_leak_check_comes_last_of_all(self) -> None:
        graph = compiled()
        self.assertEqual(ancestors(graph, LEAK_CHECK), {s.id for s in graph.steps} - {LEAK_CHECK})

    def test_every_step_of_a_site_is_at_the_target(self) -> None:
        self.assertEqual({step.site for step in compiled().steps if step.site}, {"B"})

    def test_each_test_makes_networks_of_its_own(self) -> None:
        first = compile_test(worlds.inputs())
        second = compile_test(replace(worlds.inputs(), mark="t2"))
        networks = [
            {step.subject for step in graph.steps if step.verb == "make-sandbox"} for graph in (first, second)
        ]
        self.assertEqual(networks, [{"b-net.sandbox-t1"}, {"b-net.sandbox-t2"}])

    def test_a_fixed_sandbox_is_neither_made_nor_removed(self) -> None:
        walk = worlds.crosswalk(networks=(NetworkRow(source="a-net", live="b-net", sandbox="b-lab"),))
        graph = compiled(crosswalk=walk)
        self.assertFalse([s for s in graph.steps if s.verb in ("make-sandbox", "remove-sandbox")])
        self.assertEqual(graph["attach-nics:db"].args["nics"][0]["network"], "b-lab")


class Waves(unittest.TestCase):
    """Members come up as their wave and their own rules say."""

    def test_a_wave_opens_when_the_one_before_is_ready(self) -> None:
        graph = compiled()
        before = ancestors(graph, "open-wave:2")
        self.assertIn("probe-service:db:db-service", before)
        self.assertIn("probe-service:queue:queue-service", before)
        self.assertIn("open-wave:2", graph["power-on:app"].after)

    def test_a_wave_may_open_with_power_or_at_once(self) -> None:
        for how, there, absent in (
            ("powered-on", "power-on:db", "await-heartbeat:db"),
            ("at-once", "open-wave:1", "power-on:db"),
        ):
            made = worlds.plan()
            waves = (made.waves[0], replace(made.waves[1], opens=how), made.waves[2])
            before = ancestors(compiled(plan=replace(made, waves=waves)), "open-wave:2")
            self.assertIn(there, before)
            self.assertNotIn(absent, before)

    def test_a_dependency_is_waited_for_until_it_is_ready_and_the_delay_counts_from_there(self) -> None:
        step = compiled()["power-on:app"]
        self.assertIn("probe-service:db:db-service", step.delay_from)
        self.assertEqual(step.delay_s, 30.0)
        self.assertNotIn("set-addresses:app", step.delay_from)
        self.assertIn("set-addresses:app", step.after)

    def test_ready_is_what_the_member_says(self) -> None:
        expected = {
            "checks": {"probe-service:db:db-service"},
            "heartbeat": {"await-heartbeat:db"},
            "powered-on": {"power-on:db"},
            "at-once": set(),
        }
        for ready, steps in expected.items():
            made = worlds.plan((Member(workload="db", ready=ready),), (Member(workload="app"),))  # type: ignore[arg-type]
            opens = set(compiled(plan=made)["open-wave:2"].after) - {"open-wave:1"}
            self.assertEqual(opens, steps, ready)

    def test_without_guest_agent_the_checks_alone_decide(self) -> None:
        mute = {**worlds.WORKLOADS, "db": replace(worlds.WORKLOADS["db"], guest_agent=False)}
        graph = compiled(workloads=mute)
        self.assertNotIn("await-heartbeat:db", graph)
        self.assertEqual(graph["probe-service:db:db-service"].after, ("power-on:db",))

    def test_a_member_that_is_left_off_is_registered_but_gets_no_power(self) -> None:
        made = worlds.plan((Member(workload="db"), Member(workload="queue", power_on=False)))
        graph = compiled(plan=made)
        self.assertIn("register:queue", graph)
        self.assertIn("unregister:queue", graph)
        self.assertNotIn("power-on:queue", graph)
        self.assertNotIn("power-off:queue", graph)

    def test_an_empty_wave_does_not_stop_those_behind_it(self) -> None:
        made = worlds.plan((Member(workload="db"),), (), (Member(workload="web"),))
        self.assertIn("power-on:db", ancestors(compiled(plan=made), "power-on:web"))

    def test_a_hold_stops_what_is_behind_it_for_its_kinds_only(self) -> None:
        held = compiled(plan=worlds.with_hold(worlds.plan(), 1))
        self.assertIn("hold:ask", held["power-on:app"].after)
        self.assertTrue(held["hold:ask"].person)
        self.assertNotIn("hold:ask", ancestors(held, "power-on:db"))
        free = compiled(plan=worlds.with_hold(worlds.plan(), 1, kinds=("planned",)))
        self.assertNotIn("hold:ask", free)


class Copies(unittest.TestCase):
    """What the site is asked."""

    def test_the_copy_is_named_after_the_run(self) -> None:
        self.assertEqual(compiled()["register:db"].subject, copy_name("db", "t1"))

    def test_addresses_are_set_only_where_there_are_static_ones(self) -> None:
        nic = replace(worlds.WORKLOADS["web"].nics[0], dhcp=True)
        leased = {**worlds.WORKLOADS, "web": replace(worlds.WORKLOADS["web"], nics=(nic,))}
        graph = compiled(workloads=leased)
        self.assertNotIn("set-addresses:web", graph)
        self.assertIn("attach-nics:web", graph["power-on:web"].after)
        self.assertEqual(graph["set-addresses:db"].args["nics"][0]["addresses"], ["10.2.0.11/24"])

    def test_sync_first_comes_before_the_clones(self) -> None:
        graph = compile_test(worlds.inputs(sync_first=True))
        self.assertEqual(graph["clone-point:db"].after, ("sync:shop",))
        self.assertNotIn("sync:shop", compiled())


if __name__ == "__main__":
    unittest.main()
