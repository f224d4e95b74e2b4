"""Coverage of proof: which plans and services were proved when, and what never was."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from datetime import datetime, timedelta

from maestoso.core.model.plan import Plan
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.core.planning.parts import expand_parts
from maestoso.core.wording import counted
from maestoso.server.estate.snapshot import estate
from maestoso.server.evidence.shapes import PlanProof, Proof, ProofMark, ServiceProof
from maestoso.server.plans.models import PlanRow
from maestoso.server.runs.models import Run, RunStep

PROVES = ("passed", "committed", "rolled back")
"""Outcomes of runs in which a service that answered is a proof of it."""


def proof(year: int | None, now: datetime, reach: Reach = EVERYTHING) -> Proof:
    """Which plans and services within reach were proved when, in a year; what was never proved."""
    first = Run.objects.exclude(outcome="").order_by("started_at").first()
    shown = year or now.year
    rows = list(PlanRow.objects.all())
    newest = {row.code: row.version().core() for row in rows}
    plans = tuple(_plan_proof(row, newest, shown, now) for row in rows if reach.has("plan", row.code))
    planned = {one for plan in newest.values() for one in plan.workloads()}
    unplanned = sorted(row.name for row in estate().rows.values() if row.group and row.name not in planned
                       and reach.has("workload", row.name))  # fmt: skip
    never = [one.name for one in plans if one.last_at is None]
    stale = [one.name for one in plans if one.last_at is not None and one.overdue]
    # A service can be in several plans; a run of any of them proves it.
    services = {(one.workload, one.service) for plan in plans for one in plan.services}
    answered = {(one.workload, one.service) for plan in plans for one in plan.services if one.run is not None}
    unproved = len(services - answered)
    text = f"{len(plans) - len(never) - len(stale)} of {counted(len(plans), 'plan')} are proved in time"
    text += f", {len(stale)} too long ago" if stale else ""
    text += f", {len(never)} never" if never else ""
    text += (
        f"; {unproved} of {counted(len(services), 'service')} never answered in a run." if unproved else "."
    )
    return Proof(
        sentence=text,
        year=shown,
        first_year=first.started_at.year if first else now.year,
        plans=plans,
        unplanned=tuple(unplanned),
    )


def _plan_proof(row: PlanRow, plans: Mapping[str, Plan], year: int, now: datetime) -> PlanProof:
    plan = expand_parts(row.version().core(), plans.get).plan
    runs = list(Run.objects.filter(plan_code=row.code).exclude(outcome="").exclude(kind="re-protect"))
    proving = [run for run in runs if run.outcome in PROVES]
    last = max((run.ended_at for run in proving if run.ended_at), default=None)
    due = last + timedelta(days=plan.drill_every_days) if last else None
    return PlanProof(
        plan=row.code,
        name=plan.name,
        owner=plan.owner,
        marks=tuple(
            ProofMark(run=run.pk, kind=run.kind, outcome=run.outcome, at=run.started_at)
            for run in sorted(runs, key=lambda one: one.started_at)
            if run.started_at.year == year
        ),
        services=_services(row.code, set(plan.workloads()), proving),
        holds_days=plan.drill_every_days,
        last_at=last,
        due_at=due,
        overdue=due is None or due < now,
    )


def _services(code: str, members: set[str], proving: list[Run]) -> tuple[ServiceProof, ...]:
    """Services that members offer now, or that a run asked for, with the last run in which they answered."""
    by_pk = {run.pk: run for run in proving}
    answered: dict[tuple[str, str], Run] = {}
    steps = RunStep.objects.filter(run__plan_code=code, verb="probe-service").order_by("run__started_at")
    asked: defaultdict[str, set[str]] = defaultdict(set)
    for run, step, status, workload in steps.values_list("run_id", "step", "status", "workload"):
        service = step.removeprefix(f"probe-service:{workload}:")
        if workload in members:
            asked[workload].add(service)
            if status == "done" and run in by_pk:
                answered[workload, service] = by_pk[run]
    known = estate().rows
    for name in members & known.keys():
        asked[name] |= set(known[name].offers)
    return tuple(
        ServiceProof(
            workload=name, service=service,
            run=found.pk if (found := answered.get((name, service))) else None,
            at=found.started_at if found else None,
        )
        for name in sorted(asked)
        for service in sorted(asked[name])
    )  # fmt: skip
