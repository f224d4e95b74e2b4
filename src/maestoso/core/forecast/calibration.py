"""How earlier forecasts compared to what happened.

Each run keeps the estimates that it was forecast with, so what was expected then can be worked out again.
"""

from __future__ import annotations

import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from maestoso.core.forecast.monte_carlo import forecast
from maestoso.core.planning.compiled import JUDGED
from maestoso.core.runs.events import Event
from maestoso.core.runs.state import RunState


@dataclass(frozen=True, slots=True, kw_only=True)
class Compared:
    """One run: what was expected, and the machine seconds that it took until its last check.

    The time in which it waited for people is left out, since no forecast knows it.
    """

    p10_s: float
    p50_s: float
    p80_s: float
    p95_s: float
    took_s: float

    @property
    def inside(self) -> bool:
        """Whether it ended between p10 and p95."""
        return self.p10_s <= self.took_s <= self.p95_s


def compare(events: Iterable[Event]) -> Compared | None:
    """A run against its forecast; None where it never came to its last check."""
    log = iter(events)
    state = RunState(next(log))
    for event in log:
        state.apply(event)
        if event.kind == "step.waits" and event.data["step"] in JUDGED:
            break
    if state.ready_s is None:
        return None
    made = forecast(state.graph, state.inputs.estimates, state.inputs.limits, state.inputs.plan.rto_s)
    return Compared(
        p10_s=made.p10_s,
        p50_s=made.p50_s,
        p80_s=made.p80_s,
        p95_s=made.p95_s,
        took_s=state.ready_s - state.people_s,
    )


def in_words(compared: Sequence[Compared]) -> str:
    """One sentence about all of them."""
    if not compared:
        return "No run has been through yet, so nobody knows how good these forecasts are."
    inside = sum(1 for one in compared if one.inside)
    off = statistics.median(one.took_s / one.p50_s - 1 for one in compared if one.p50_s > 0)
    way = "longer" if off > 0 else "shorter"
    runs = "The only run so far" if len(compared) == 1 else f"Of {len(compared)} runs {inside}"
    ended = ("ended" if inside else "did not end") if len(compared) == 1 else "ended"
    much = (
        f"half of them took at least {abs(off):.0%} {way}" if len(compared) > 1 else f"{abs(off):.0%} {way}"
    )
    return f"{runs} {ended} inside what was forecast; {much} than the middle of the forecast."
