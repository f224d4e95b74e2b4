"""The estate as the API shows it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.estate.row import Row
from maestoso.core.estate.uses import uses
from maestoso.core.files import Complaint
from maestoso.core.landing.room import usage
from maestoso.core.people.scope import Reach
from maestoso.engine.clock import SystemClock
from maestoso.server.common.hooks import Hook
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.drift import drifted
from maestoso.server.estate.imports import problem_of, staged_of, state_of
from maestoso.server.estate.models import ImportJob, Link, Site, WorkloadRow
from maestoso.server.estate.services import lacks, odd_of
from maestoso.server.estate.shapes import (
    Found,
    ImportRowView,
    ImportView,
    Neighbour,
    Sites,
    SiteView,
    UseMap,
    WorkloadBrief,
    WorkloadDetail,
)
from maestoso.server.estate.snapshot import estate
from maestoso.server.estate.trust import certificate_until
from maestoso.server.jobs.services import seconds_left

CLOCK = SystemClock()
ROWS_SHOWN = 300


def brief(row: Row) -> WorkloadBrief:
    """One row of the table."""
    return WorkloadBrief(
        name=row.name, site=row.site, group=row.group, os_family=row.os_family, cores=row.cores,
        memory_mib=row.memory_mib, size_gib=row.size_gib, left_out=row.left_out, tags=row.tags,
        addresses=row.addresses, offers=row.offers, uses=row.uses,
    )  # fmt: skip


def search_result(matched: Sequence[Row], rows: Sequence[Row], reach: Reach) -> Found:
    """A stretch of what a filter found, beside all that is within reach."""
    known = [row for name, row in estate().rows.items() if reach.has("workload", name)]
    return Found(
        total=len(known), protected=sum(1 for row in known if row.group), matched=len(matched),
        rows=tuple(map(brief, rows)),
    )  # fmt: skip


def use_map(reach: Reach) -> UseMap:
    """Dependencies between all workloads within reach."""
    rows = {name: row for name, row in estate().rows.items() if reach.has("workload", name)}
    found = uses(rows.values())
    named = {use.user for use in found} | {use.provider for use in found if use.provider}
    return UseMap(uses=found, rows=tuple(brief(row) for row in rows.values() if row.name in named))


detail_of: Hook[[WorkloadRow], dict[str, Any]] = Hook()
"""Fields of the details of a workload that other features know."""


def detail(row: WorkloadRow) -> WorkloadDetail:
    """Everything of one workload."""
    rows = estate().rows
    workload = row.core()
    offered = {service.name for service in workload.offers}
    provider = {service: other for other in reversed(rows.values()) for service in other.offers}
    needs = [
        Neighbour(workload=other.name if (other := provider.get(service)) else "", service=service,
                  protected_by=other.group if other else "")
        for service in workload.uses
    ]  # fmt: skip
    needed_by = [
        Neighbour(workload=other.name, service=service, protected_by=other.group)
        for other in rows.values()
        for service in other.uses
        if service in offered and provider[service].name == row.name
    ]
    more = {name: value for part in detail_of(row) for name, value in part.items()}
    return WorkloadDetail(
        site=row.site.code, group=rows[row.name].group, revision=row.revision, workload=workload,
        needs=tuple(needs), needed_by=tuple(needed_by), **more,
    )  # fmt: skip


def sites(reach: Reach) -> Sites:
    """All sites within reach, and the links between them."""
    links = Link.objects.select_related("one", "other").order_by("id")
    return Sites(
        sites=tuple(site_view(site) for site in Site.objects.all() if reach.has("site", site.code)),
        links=tuple(
            link.core() for link in links
            if reach.has("site", link.one.code) and reach.has("site", link.other.code)
        ),
    )  # fmt: skip


def site_view(site: Site) -> SiteView:
    """One site."""
    taken = pulse(site)
    has, here = site.things(), estate().ground.sites[site.code].workloads
    return SiteView(
        code=site.code, name=site.name, kind=site.kind, time_zone=site.time_zone, agent_url=site.agent_url,
        practice=site.practice, takes_over=site.takes_over, workloads=site.workloads.count(),
        inventory_at=site.inventory_at, lost_because=taken.lost_because,
        forgot_at=site.forgot_at, skew_s=round(taken.skew_s, 1),
        drifted=drifted(site), host_pools=has.host_pools, storage_pools=has.storage_pools,
        networks=has.networks, limits=has.limits, front_doors=has.front_doors,
        door_addresses=tuple(map(str, has.door_addresses)),
        in_use={pool.name: usage(pool, here) for pool in has.host_pools}, odd=odd_of(site),
        lacks=tuple(sorted(lacks(site))), certificate=site.agent_certificate,
        certificate_until=certificate_until(site),
    )  # fmt: skip


def import_view(job: ImportJob) -> ImportView:
    """How an import stands."""
    staged, summary, work = staged_of(job), job.summary, job.job
    rows: Iterable[dict[str, str]] = staged.get("workloads", [])[:ROWS_SHOWN]
    state: Any = state_of(job)
    left_s = seconds_left(work, CLOCK.now()) if work else None
    return ImportView(
        id=job.pk, file_name=job.file_name, state=state, done=work.done if work else 0,
        total=work.total if work else 0, left_s=left_s, problem=problem_of(job),
        new=summary.get("new", 0), changed=summary.get("changed", 0),
        same=summary.get("same", 0), bad=summary.get("bad", 0), sites=tuple(summary.get("sites", [])),
        links=summary.get("links", 0),
        rows=tuple(
            ImportRowView(row=int(r["row"]), site=r["site"], name=r["spec"]["name"], change=r["change"])  # type: ignore[arg-type,index]
            for r in rows
        ),
        complaints=tuple(from_data(Complaint, one) for one in staged.get("complaints", [])[:ROWS_SHOWN]),
    )  # fmt: skip
