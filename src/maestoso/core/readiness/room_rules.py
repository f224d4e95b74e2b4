"""Whether there is room to write down what a run does."""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.model.finding import Finding, blocks, warns
from maestoso.core.readiness.context import Context

LEAST_MIB = 256
"""Below this nothing is started: a log that cannot be written stops a run half-way."""
LITTLE_MIB = 1024


def little_room(ctx: Context) -> Iterator[Finding]:
    """A disk that fills up is said before it stops anything."""
    if ctx.free_mib is None or ctx.free_mib >= LITTLE_MIB:
        return
    sentence = f"Only {ctx.free_mib} MiB are free where Maestoso keeps its records."
    if ctx.free_mib < LEAST_MIB:
        yield blocks(
            "no-room", ctx.plan.code, sentence, f"Make room: no run is started below {LEAST_MIB} MiB."
        )
    else:
        yield warns(
            "little-room", ctx.plan.code, sentence, f"Make room: below {LEAST_MIB} MiB no run is started."
        )
