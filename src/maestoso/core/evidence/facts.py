"""What a finished run came to, in numbers: what lists, trends and its seal say of it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from maestoso.core.planning.graph import Phase
from maestoso.core.runs.events import Event
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import RunState, fold


@dataclass(frozen=True, slots=True, kw_only=True)
class Facts:
    """Seconds of run time. ``rto_s`` is None for a run that never came to be judged.

    ``rpo_s`` is per group; ``failures`` counts every try that failed, ``skipped`` the steps that a person
    or the plan passed over after a failure.
    """

    rto_s: float | None
    rpo_s: dict[str, float]
    machine_s: float
    people_s: float
    failures: int
    skipped: int

    @property
    def worst_rpo_s(self) -> float | None:
        """The oldest point that anything came up from."""
        return max(self.rpo_s.values(), default=None)


def facts_of(state: RunState, log: Iterable[Event]) -> Facts:
    """The facts of a run, as far as it has come. ``state`` is the fold of ``log``."""
    measured = measures(state)
    listed = list(log)
    failed = {event.data["step"] for event in listed if event.kind == "step.failed"}
    return Facts(
        rto_s=_round(measured.rto_s),
        rpo_s={code: round(seconds, 3) for code, seconds in measured.rpo_s.items()},
        machine_s=round(max(state.run_s - state.people_s, 0.0), 3),
        people_s=round(state.people_s, 3),
        failures=sum(1 for event in listed if event.kind == "step.failed"),
        skipped=sum(1 for name in failed if state.steps[name].status == "skipped"),
    )


def facts(log: Iterable[Event]) -> Facts:
    """The same, from the log alone."""
    listed = list(log)
    return facts_of(fold(listed), listed)


@dataclass(frozen=True, slots=True, kw_only=True)
class PhaseTime:
    """When a phase of the graph began and ended, in run seconds; its parts may overlap with others."""

    phase: Phase
    from_s: float
    to_s: float


def phases(state: RunState) -> tuple[PhaseTime, ...]:
    """Every phase in which anything was done, in the order of their beginnings."""
    found: dict[Phase, tuple[float, float]] = {}
    for step in state.graph.steps:
        was = state.steps[step.id]
        if was.asked_s is None or was.settled_s is None:
            continue
        begun, ended = found.get(step.phase, (was.asked_s, was.settled_s))
        found[step.phase] = (min(begun, was.asked_s), max(ended, was.settled_s))
    return tuple(
        PhaseTime(phase=phase, from_s=round(begun, 3), to_s=round(ended, 3))
        for phase, (begun, ended) in sorted(found.items(), key=lambda item: item[1])
    )


def _round(seconds: float | None) -> float | None:
    return None if seconds is None else round(seconds, 3)
