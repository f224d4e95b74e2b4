"""What a person chooses for a run: checked, with the points that they named."""

from __future__ import annotations

from datetime import datetime, timedelta

from maestoso.core.errors import BadValue
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.planning.inputs import LIVE, LiveChoices, Probed
from maestoso.core.readiness.assess import Options
from maestoso.core.readiness.context import Context
from maestoso.server.estate.models import Site
from maestoso.server.protection.picture import held_point
from maestoso.server.readiness.shapes import (
    RunOptions,
)

FASTEST_PACE = 1000
LONGEST_TEST_S = 7 * 86400
LONGEST_OUTAGE = timedelta(days=30)


def read_choices(ctx: Context, chosen: RunOptions, now: datetime) -> Options:
    """Check what a person chose and find the points they named. Raises BadValue."""
    site = Site.objects.get(code=ctx.plan.target)
    if not 1 <= chosen.pace <= FASTEST_PACE:
        raise BadValue(
            f"pace is {chosen.pace}.", f"Give a whole number from 1 to {FASTEST_PACE}.", field="body.pace"
        )
    if chosen.pace != 1 and not site.practice:
        raise BadValue(
            f"pace is {chosen.pace}, but {site.name} is not a practice site.",
            "Real sites run at pace 1.",
            field="body.pace",
        )
    if not 0 <= chosen.cleanup_after_s <= LONGEST_TEST_S:
        raise BadValue(
            f"cleanup_after_s is {chosen.cleanup_after_s}.",
            f"Give 0 (never) to {LONGEST_TEST_S} seconds.",
            field="body.cleanup_after_s",
        )
    if chosen.unattended and (chosen.kind != "test" or not chosen.cleanup_after_s):
        raise BadValue(
            "Only a test that ends by itself can run unattended.",
            "Choose a test and give cleanup_after_s.",
            field="body.unattended",
        )
    known = ctx.planned_groups
    points = {}
    for code, wanted in chosen.points.items():
        if code not in known:
            raise BadValue(
                f"The plan has no group {code!r}.", f"Its groups: {', '.join(known)}.", field="body.points"
            )
        points[code] = held_point(site, code, wanted, f"body.points.{code}")
    due = now + timedelta(seconds=chosen.cleanup_after_s) if chosen.cleanup_after_s else None
    return Options(
        points=points,
        kind=chosen.kind,
        apart=_apart(ctx, site, chosen),
        live=_live(chosen, now) if chosen.kind in LIVE else None,
        sync_first=chosen.sync_first,
        pace=float(chosen.pace),
        cleanup_at=due,
        unattended=chosen.unattended,
        probed=_probed(ctx, chosen),
    )


def services_of(ctx: Context) -> tuple[Probed, ...]:
    """What the members of a plan offer, and are powered on for."""
    return tuple(
        Probed(workload=workload.name, service=service.name)
        for _, member, workload in ctx.known_members if member.power_on for service in workload.offers
    )  # fmt: skip


def _probed(ctx: Context, chosen: RunOptions) -> tuple[Probed, ...]:
    if chosen.probe and chosen.kind != "test":
        raise BadValue(
            "Only a test is told what to probe; of a run that moves production every service is.",
            "Leave probe empty.",
            field="body.probe",
        )
    offered = set(services_of(ctx))
    for one in chosen.probe:
        if one not in offered:
            raise BadValue(
                f"The plan brings up no service {one.service[:40]!r} of {one.workload[:40]!r}.",
                "Name one that a member of the plan offers.",
                field="body.probe",
            )
    return tuple(dict.fromkeys(chosen.probe))


def _apart(ctx: Context, site: Site, chosen: RunOptions) -> dict[str, RecoveryPoint]:
    """Points of single workloads; the group's own point is no exception."""
    if chosen.apart and (chosen.kind not in ("test", "disaster") or chosen.sync_first):
        raise BadValue(
            "Only a test or a disaster from existing points can take single workloads from others.",
            "Leave apart empty.",
            field="body.apart",
        )
    found = {}
    for name, wanted in chosen.apart.items():
        group = ctx.group_of(name) if name in ctx.plan.workloads() else None
        if group is None:
            raise BadValue(
                f"The plan copies no workload {name[:40]!r}.", "Name one of its members.", field="body.apart"
            )
        if wanted != chosen.points.get(group.code):
            found[name] = held_point(site, group.code, wanted, f"body.apart.{name}")
    return found


def _live(chosen: RunOptions, now: datetime) -> LiveChoices:
    if not 0 <= chosen.decide_within_s <= LONGEST_TEST_S:
        raise BadValue(
            f"decide_within_s is {chosen.decide_within_s}.",
            f"Give 0 (no end) to {LONGEST_TEST_S} seconds.",
            field="body.decide_within_s",
        )
    if chosen.declared_at is not None and not now - LONGEST_OUTAGE <= chosen.declared_at <= now:
        raise BadValue(
            f"declared_at is {chosen.declared_at.isoformat()}.",
            f"Give a moment in the past, at most {LONGEST_OUTAGE.days} days ago.",
            field="body.declared_at",
        )
    if chosen.force_after_s is not None and not 0 <= chosen.force_after_s <= 86_400:
        raise BadValue(
            f"force_after_s is {chosen.force_after_s}.",
            "Give 0 (at once) to 86400 seconds, or nothing for what the plan says.",
            field="body.force_after_s",
        )
    disaster = chosen.kind == "disaster"
    return LiveChoices(
        close_down=chosen.close_down or not disaster,
        go_on=chosen.go_on,
        decide_within_s=chosen.decide_within_s,
        then=chosen.then,
        at_commit=chosen.at_commit,
        declared_at=chosen.declared_at if disaster else None,
        acknowledged=chosen.acknowledged and disaster,
        force_after_s=chosen.force_after_s,
    )
