"""What a live run does, and in which order."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.planning.failover import DECISION, compile_failover
from maestoso.core.planning.inputs import Kind
from maestoso.core.runs.controls import control
from tests import worlds
from tests.core.planning.test_isolated_test import ancestors
from tests.player import Player

KINDS: tuple[Kind, ...] = ("planned", "disaster")


class Order(unittest.TestCase):
    """The decision comes when all is done, and both branches behind it."""

    def test_everything_that_moves_is_over_before_the_decision(self) -> None:
        for kind in KINDS:
            graph = compile_failover(worlds.live_inputs(kind))
            ahead = {step.id for step in graph.steps if step.phase not in ("commit", "roll-back")}
            self.assertEqual(ancestors(graph, DECISION), ahead - {DECISION})

    def test_no_target_has_power_before_its_source_is_fenced(self) -> None:
        graph = compile_failover(worlds.live_inputs("planned"))
        for step in graph.steps:
            if step.verb == "power-on" and step.phase == "bring-up":
                self.assertIn(f"fence:{step.workload}", ancestors(graph, step.id))

    def test_a_group_that_comes_up_again_is_waited_for_whatever_stood_behind_it(self) -> None:
        first = replace(worlds.GROUP, code="store", name="Store", members=("db", "queue"))
        second = replace(worlds.GROUP, members=("app", "web"))
        point = replace(worlds.POINT, id="store@1", group="store")
        ctx = worlds.context(groups=(first, second), newest={"store": point, "shop": worlds.POINT})
        player = Player(worlds.live_inputs("disaster", ctx, close_down=False, acknowledged=True))
        player.until(DECISION)
        earlier = replace(point, id="store@0")
        player.write(control(player.state, "change-point", by="ann", group="store", point=earlier))
        for step in ("promote:store", "power-on:db", "await-heartbeat:db", "probe-service:db:db-service"):
            self.assertEqual(
                (player.status("read-adapters:run"), player.status(DECISION)), ("waiting", "waiting"), step
            )
            player.until(step)
            player.done(step)
        player.until(DECISION)
        self.assertEqual(player.status("probe-service:queue:queue-service"), "done")
        self.assertEqual(player.status(DECISION), "person")

    def test_up_to_the_decision_it_is_the_same_graph_without_the_branches(self) -> None:
        for kind in KINDS:
            inputs = worlds.live_inputs(kind)
            whole, ahead = compile_failover(inputs), compile_failover(inputs, whole=False)
            kept = [step.id for step in whole.steps if step.phase not in ("commit", "roll-back")]
            self.assertEqual([step.id for step in ahead.steps], kept)


if __name__ == "__main__":
    unittest.main()
