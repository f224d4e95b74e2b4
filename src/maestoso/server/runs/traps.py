"""Known traps: what whoever recovers a machine, a group or a plan must know, until it is solved."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from django.db.models import Q

from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.readiness.context import Context
from maestoso.server.audit.record import recorded
from maestoso.server.estate.workloads import find_workload
from maestoso.server.plans.models import KnownTrap
from maestoso.server.plans.services import find_plan
from maestoso.server.protection.services import find_group
from maestoso.server.runs.models import Run
from maestoso.server.runs.shapes import About, TrapSave, TrapView

LONGEST_TEXT = 1000
_EXISTS = {"workload": find_workload, "group": find_group, "plan": find_plan}


@recorded()
def add_trap(sent: TrapSave, *, by: str, at: datetime) -> KnownTrap:
    """Write a trap down. Raises NotFound for what it is about, BadValue for its text."""
    text = sent.text.strip()
    if not text or len(text) > LONGEST_TEXT:
        raise BadValue(
            f"The note has {len(text)} characters.", f"Give 1 to {LONGEST_TEXT}.", field="body.text"
        )
    _EXISTS[sent.about](sent.name)
    _check_run(sent.run)
    return KnownTrap.objects.create(about=sent.about, name=sent.name, text=text, by=by, at=at, run=sent.run)


@recorded()
def solve_trap(pk: int, run: int | None, *, by: str, at: datetime) -> KnownTrap:
    """It is a trap no more, as a run showed or without one. Raises Refused where it was solved before."""
    row = _find(pk)
    if row.solved_at is not None:
        raise Refused(f"{row.solved_by} solved it already.", "Open it again if it is not.")
    _check_run(run)
    row.solved_by, row.solved_at, row.solved_run = by, at, run
    row.save()
    return row


@recorded()
def open_trap(pk: int) -> KnownTrap:
    """It is not solved after all."""
    row = _find(pk)
    row.solved_by, row.solved_at, row.solved_run = "", None, None
    row.save()
    return row


def traps_about(about: About | None, name: str) -> tuple[TrapView, ...]:
    """All traps of one thing, or (None) those of everything that are open."""
    if about is None:
        return _views(KnownTrap.objects.filter(solved_at=None))
    return _views(KnownTrap.objects.filter(about=about, name=name))


def traps_of(
    plans: Iterable[str], groups: Iterable[str], workloads: Iterable[str], since: datetime | None = None
) -> tuple[TrapView, ...]:
    """Open traps of any of these, and those that were solved after ``since``."""
    about = (
        Q(about="plan", name__in=list(plans))
        | Q(about="group", name__in=list(groups))
        | Q(about="workload", name__in=list(workloads))
    )
    still = Q(solved_at=None) if since is None else Q(solved_at=None) | Q(solved_at__gte=since)
    return _views(KnownTrap.objects.filter(about, still))


def traps_of_plan(ctx: Context) -> tuple[TrapView, ...]:
    """Open traps of a plan and its parts, its groups and its workloads."""
    plans = (ctx.plan.code, *(part.plan for part in ctx.authored.parts))
    return traps_of(plans, ctx.planned_groups, ctx.plan.workloads())


def trap_view(row: KnownTrap) -> TrapView:
    """A trap as pages show it."""
    return TrapView(
        id=row.pk, about=row.about, name=row.name, text=row.text, by=row.by, at=row.at, run=row.run,
        solved_by=row.solved_by, solved_at=row.solved_at, solved_run=row.solved_run,
    )  # fmt: skip


def _views(rows: Iterable[KnownTrap]) -> tuple[TrapView, ...]:
    return tuple(map(trap_view, rows))


def _find(pk: int) -> KnownTrap:
    row = KnownTrap.objects.select_for_update().filter(pk=pk).first()
    if row is None:
        raise NotFound(f"There is no known trap {pk}.", "Choose one of the list.")
    return row


def _check_run(run: int | None) -> None:
    if run is not None and not Run.objects.filter(pk=run).exists():
        raise NotFound(f"There is no run {run}.", "Name a run that took place, or none.")
