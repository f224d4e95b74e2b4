"""What must be true of a run, read from the sites' own journals beside its log.

Maestoso could be wrong about itself; a site that writes down every effect it had is another witness.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState

CLOCKS_APART_S = 0.05
"""How far the clocks of a site and of the engine may be apart before an order cannot be told."""
RESOLVES = (
    "step.done", "step.skipped", "hold.answered", "verdict.given", "decision.given", "run.aborted",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Effect:
    """One effect that ``site`` had; ``at`` is seconds since 1970."""

    site: str
    at: float
    key: str
    verb: str
    subject: str
    effect: Mapping[str, Any] = field(default_factory=dict)


def broken_promises(
    run: str, events: Sequence[Event], effects: Iterable[Effect], forgetful: Collection[str] = ()
) -> tuple[str, ...]:
    """Every promise that a run broke, in sentences; empty when it kept all of them.

    ``run`` is the name in its keys. The log must fold; that its numbers have no gaps is part of that. Agents
    of ``forgetful`` sites, and of those that its log names, lost their memory: what was done and not heard of
    is asked for, and done, again.
    """
    forgot = {*forgetful, *(event.data["site"] for event in events if event.kind == "site.forgot")}
    state = RunState(events[0])
    for event in events[1:]:
        state.apply(event)
    ordered = sorted(effects, key=lambda effect: effect.at)
    mine = [effect for effect in ordered if effect.key.startswith(f"{run}:")]
    return (
        *_twice(effect for effect in ordered if effect.site not in forgot),
        *_out_of_nothing(run, state, events, mine),
        *_out_of_order(run, state, events, mine),
        *_on_twice(state, mine),
    )


def _twice(effects: Iterable[Effect]) -> list[str]:
    counted = Counter((effect.site, effect.key) for effect in effects)
    return [f"{site} did {key} {times} times." for (site, key), times in counted.items() if times > 1]


def _step(run: str, effect: Effect) -> tuple[str, int]:
    step, _, attempt = effect.key.removeprefix(f"{run}:").rpartition(":")
    return step, int(attempt)


def _out_of_nothing(
    run: str, state: RunState, events: Sequence[Event], effects: Sequence[Effect]
) -> list[str]:
    """An effect was asked for before it was had; and in the end the log says what became of it."""
    asked = {
        (event.data["step"], event.data["attempt"]): event.at.timestamp()
        for event in events
        if event.kind == "step.asked"
    }
    found = []
    for effect in effects:
        step = _step(run, effect)
        if step not in asked:
            found.append(f"{effect.site} did {effect.key}, which the log never asked for.")
        elif effect.at < asked[step] - CLOCKS_APART_S:
            found.append(f"{effect.site} did {effect.key} before the log had asked for it.")
        elif state.finished and state.steps[step[0]].status == "asked":
            found.append(f"{effect.site} did {effect.key}, and the log does not say so in the end.")
    return found


def _out_of_order(run: str, state: RunState, events: Sequence[Event], effects: Sequence[Effect]) -> list[str]:
    """All that a step waits for was resolved before its effect."""
    resolved: dict[str, float] = {}
    for event in events:
        if event.kind in RESOLVES and "step" in event.data:
            resolved.setdefault(event.data["step"], event.at.timestamp())
    found = []
    for effect in effects:
        step, _ = _step(run, effect)
        if step not in state.graph:
            continue
        for pred in state.graph[step].after:
            # What was called off has no event of its own.
            if (
                state.steps[pred].status != "cancelled"
                and effect.at < resolved.get(pred, 0.0) - CLOCKS_APART_S
            ):
                found.append(f"{effect.site} did {effect.key} before {pred} was over.")
    return found


def _on_twice(state: RunState, effects: Sequence[Effect]) -> list[str]:
    """In a planned run, no workload has power at both sites."""
    if state.inputs.kind != "planned":
        return []
    plan = state.inputs.plan
    running = {name: {plan.source} for name in plan.workloads()}
    found = []
    for effect in effects:
        sites = running.get(effect.subject)
        if sites is None:
            continue
        if effect.verb == "power-on":
            sites.add(effect.site)
            if len(sites) > 1:
                found.append(f"{effect.subject} had power at both sites when {effect.key} was done.")
        elif effect.verb in ("shut-down", "power-off", "fence"):
            sites.discard(effect.site)
    return found
