"""The estate as a file, made by a job."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, cast

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue
from maestoso.core.estate.csv_file import write_csv
from maestoso.core.estate.json_file import write_json
from maestoso.core.estate.staged import SiteRow
from maestoso.core.model.estate import Workload
from maestoso.core.people.roles import SEE
from maestoso.server.estate import workloads
from maestoso.server.estate.models import Link, Site, WorkloadRow
from maestoso.server.estate.services import PRACTICE
from maestoso.server.jobs import services
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.work import Work, job_kind

MEDIA = {"csv": "text/csv; charset=utf-8", "json": "application/json"}
CHUNK = 1000


def begin_export(kind: str, query: str, *, by: str) -> Job:
    """Ask for what a filter finds as a file of a kind of :data:`MEDIA`.

    Raises BadValue for another, and for a filter that cannot be read.
    """
    if kind not in MEDIA:
        raise BadValue(f"as is {kind[:40]!r}.", "Give csv or json.", field="as")
    workloads.search(query)
    about = f"Estate as {kind.upper()}"
    return services.begin("export", about, {"as": kind, "filter": query}, by=by, needs=(SEE,))


@job_kind("export")
def _export(work: Work) -> None:
    names = {row.name for row in workloads.search(work.args["filter"])}
    rows = WorkloadRow.objects.select_related("site").filter(name__in=names).order_by("id")
    kind = str(work.args["as"])

    def pairs() -> Iterator[tuple[str, Workload]]:
        for number, row in enumerate(rows.iterator(chunk_size=CHUNK)):
            if number % CHUNK == 0:
                work.tell(number, len(names))
            yield row.site.code, from_data(Workload, row.spec)

    work.file(f"estate.{kind}", MEDIA[kind])
    for line in write_csv(pairs()) if kind == "csv" else [_estate(pairs())]:
        work.write(line.encode())


def _estate(pairs: Iterator[tuple[str, Workload]]) -> str:
    sites = [
        SiteRow(
            code=site.code, name=site.name, kind=cast(Any, site.kind), time_zone=site.time_zone,
            agent=PRACTICE if site.practice else site.agent_url, host_pools=has.host_pools,
            storage_pools=has.storage_pools, networks=has.networks, limits=has.limits,
            front_doors=has.front_doors, door_addresses=has.door_addresses,
        )
        for site in Site.objects.all()
        for has in [site.things()]
    ]  # fmt: skip
    links = [link.core() for link in Link.objects.select_related("one", "other").order_by("id")]
    return write_json(sites, links, pairs)
