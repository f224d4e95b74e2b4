"""Outages are declared, said again, and withdrawn. What follows is for people to decide."""

from __future__ import annotations

from datetime import datetime, timedelta
from urllib.parse import quote, urlencode

from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.model.plan import Plan
from maestoso.core.people.scope import Reach
from maestoso.core.planning.parts import expand_parts
from maestoso.core.planning.turned import is_away
from maestoso.server.audit.record import recorded
from maestoso.server.common.news import announce
from maestoso.server.declared.models import DeclaredOutage
from maestoso.server.declared.shapes import OutageDeclared, OutageView
from maestoso.server.estate.models import Site
from maestoso.server.plans.services import newest_versions
from maestoso.server.protection.services import rows_and_groups

LONGEST_REASON = 500
AHEAD = timedelta(minutes=5)
"""How far the clock of whoever declares may be ahead of ours."""
LONGEST_AGO = timedelta(days=30)


def still_declared() -> list[DeclaredOutage]:
    """What nobody withdrew."""
    return list(DeclaredOutage.objects.filter(ended_at__isnull=True).order_by("said_at"))


def views(reach: Reach) -> list[OutageView]:
    """All that stand, within reach."""
    return [_view(row) for row in still_declared() if reach.has("plan", row.plan)]


@recorded()
def declare(sent: OutageDeclared, *, by: str, at: datetime) -> tuple[OutageView, bool]:
    """Say that a site is down; and whether that is news.

    One stands for each site: said again, it is the same. Raises BadValue, NotFound, or Refused where no plan
    would recover it.
    """
    reason = " ".join(sent.reason.split())
    if not 1 <= len(reason) <= LONGEST_REASON:
        raise BadValue(
            f"The reason has {len(reason)} characters.",
            f"Give 1 to {LONGEST_REASON}: what was seen, and by what.", field="body.reason",
        )  # fmt: skip
    if bool(sent.site) == bool(sent.plan):
        both = "Both a site and a plan are" if sent.site else "Neither a site nor a plan is"
        raise BadValue(f"{both} named.", "Name one of them, by its code.", field="body.site")
    since = sent.since or at
    if not at - LONGEST_AGO <= since <= at + AHEAD:
        raise BadValue(
            f"{since:%Y-%m-%d %H:%M} is no moment of an outage.",
            f"Give one of the last {LONGEST_AGO.days} days, in UTC or with its offset.", field="body.since",
        )  # fmt: skip
    plan, code = _plan_of(sent)
    # Two who say so at once say the same: whoever comes second finds what the first wrote.
    Site.objects.select_for_update().get(code=code)
    row = DeclaredOutage.objects.filter(site=code, ended_at__isnull=True).first()
    news = row is None
    if row is None:
        row = DeclaredOutage(site=code, plan=plan.code, since=min(since, at), said_at=at)
    row.by, row.reason, row.again_at = by, reason, at
    row.save()
    announce()
    return _view(row), news


@recorded()
def withdraw(number: int, *, by: str, at: datetime) -> OutageView:
    """It is not so, or not any more. Raises NotFound."""
    row = DeclaredOutage.objects.select_for_update().filter(pk=number).first()
    if row is None:
        raise NotFound("There is no such declared outage.", "See which there are, and choose one.")
    if row.ended_at is None:
        row.ended_at, row.ended_by = at, by
        row.save()
        announce()
    return _view(row)


def start_page(row: DeclaredOutage) -> str:
    """The page where its recovery would be started, with the moment that the outage clock counts from."""
    asked = urlencode(
        {"kind": "disaster", "since": row.since.isoformat(timespec="seconds"), "declared": row.pk}
    )
    return f"/plans/{quote(row.plan)}/start?{asked}"


def _plan_of(sent: OutageDeclared) -> tuple[Plan, str]:
    """The plan that is named, or of a site the one that brings up most of what is lost with it; and the site
    where it all runs now."""
    plans = {version.plan.code: version.core() for version in newest_versions()}
    groups = [group for _, group in rows_and_groups()]

    def runs_at(plan: Plan) -> str:
        return plan.target if is_away(expand_parts(plan, plans.get).plan, groups) else plan.source

    if sent.plan:
        if sent.plan not in plans:
            raise NotFound(f"There is no plan {sent.plan[:20]!r}.", "Use the code of a plan.")
        return plans[sent.plan], runs_at(plans[sent.plan])
    if not Site.objects.filter(code=sent.site).exists():
        raise NotFound(f"There is no site {sent.site[:20]!r}.", "Use the code of a site.")
    ways = [plan for plan in plans.values() if runs_at(plan) == sent.site]
    if not ways:
        raise Refused(
            f"No plan brings up elsewhere what runs at {sent.site}.",
            "Make one, or name the plan that is meant.",
        )
    most = max(ways, key=lambda plan: len(expand_parts(plan, plans.get).plan.workloads()))
    return most, sent.site


def _view(row: DeclaredOutage) -> OutageView:
    names = {
        version.plan.code: version.core().name for version in newest_versions().filter(plan__code=row.plan)
    }
    return OutageView(
        id=row.pk, site=row.site, plan=row.plan, since=row.since, reason=row.reason, by=row.by,
        site_name=Site.objects.filter(code=row.site).values_list("name", flat=True).first() or row.site,
        plan_name=names.get(row.plan, row.plan), said_at=row.said_at, again_at=row.again_at,
        ended_at=row.ended_at, ended_by=row.ended_by, to=start_page(row),
    )  # fmt: skip
