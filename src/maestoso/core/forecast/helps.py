"""What would help most: every candidate change of a plan or a site is scheduled anew, none is guessed.

Candidates are the boot delays and dependencies on the critical path, the opening of every wave, and one more
place for each class of work that a site does at once. They are ranked by the schedule with median durations;
for the best the distribution is worked out as well, on the same random numbers as that of the plan itself.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from maestoso.core.forecast.monte_carlo import Forecast, forecast
from maestoso.core.model.estate import SiteLimits
from maestoso.core.model.plan import Member, Plan
from maestoso.core.planning.graph import TO_READY, StepGraph
from maestoso.core.planning.inputs import Estimate, RunInputs
from maestoso.core.scheduling.list_schedule import makespan

MOST_CANDIDATES = 24
WORTH_S = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Help:
    """One change. ``saves_s`` is how much sooner half of all runs would be through.

    ``plan`` is the plan with it, None where it is a change at the site; ``limits`` are those that it was
    worked out with.
    """

    label: str
    saves_s: float
    p50_s: float
    p80_s: float
    p95_s: float
    chance: float
    plan: Plan | None
    limits: SiteLimits


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """A change that has not been worked out yet; ``plan`` is as authored and as run."""

    label: str
    authored: Plan | None
    inputs: RunInputs


def helps(
    authored: Plan,
    inputs: RunInputs,
    now: Forecast,
    compile_graph: Callable[[RunInputs], StepGraph],
    most: int = 5,
    samples: int = 400,
    tell: Callable[[int, int], None] = lambda *_: None,
) -> tuple[Help, ...]:
    """The changes that save most, best first; ``authored`` is the plan as edited, ``inputs`` as compiled.

    ``tell`` hears how many schedules and forecasts of how many are made.
    """
    ranked: list[tuple[float, int, Candidate, StepGraph]] = []
    candidates = list(_candidates(authored, inputs, now))[:MOST_CANDIDATES]
    whole = len(candidates) + min(most * 2, len(candidates))
    for place, candidate in enumerate(candidates):
        tell(place, whole)
        graph = _counted(compile_graph(candidate.inputs))
        ends = makespan(graph, _medians(graph, inputs.estimates), candidate.inputs.limits)
        ranked.append((ends, place, candidate, graph))
    found = []
    best = sorted(ranked, key=lambda one: one[:2])[: most * 2]
    for place, (_, _, candidate, graph) in enumerate(best, start=len(candidates)):
        tell(place, whole)
        limits = candidate.inputs.limits
        made = forecast(graph, inputs.estimates, limits, inputs.plan.rto_s, samples=samples)
        if now.p50_s - made.p50_s >= WORTH_S:
            found.append(
                Help(
                    label=candidate.label,
                    saves_s=now.p50_s - made.p50_s,
                    p50_s=made.p50_s,
                    p80_s=made.p80_s,
                    p95_s=made.p95_s,
                    chance=made.chance,
                    plan=candidate.authored,
                    limits=limits,
                )
            )
    return tuple(sorted(found, key=lambda one: -one.saves_s)[:most])


def _counted(graph: StepGraph) -> StepGraph:
    """The steps that count for the objective."""
    return StepGraph(step for step in graph.steps if step.phase in TO_READY)


def _medians(graph: StepGraph, estimates: Mapping[str, Estimate]) -> list[float]:
    return [estimates[step.id].median_s for step in graph.steps]


def _candidates(authored: Plan, inputs: RunInputs, now: Forecast) -> Iterator[Candidate]:
    on_path = {name.split(":")[1] for name in now.critical if ":" in name}
    edited = {member.workload for _, member in authored.members()}
    for _, member in inputs.plan.members():
        if member.workload not in on_path or member.workload not in edited:
            continue
        name = member.workload
        if member.delay_s:
            label = f"No boot delay for {name} (now {member.delay_s} s)"
            yield _changed(label, authored, inputs, name, delay_s=0)
        for other in member.depends_on:
            rest = tuple(one for one in member.depends_on if one != other)
            yield _changed(f"{name} no longer waits for {other}", authored, inputs, name, depends_on=rest)
    first = len(inputs.plan.waves) - len(authored.waves)
    for index, wave in enumerate(authored.waves):
        if first + index and wave.opens == "ready":
            yield Candidate(
                label=f"Wave {first + index + 1}, {wave.name}, opens when the wave before it is powered on",
                authored=_opening(authored, index),
                inputs=replace(inputs, plan=_opening(inputs.plan, first + index)),
            )
    for field, words in (("power", "power operations"), ("clones", "clones"), ("copies", "copies")):
        more = getattr(inputs.limits, field) + 1
        yield Candidate(
            label=f"{more} {words} at once at {inputs.plan.target} instead of {more - 1}",
            authored=None,
            inputs=replace(inputs, limits=replace(inputs.limits, **{field: more})),
        )


def _changed(label: str, authored: Plan, inputs: RunInputs, name: str, **change: Any) -> Candidate:
    changed = replace(inputs, plan=_with(inputs.plan, name, change))
    return Candidate(label=label, authored=_with(authored, name, change), inputs=changed)


def _with(plan: Plan, name: str, change: Mapping[str, Any]) -> Plan:
    def one(member: Member) -> Member:
        return replace(member, **change) if member.workload == name else member

    waves = tuple(replace(wave, members=tuple(map(one, wave.members))) for wave in plan.waves)
    return replace(plan, waves=waves)


def _opening(plan: Plan, index: int) -> Plan:
    waves = list(plan.waves)
    waves[index] = replace(waves[index], opens="powered-on")
    return replace(plan, waves=tuple(waves))
