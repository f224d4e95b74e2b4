"""What is so: read from the practice sites alone, never from the records of the application."""

from __future__ import annotations

import copy
from collections.abc import Mapping
from datetime import datetime

from maestoso.core.planning.inputs import RunInputs
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.things import Copy
from tests.walks.sites import NearSite
from tests.worlds import decide_for


def machines(site: NearSite) -> list[Copy]:
    """All machines of a site: its own, and copies that a run brought up."""
    world = site.world
    names = (
        {workload.name for workload in world.inventory.workloads} | set(world.copies) | set(world.machines)
    )
    return [copy for name in sorted(names) if (copy := world.machine(name)) is not None]


def running(site: NearSite) -> set[str]:
    """Workloads that have power at a site for real."""
    return {one.workload for one in machines(site) if one.powered and one.name == one.workload}


def machine_runs(site: NearSite, workload: str) -> bool:
    """Whether a workload has power at a site for real."""
    return workload in running(site)


def test_copies(site: NearSite) -> set[str]:
    """Copies that a test brought up."""
    return {one.name for one in machines(site) if one.powered and one.name != one.workload}


def fenced(site: NearSite) -> set[str]:
    """Workloads that get no power at a site."""
    return {one.workload for one in machines(site) if one.fenced}


def answering(sites: Mapping[str, NearSite], workload: str) -> bool:
    """Whether the services of a workload answer at any site, whatever its agent does."""
    return any(site.world.answering([workload]).get(workload) for site in sites.values())


def newest(site: NearSite, group: str) -> datetime | None:
    """The moment of the newest point that a site holds of a group."""
    site.world.care()
    known = site.world.replication.copying.get(group)
    return known.points[-1].at if known is not None and known.points else None


def promoted(site: NearSite, group: str) -> bool:
    """Whether the copies of a group are writable at a site."""
    known = site.world.replication.copying.get(group)
    return known is not None and bool(known.promoted_at)


def brought_up(sites: Mapping[str, NearSite], inputs: RunInputs, now: datetime) -> set[str]:
    """What a disaster run would really bring up, were its source lost now: tried on a copy of its target."""
    plan = inputs.plan
    target = copy.deepcopy(sites[plan.target].world)
    target.set_away(plan.source, "does not answer", now.timestamp())
    Rehearsal(f"tried-{plan.code}", inputs, {plan.target: target}, now, "ann").play(_helps)
    return {name for name in plan.workloads() if target.answering([name]).get(name)}


def _helps(state: RunState) -> tuple[Draft, float] | None:
    """Goes on without whatever cannot be had, and never decides."""
    if state.failed:
        for step in sorted(state.failed):
            if state.graph[step].skippable:
                said = {"step": step, "reason": "Go on without it."}
                return Draft(kind="step.skipped", data=said, by="ann"), 5.0
        return None
    if "decision" in state.persons:
        return None
    return decide_for("commit")(state)
