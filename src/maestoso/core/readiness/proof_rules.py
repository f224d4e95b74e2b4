"""Rules about the proof: how old it is, and what has changed since."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, replace
from datetime import timedelta
from typing import Any

from maestoso.core.model.finding import Finding, note, warns
from maestoso.core.model.landing import Landing
from maestoso.core.readiness.context import Context

NAMED = 3
_WORDS = {
    "memory_mib": "memory", "nics": "adapters", "offers": "services", "uses": "what it uses",
    "os_family": "operating system", "guest_agent": "guest agent", "needs_key": "encryption",
    "host_pool": "host pool", "storage_pool": "storage pool",
}  # fmt: skip
MATTERS = ("os_family", "cores", "memory_mib", "disks", "nics", "guest_agent", "offers", "needs_key")


PROOF = frozenset(
    {
        "never-tested", "test-overdue", "changed-since-test", "estate-changed-since-test",
        "landing-changed-since-test", "script-changed-since-test",
    }
)  # fmt: skip
"""Findings about the proof of a plan, which a test mends."""


def at_a_start(findings: Iterable[Finding], kind: str) -> tuple[Finding, ...]:
    """Findings as they are said to who is about to start a run of ``kind``.

    Who starts a test mends what is about the proof; who moves production is not told to start a test.
    """
    if kind == "test":
        return tuple(one for one in findings if one.code not in PROOF)
    return tuple(replace(one, mend="") if one.code in PROOF else one for one in findings)


def test_overdue(ctx: Context) -> Iterator[Finding]:
    """A plan that was never tested, or not for too long, is a hope."""
    if ctx.last_test is None:
        yield warns("never-tested", ctx.plan.name, f"{ctx.plan.name} was never tested.", "Start a test.")
        return
    age = ctx.now - ctx.last_test.ended_at
    if age > timedelta(days=ctx.plan.drill_every_days):
        yield warns(
            "test-overdue",
            ctx.plan.name,
            f"{ctx.plan.name} was tested {age.days} days ago; it should be every "
            f"{ctx.plan.drill_every_days} days.",
            "Start a test.",
        )


def changed_since_test(ctx: Context) -> Iterator[Finding]:
    """A test proves the version that was tested."""
    if ctx.last_test is not None and ctx.last_test.version != ctx.version:
        yield note(
            "changed-since-test",
            ctx.plan.name,
            f"The last test was of version {ctx.last_test.version}; this is version {ctx.version}.",
            "Start a test of this version.",
        )


def estate_changed_since_test(ctx: Context) -> Iterator[Finding]:
    """A workload that is another machine than the one that was tested is not proved."""
    tested = ctx.last_test.inputs if ctx.last_test else None
    before = {workload.name: workload for workload in tested.workloads} if tested else {}
    said = differing(before, {workload.name: workload for _, _, workload in ctx.known_members}, MATTERS)
    if said:
        yield warns(
            "estate-changed-since-test",
            ctx.plan.name,
            f"Changed since the last test: {_listed(said)}.",
            "Start a test: the last one proved something else.",
        )


def landings_changed_since_test(ctx: Context) -> Iterator[Finding]:
    """A landing that is not the one that was tested is not proved."""
    tested = ctx.last_test.inputs if ctx.last_test else None
    if tested is None or not ctx.landed:
        return
    before, now = (
        {landing.workload: landing for landing in landings}
        for landings in (tested.landings, ctx.landed["test"].landings)
    )
    said = differing(before, now, [field.name for field in fields(Landing)])
    if said:
        yield warns(
            "landing-changed-since-test",
            ctx.plan.name,
            f"Would land otherwise than in the last test: {_listed(said)}.",
            "Look at the landings, then start a test.",
        )


def script_changed_since_test(ctx: Context) -> Iterator[Finding]:
    """A script whose text is not the one that ran in the test is not proved."""
    tested = ctx.last_test.inputs if ctx.last_test else None
    before = {script.name: script.sha256 for script in tested.scripts} if tested else {}
    called = {cue.script.script for _, _, cue in ctx.plan.placed_cues() if cue.script is not None}
    said = [
        n for n in sorted(called) if n in before and n in ctx.scripts and ctx.scripts[n].sha256 != before[n]
    ]
    if said:
        yield warns(
            "script-changed-since-test",
            ctx.plan.name,
            f"Changed since the last test: {_listed(said)}.",
            "Start a test: the last one ran another text.",
        )


def differing(before: Mapping[str, Any], now: Mapping[str, Any], names: Sequence[str]) -> list[str]:
    """Those that are there both times and are not the same, each with what is different."""
    said = []
    for name, was in before.items():
        other = [f for f in names if name in now and getattr(was, f) != getattr(now[name], f)]
        if other:
            said.append(f"{name} ({', '.join(_WORDS.get(field, field) for field in other)})")
    return said


def _listed(names: Sequence[str]) -> str:
    more = len(names) - NAMED
    return ", ".join(names[:NAMED]) + (f" and {more} more" if more > 0 else "")
