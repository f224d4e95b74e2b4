"""What the agents of a plan's sites cannot do."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from maestoso.core.model.cue import Cue
from maestoso.core.model.finding import Finding, blocks
from maestoso.core.model.plan import Member
from maestoso.core.readiness.context import Context

COMES_UP = frozenset(
    {
        "register",
        "set-size",
        "attach-nics",
        "power-on",
        "power-off",
        "unregister",
        "read-adapters",
        "leak-check",
    }
)
"""At the target, whatever the run."""
IN_A_TEST = frozenset({"make-sandbox", "remove-sandbox", "prove-isolation", "clone-point", "discard-clone"})
TAKES_OVER = frozenset({"sync", "promote", "demote", "adopt", "let-points-go"})
"""At the target of a live run."""
CLOSES_DOWN = frozenset({"shut-down", "fence", "lift-fence", "power-on", "give-up"})
"""At the source of a live run."""
DOORS = frozenset({"publish-address", "withdraw-address"})
"""At both sites, where a plan has front doors open."""


def agent_lacks_verbs(ctx: Context) -> Iterator[Finding]:
    """A step that its agent cannot do would fail in the middle of the run."""
    target, source = ctx.plan.target, ctx.plan.source
    cannot = ctx.lacks.get(target, frozenset())
    always, tests = cannot & (COMES_UP | _by_contents(ctx)), cannot & IN_A_TEST
    if always:
        yield _lacks(target, always, "no run of this plan can be made")
    if tests:
        yield replace(_lacks(target, tests, "this plan cannot be tested"), live="none")
    named = [cue.title for _, _, cue in ctx.plan.placed_cues() if cue.names and "test" in cue.kinds]
    if named and "name-copies" in cannot:
        verb = frozenset({"name-copies"})
        found = _lacks(target, verb, f"in a test copies do not find each other by {' and '.join(named)}")
        yield replace(found, live="none", mend="Leave that cue out of tests, or install an agent that can.")
    doors = DOORS if any(cue.doors for _, _, cue in ctx.plan.placed_cues()) else frozenset()
    lacking = {
        target: cannot & (TAKES_OVER | doors),
        source: ctx.lacks.get(source, frozenset()) & (CLOSES_DOWN | doors),
    }
    for site, verbs in lacking.items():
        if verbs:
            found = _lacks(site, verbs, "production cannot be moved")
            yield replace(found, severity="note", live="blocks")


def _lacks(site: str, verbs: frozenset[str], so: str) -> Finding:
    return blocks(
        "agent-lacks-verbs",
        site,
        f"The agent of {site} cannot {', '.join(sorted(verbs))}, so {so}.",
        "Install an agent that can, or correct what this one says in its capabilities.",
    )


def _by_contents(ctx: Context) -> frozenset[str]:
    """Verbs that are needed for what the plan waits for and does besides."""
    found: set[str] = set()
    for _, member in ctx.plan.members():
        found |= _of_member(member)
    for _, _, cue in ctx.plan.placed_cues():
        found |= _of_cue(cue)
    return frozenset(found)


def _of_member(member: Member) -> set[str]:
    if not member.power_on:
        return set()
    return {"heartbeat": {"await-heartbeat"}, "checks": {"await-heartbeat", "probe-service"}}.get(
        member.ready, set()
    )


def _of_cue(cue: Cue) -> set[str]:
    return {"run-script"} if cue.script is not None else {"probe"} if cue.probe is not None else set()
