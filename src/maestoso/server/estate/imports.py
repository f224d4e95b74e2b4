"""Bringing files in: read and compared first, written in one transaction only when a person said so.

Both are jobs: whoever works at them may die, and nothing is written twice or by half.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.estate.checks import inventory_complaints, link_check, workload_complaints
from maestoso.core.estate.csv_file import read_csv
from maestoso.core.estate.json_file import read_json
from maestoso.core.estate.ovf import read_ovf
from maestoso.core.estate.staged import SiteRow, Staged
from maestoso.core.files import Complaint
from maestoso.core.model.estate import Inventory
from maestoso.core.model.estate import Link as LinkValue
from maestoso.core.ports import Clock
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.changes import noted
from maestoso.server.common.secret_text import seal, unseal
from maestoso.server.estate.models import ImportJob, Site, WorkloadRow
from maestoso.server.estate.services import (
    find_link,
    find_site,
    keep_things,
    register_site,
    save_link,
    update_practice_site,
)
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.estate.snapshot import mark_changed, workloads_changed
from maestoso.server.jobs import services as jobs
from maestoso.server.jobs.work import Work, job_kind

CLOCK = SystemClock()

CHUNK = 500
IMPORTS_KEPT = 20
WAITED_S = 2.0
"""Small files are done by then, and whoever imports one need not ask again."""
READING, READY, WRITING, DONE, CANCELLED, FAILED = (
    "reading", "ready", "writing", "done", "cancelled", "failed",
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportOptions:
    """What the file does not say: where rows without a site belong, and what an OVF does not know."""

    site: str = ""
    storage_pool: str = ""
    network: str = ""


def begin(name: str, raw: bytes, options: ImportOptions, by: str, clock: Clock) -> ImportJob:
    """Read a file and compare it with what is known. Raises TooMuchAtOnce."""
    name = name[:200] or "file"
    with transaction.atomic():
        old = ImportJob.objects.values_list("pk", flat=True)[IMPORTS_KEPT - 1 :]
        ImportJob.objects.filter(pk__in=list(old)).delete()
        row = ImportJob.objects.create(file_name=name, options=to_data(options), by=by, at=clock.now())
        _ask(row, "read-import", f"Reading {name}", by=by, given=raw)
    return _awaited(row)


def find_import(pk: int) -> ImportJob:
    """One import. Raises NotFound."""
    row = ImportJob.objects.select_related("job").filter(pk=pk).first()
    if row is None:
        raise NotFound(f"There is no import {pk}.", "Import the file again.")
    return row


def confirm(pk: int, token: str, by: str) -> ImportJob:
    """Write what was previewed. Raises Refused unless it waits for that, TooMuchAtOnce."""
    with transaction.atomic():
        if not ImportJob.objects.filter(pk=pk, state=READY).update(state=WRITING):
            raise Refused(
                f"This import is {state_of(find_import(pk))}; only one that is ready can be confirmed.",
                "Import the file again.",
            )
        row = find_import(pk)
        _ask(row, "write-import", f"Importing {row.file_name}", by=by, token=seal(token))
    return _awaited(row)


def cancel(pk: int) -> ImportJob:
    """Stop an import; what was begun is taken back."""
    row = find_import(pk)
    if not ImportJob.objects.filter(pk=pk, state=READY).update(state=CANCELLED) and row.job is not None:
        with suppress(Refused):  # it is over, and says how
            jobs.cancel(row.job)
    return find_import(pk)


def state_of(row: ImportJob) -> str:
    """How an import stands: while it is read or written, as its job does."""
    if row.state not in (READING, WRITING):
        return row.state
    if row.job is None:
        return FAILED
    return row.job.state if row.job.state in (CANCELLED, FAILED) else row.state


def problem_of(row: ImportJob) -> str:
    """Why an import failed, in words; empty where it did not."""
    if state_of(row) != FAILED:
        return ""
    return row.job.why() if row.job else "It was never finished."


def _ask(row: ImportJob, kind: str, about: str, *, by: str, given: bytes = b"", **more: str) -> None:
    row.job = jobs.begin(kind, about, {"import": row.pk, **more}, by=by, given=given)
    row.save(update_fields=["job"])


def _awaited(row: ImportJob) -> ImportJob:
    if row.job is not None:
        jobs.settled(row.job, WAITED_S)
    return find_import(row.pk)


def staged_of(job: ImportJob) -> dict[str, Any]:
    """What the file would bring."""
    staged: dict[str, Any] = json.loads(zlib.decompress(job.staged)) if job.staged else {}
    return staged


# --- reading ---


@job_kind("read-import")
def _read(work: Work) -> None:
    row = find_import(work.args["import"])
    staged = _parse(row.file_name, work.given(), from_data(ImportOptions, row.options))
    complaints = list(staged.complaints)
    inventories = _inventories(staged, complaints)
    known = {
        row.name: (row.site.code, row.spec)
        for row in WorkloadRow.objects.select_related("site").filter(
            name__in=[item.workload.name for item in staged.workloads]
        )
    }
    items, counts = [], {"new": 0, "changed": 0, "same": 0}
    for number, item in enumerate(staged.workloads):
        if number % CHUNK == 0:
            work.tell(number, len(staged.workloads))
        wrong = next(iter(workload_complaints(item.workload, inventories.get(item.site))), None)
        if item.site not in inventories:
            wrong = ("site", f"There is no site {item.site[:40]!r}.", "Add the site, or correct the row.")
        before = known.get(item.workload.name)
        if before is not None and before[0] != item.site:
            wrong = (
                "site",
                f"{item.workload.name} is at {before[0]}, not at {item.site}.",
                "Correct one of them.",
            )
        if wrong is not None:
            complaints.append(Complaint(row=item.row, column=wrong[0], sentence=f"{wrong[1]} {wrong[2]}"))
            continue
        spec = to_data(item.workload)
        change = "new" if before is None else "same" if before[1] == spec else "changed"
        counts[change] += 1
        items.append({"row": item.row, "site": item.site, "change": change, "spec": spec})
    complaints.sort(key=lambda one: one.row)
    packed = {
        "sites": to_data(staged.sites), "links": to_data(staged.links), "workloads": items,
        "complaints": to_data(complaints),
    }  # fmt: skip
    summary = {
        "rows": staged.rows, **counts, "bad": len(complaints), "links": len(staged.links),
        "sites": [site.code for site in staged.sites],
    }  # fmt: skip
    with work.changing():
        ImportJob.objects.filter(pk=row.pk, state=READING).update(
            staged=zlib.compress(json.dumps(packed).encode(), 1), summary=summary, state=READY
        )


def _parse(name: str, raw: bytes, options: ImportOptions) -> Staged:
    suffix = name.lower().rpartition(".")[2]
    first = raw.lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
    if suffix in ("ovf", "ova") or first == b"<":
        return read_ovf(raw, options.site, options.storage_pool, options.network)
    if suffix == "json" or (suffix != "csv" and first in (b"{", b"[")):
        return read_json(raw, options.site)
    return read_csv(raw, options.site)


def _inventories(staged: Staged, complaints: list[Complaint]) -> dict[str, Inventory]:
    """What every site has, after the sites of the file came in; complains about those that cannot."""
    found = {site.code: site.things() for site in Site.objects.all()}
    for number, row in enumerate(staged.sites, start=1):
        made = _inventory(row)
        for field, sentence, remedy in inventory_complaints(made):
            complaints.append(Complaint(row=number, column=f"sites.{field}", sentence=f"{sentence} {remedy}"))
        found[row.code] = made
    for number, link in enumerate(staged.links, start=1):
        try:
            link_check(link)
            if link.one not in found or link.other not in found or link.one == link.other:
                raise BadValue(f"The link {link.one} to {link.other} has no two sites.", field="one")
        except BadValue as error:
            complaints.append(Complaint(row=number, column=f"links.{error.field}", sentence=error.sentence))
    return found


def _inventory(row: SiteRow) -> Inventory:
    return Inventory(
        host_pools=row.host_pools, storage_pools=row.storage_pools, networks=row.networks, limits=row.limits,
        front_doors=row.front_doors, door_addresses=row.door_addresses,
    )  # fmt: skip


# --- writing ---


@job_kind("write-import")
def _write(work: Work) -> None:
    row = find_import(work.args["import"])
    packed = staged_of(row)
    if row.state == WRITING:
        with work.changing():
            _write_sites(packed, unseal(work.args["token"]), CLOCK)
            _write_workloads(packed, work.tell)
            mark_changed()
            workloads_changed()
            # Whoever works at it again finds it done, and only tells the sites.
            ImportJob.objects.filter(pk=row.pk).update(state=DONE)
    codes = {one["code"] for one in packed["sites"]} | {one["site"] for one in packed["workloads"]}
    for site in Site.objects.filter(code__in=codes):
        # One that is away says otherwise until it is told; the page of the sites shows that.
        with suppress(Refused):
            update_practice_site(site)
    ImportJob.objects.filter(pk=row.pk).update(staged=b"")


def _write_sites(packed: dict[str, Any], token: str, clock: Clock) -> None:
    for data in packed["sites"]:
        row = from_data(SiteRow, data)
        for field, sentence, remedy in inventory_complaints(_inventory(row)):
            raise BadValue(sentence, remedy, field=field)
        site = Site.objects.filter(code=row.code).first()
        if site is None:
            site = register_site(
                code=row.code, name=row.name, kind=row.kind, time_zone=row.time_zone,
                agent=AgentAt(agent_url=row.agent, token=token), clock=clock, fetch=False,
            )  # fmt: skip
        before = (site.name, site.kind, site.time_zone, site.inventory)
        site.name, site.kind, site.time_zone = row.name, row.kind, row.time_zone
        keep_things(site, _inventory(row))
        if (site.name, site.kind, site.time_zone, site.inventory) != before:
            site.save()
    for data in packed["links"]:
        link = from_data(LinkValue, data)
        known = find_link(link.one, link.other)
        if known is None or known.core() != link:
            save_link(link)


def _write_workloads(packed: dict[str, Any], tell: Callable[[int, int], None]) -> None:
    items = [item for item in packed["workloads"] if item["change"] != "same"]
    sites = {code: find_site(code) for code in dict.fromkeys(item["site"] for item in items)}
    for begin_at in range(0, len(items), CHUNK):
        tell(begin_at, len(items))
        chunk = items[begin_at : begin_at + CHUNK]
        names = [item["spec"]["name"] for item in chunk]
        known = {row.name: row for row in WorkloadRow.objects.filter(name__in=names)}
        fresh, changed = [], []
        for item in chunk:
            row = known.get(item["spec"]["name"])
            if row is None:
                fresh.append(
                    WorkloadRow(name=item["spec"]["name"], site=sites[item["site"]], spec=item["spec"])
                )
            else:
                row.spec, row.revision = item["spec"], row.revision + 1
                changed.append(row)
        with noted(fresh), noted(changed):
            WorkloadRow.objects.bulk_create(fresh)
            WorkloadRow.objects.bulk_update(changed, ["spec", "revision"])
    tell(len(items), len(items))
