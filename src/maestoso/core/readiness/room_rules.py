"""Whether what a run does can be written down, and would be known if this machine were lost."""

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


def no_standby(ctx: Context) -> Iterator[Finding]:
    """A plan that counts on a second Maestoso has none. It never stops a run: that would help nobody."""
    if ctx.plan.needs_standby and ctx.standbys == 0:
        yield warns(
            "no-standby",
            ctx.plan.code,
            "No standby follows this Maestoso, and the plan counts on one that would go on with its runs.",
            "Begin one at another site, or see there why it does not follow.",
        )
