"""From the inputs of a run to its step graph, whatever its kind."""

from __future__ import annotations

from maestoso.core.planning.failover import DECISION, compile_failover
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.isolated_test import VERDICT, compile_test
from maestoso.core.planning.reprotect import compile_reprotect

JUDGED: tuple[str, ...] = (VERDICT, DECISION)
"""The step that waits for a person once everything is up: of a test, of a live run."""


def compile_run(inputs: RunInputs, whole: bool = True) -> StepGraph:
    """The graph of a run, or only up to what is judged: nothing behind that counts for a forecast.

    Raises CycleFound when members wait for each other in a circle.
    """
    if inputs.kind == "test":
        return compile_test(inputs, whole)
    if inputs.kind == "re-protect":
        return compile_reprotect(inputs)
    return compile_failover(inputs, whole)
