"""Two runs of a plan beside each other: what got slower or faster, and what was changed in between."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields

from maestoso.core.evidence.facts import Facts, facts_of
from maestoso.core.model.estate import Workload
from maestoso.core.model.landing import Landing
from maestoso.core.planning.diff import changes
from maestoso.core.planning.inputs import Estimate
from maestoso.core.readiness.proof_rules import MATTERS, differing
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState, fold
from maestoso.core.wording import counted, lasting

SPREAD = 1.2816
"""Standard deviations within which four of five values of a normal distribution lie."""
LEAST_S = 3.0
"""A difference below this is never called unusual, however steady a step is."""


@dataclass(frozen=True, slots=True, kw_only=True)
class StepCompared:
    """A step in both runs. Seconds of its last attempt, None where a run did not do it.

    Four of five times it takes from ``low_s`` to ``high_s``, by what was known when the later run started;
    ``unusual`` is a difference that this does not explain.
    """

    step: str
    title: str
    workload: str
    phase: str
    earlier_s: float | None
    later_s: float | None
    low_s: float
    high_s: float
    unusual: bool

    @property
    def more_s(self) -> float:
        """How many seconds the later run took more."""
        return (self.later_s or 0.0) - (self.earlier_s or 0.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison:
    """``steps`` are ordered by how much they differ, those that are unusual first."""

    sentence: str
    earlier: Facts
    later: Facts
    steps: tuple[StepCompared, ...]
    plan: tuple[str, ...]
    estate: tuple[str, ...]
    landings: tuple[str, ...]


def compare(earlier: Sequence[Event], later: Sequence[Event]) -> Comparison:
    """Compare two runs by their logs alone; the order is that of their starts."""
    before, after = fold(earlier), fold(later)
    steps = sorted(_steps(before, after), key=lambda one: (not one.unusual, -abs(one.more_s), one.step))
    facts = facts_of(before, earlier), facts_of(after, later)
    return Comparison(
        sentence=_sentence(after, *facts, steps),
        earlier=facts[0],
        later=facts[1],
        steps=tuple(steps),
        plan=changes(before.inputs.plan, after.inputs.plan),
        estate=tuple(differing(_named(before), _named(after), MATTERS)),
        landings=tuple(differing(_landed(before), _landed(after), [field.name for field in fields(Landing)])),
    )


def _named(state: RunState) -> dict[str, Workload]:
    return {workload.name: workload for workload in state.inputs.workloads}


def _landed(state: RunState) -> dict[str, Landing]:
    return {landing.workload: landing for landing in state.inputs.landings}


def _took(state: RunState, step: str) -> float | None:
    was = state.steps.get(step)
    if was is None or was.status != "done" or was.asked_s is None or was.settled_s is None:
        return None
    return round(was.settled_s - was.asked_s, 3)


def _steps(before: RunState, after: RunState) -> Iterable[StepCompared]:
    """Steps that a site did in one of the two; those of people take as long as people do."""
    for state, other in ((after, before), (before, after)):
        for step in state.graph.steps:
            if step.site is None or (state is before and step.id in other.graph):
                continue
            one, two = _took(before, step.id), _took(after, step.id)
            if one is None and two is None:
                continue
            low, high = usual(after.inputs.estimates.get(step.id) or before.inputs.estimates.get(step.id))
            known = one is not None and two is not None
            odd = known and abs((two or 0.0) - (one or 0.0)) > max(high - low, LEAST_S)
            yield StepCompared(
                step=step.id, title=step.title, workload=step.workload or "", phase=step.phase,
                earlier_s=one, later_s=two, low_s=round(low, 3), high_s=round(high, 3), unusual=odd,
            )  # fmt: skip


def usual(estimate: Estimate | None) -> tuple[float, float]:
    """The tenth and the ninetieth percentile of a lognormal duration."""
    if estimate is None or estimate.median_s <= 0:
        return 0.0, 0.0
    factor = math.exp(SPREAD * estimate.sigma)
    return estimate.median_s / factor, estimate.median_s * factor


def _sentence(after: RunState, earlier: Facts, later: Facts, steps: Sequence[StepCompared]) -> str:
    name = after.inputs.plan.name
    slower = [one for one in steps if one.unusual and one.more_s > 0]
    faster = [one for one in steps if one.unusual and one.more_s < 0]
    if earlier.rto_s is None or later.rto_s is None:
        text = f"Only one of these runs of {name} came up as a whole"
        text = text if earlier.rto_s != later.rto_s else f"Neither of these runs of {name} came up as a whole"
    else:
        more = later.rto_s - earlier.rto_s
        how = (
            "as long as before"
            if abs(more) < 1
            else f"{lasting(abs(more))} {'longer' if more > 0 else 'less'}"
        )
        text = f"{name} took {how}, {lasting(later.rto_s)} against {lasting(earlier.rto_s)}"
    if slower or faster:
        parts = [f"{counted(len(slower), 'step')} slower"] if slower else []
        parts += (
            [f"{len(faster)} faster" if slower else f"{counted(len(faster), 'step')} faster"]
            if faster
            else []
        )
        return f"{text}; {' and '.join(parts)} than their usual spread explains."
    return f"{text}; no step differs by more than its usual spread."
