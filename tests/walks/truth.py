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


class Trial:
    """Copies of the sites, of which one is lost now: what disaster runs would really bring up elsewhere."""

    def __init__(self, sites: Mapping[str, NearSite], lost: str, now: datetime) -> None:
        self.now = now
        self.sites = sites
        self.worlds = {code: copy.deepcopy(site.world) for code, site in sites.items()}
        self.worlds[lost].set_dark(True, now.timestamp())

    def play(self, inputs: RunInputs) -> set[str]:
        """The workloads of a plan that answer at its target after a run; none where that cannot be reached."""
        plan = inputs.plan
        if not self.sites[plan.target].answers:
            return set()
        target = self.worlds[plan.target]
        Rehearsal(f"tried-{plan.code}", inputs, {plan.target: target}, self.now, "ann").play(_helps)
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
