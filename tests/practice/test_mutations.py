"""The promises that the crash harness checks must be seen to break when a guard is taken out."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import replace
from typing import Any
from unittest import mock

from maestoso.core.planning import compiled
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs import operations
from maestoso.core.runs.operations import OperationState
from maestoso.core.runs.state import RunState
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.world import World
from maestoso.sites.contract import Submission
from tests import worlds
from tests.practice.test_failover import Sites


class Mutations(Sites):
    """Each test takes one guard out of a planned failover."""

    def broken_by(self, *guards: Any) -> tuple[str, ...]:
        """What a run breaks under these patches; judged without them."""
        with ExitStack() as patches:
            for guard in guards:
                patches.enter_context(guard)
            rehearsal = Rehearsal(
                "r1", worlds.live_inputs("planned"), {"A": self.a, "B": self.b}, self.now, "ann"
            )
            rehearsal.play(worlds.decide_for("commit"), most_events=2000)
        self.log = rehearsal.log
        return self.promises("r1")

    def sent_twice(self) -> Any:
        """As after a crash between an effect and its event: each operation is sent again when it is over."""
        collect = Rehearsal._collect
        again: set[str] = set()

        def crashed(self: Rehearsal) -> None:
            for key, step in list(self.asked.items()):
                answer = self.worlds[self.state.graph[step].site or ""].operation(key)
                if answer is not None and answer.settled and key not in again:
                    again.add(key)
                    self._send(step)
            collect(self)

        return mock.patch.object(Rehearsal, "_collect", crashed)

    def test_with_every_guard_in_place_nothing_is_broken(self) -> None:
        self.assertEqual(self.broken_by(self.sent_twice()), ())

    def test_a_site_that_forgets_its_keys_does_things_twice(self) -> None:
        submit = World.submit

        def forgetful(self: World, key: str, submission: Submission, now: float) -> OperationState:
            self.ops.pop(key, None)
            return submit(self, key, submission, now)

        guards = (self.sent_twice(), mock.patch.object(World, "submit", forgetful))
        self.assertTrue(any("times." in said for said in self.broken_by(*guards)))

    def test_without_waiting_for_fences_both_sites_run_the_same(self) -> None:
        def careless(inputs: RunInputs) -> StepGraph:
            def heedless(names: tuple[str, ...]) -> tuple[str, ...]:
                return tuple(
                    name for name in names if not name.startswith(("fence:", "shut-down:", "final-"))
                )

            return StepGraph(
                replace(step, after=heedless(step.after)) if step.site == "B" or step.site is None else step
                for step in compiled.compile_run(inputs).steps
            )

        said = self.broken_by(mock.patch("maestoso.core.runs.state.compile_run", careless))
        self.assertTrue(any("power at both sites" in sentence for sentence in said), said)
        self.assertTrue(any("was over" in sentence for sentence in said))

    def test_another_key_for_the_same_attempt_is_an_effect_out_of_nothing(self) -> None:
        def other(state: RunState, run: str, step: str) -> operations.Operation:
            made = operations.operation_for(state, run, step)
            return replace(made, key=f"{made.key}7")

        guard = mock.patch("maestoso.practice.rehearsal.operation_for", other)
        self.assertTrue(any("never asked for" in said for said in self.broken_by(guard)))
