"""Logs that were written before still say what they said: recorded runs are only ever added."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from maestoso.core.codec import from_data, to_data
from maestoso.core.planning.isolated_test import READ_ADAPTERS
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState, fold
from tests.practice.test_rehearsal import played, tidewell

FOLDER = Path(__file__).parent / "recorded"


def recorded(name: str) -> list[Event]:
    """The events of a file, one a line."""
    lines = (FOLDER / f"{name}.jsonl").read_text(encoding="utf-8").splitlines()
    return [from_data(Event, json.loads(line)) for line in lines]


class Recorded(unittest.TestCase):
    """Each log is folded by the rules under whose number it was written."""

    def state(self, name: str) -> RunState:
        events = recorded(name)
        state = fold(events)
        self.assertTrue(state.finished)
        self.assertEqual(state.seq, len(events))
        return state

    def test_compiler_1_has_no_step_that_reads_adapters(self) -> None:
        state = self.state("test-of-reporting-compiler-1")
        self.assertEqual((state.inputs.compiler, state.outcome), (1, "passed"))
        self.assertNotIn(READ_ADAPTERS, state.graph)
        # Its adapter that went over to DHCP was not told so: that came with the next number.
        self.assertNotIn("set-addresses:ware-01", state.graph)

    def test_a_hold_of_compiler_2_is_read_as_a_cue(self) -> None:
        state = self.state("test-of-fleet-compiler-2")
        self.assertEqual((state.inputs.compiler, state.outcome), (2, "passed"))
        cue = state.inputs.plan.waves[1].cues[0]
        self.assertEqual((cue.kind, cue.step), ("hold", "hold:pilot"))
        self.assertEqual(state.graph["power-on:ingest-01"].delay_from, ("open-wave:2", "hold:pilot"))

    def test_a_roll_back_of_compiler_3_is_through_without_asking_services(self) -> None:
        state = self.state("roll-back-of-shop-compiler-3")
        self.assertEqual((state.inputs.compiler, state.outcome), (3, "rolled back"))
        self.assertEqual([step for step in state.graph.steps if step.id.startswith("answers-again:")], [])

    def test_an_isolated_network_of_compiler_4_is_not_told_its_routers(self) -> None:
        state = self.state("test-of-reporting-compiler-4")
        self.assertEqual((state.inputs.compiler, state.outcome), (4, "passed"))
        self.assertNotIn("routers", state.graph[self.sandbox(state)].args)

    def sandbox(self, state: RunState) -> str:
        """The step that makes the first isolated network."""
        return next(step.id for step in state.graph.steps if step.verb == "make-sandbox")

    def test_compiler_5_is_what_is_written_today(self) -> None:
        rehearsal = played(*tidewell("REPT"))
        self.assertEqual(rehearsal.state.inputs.compiler, 5)
        self.assertIn("routers", rehearsal.state.graph[self.sandbox(rehearsal.state)].args)
        self.assertIn(READ_ADAPTERS, rehearsal.state.graph)
        self.assertIn("set-addresses:ware-01", rehearsal.state.graph)
        again = fold([from_data(Event, json.loads(json.dumps(to_data(event)))) for event in rehearsal.log])
        self.assertEqual(again.outcome, "passed")
        self.assertEqual(again.steps[READ_ADAPTERS].status, "done")
