"""Bringing files in: read and compared first, written in one transaction only when a person said so.

Small files are dealt with at once; larger ones in a thread of their own, with progress that can be followed
and a cancel that leaves nothing behind.
"""

from __future__ import annotations

import json
import logging
import threading
import zlib
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import connection, transaction

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, DomainError, NotFound, Refused
from maestoso.core.estate.checks import inventory_complaints, link_check, workload_complaints
from maestoso.core.estate.csv_file import read_csv
from maestoso.core.estate.json_file import read_json
from maestoso.core.estate.ovf import read_ovf
from maestoso.core.estate.staged import SiteRow, Staged
from maestoso.core.files import Complaint
from maestoso.core.model.estate import Inventory
from maestoso.core.model.estate import Link as LinkValue
from maestoso.core.ports import Clock
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

log = logging.getLogger("maestoso.server")
AT_ONCE_BYTES = 300_000
AT_ONCE_ITEMS = 400
CHUNK = 500
JOBS_KEPT = 20
FORGOTTEN = timedelta(minutes=30)


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportOptions:
    """What the file does not say: where rows without a site belong, and what an OVF does not know."""

    site: str = ""
    storage_pool: str = ""
    network: str = ""


class Cancelled(Exception):
    """A person stopped it; the transaction is taken back."""


def begin(name: str, raw: bytes, options: ImportOptions, by: str, clock: Clock) -> ImportJob:
    """Read a file and compare it with what is known; small files at once."""
    old = ImportJob.objects.values_list("pk", flat=True)[JOBS_KEPT - 1 :]
    ImportJob.objects.filter(pk__in=list(old)).delete()
    job = ImportJob.objects.create(
        file_name=name[:200] or "file", options=to_data(options), by=by, at=clock.now()
    )
    _work(job, lambda: _read(job, name, raw, options), at_once=len(raw) <= AT_ONCE_BYTES)
    job.refresh_from_db()
    return job


def find_job(pk: int, clock: Clock) -> ImportJob:
    """One import; one that a restart interrupted is over."""
    job = ImportJob.objects.filter(pk=pk).first()
    if job is None:
        raise NotFound(f"There is no import {pk}.", "Import the file again.")
    if job.state in ("reading", "writing") and clock.now() - job.at > FORGOTTEN:
        ImportJob.objects.filter(pk=pk).update(state="failed", problem="The server was restarted meanwhile.")
        job.refresh_from_db()
    return job


def confirm(pk: int, token: str, clock: Clock) -> ImportJob:
    """Write what was previewed. Raises Refused unless it waits for that."""
    if not ImportJob.objects.filter(pk=pk, state="ready").update(state="writing", done=0, at=clock.now()):
        job = find_job(pk, clock)
        raise Refused(
            f"This import is {job.state}; only one that is ready can be confirmed.",
            "Import the file again.",
        )
    job = find_job(pk, clock)
    _work(job, lambda: _write(job, token, clock), at_once=job.total <= AT_ONCE_ITEMS)
    job.refresh_from_db()
    return job


def cancel(pk: int, clock: Clock) -> ImportJob:
    """Stop an import; what was begun is taken back."""
    job = find_job(pk, clock)
    ImportJob.objects.filter(pk=pk, state="ready").update(state="cancelled")
    ImportJob.objects.filter(pk=pk, state__in=("reading", "writing")).update(cancel=True)
    job.refresh_from_db()
    return job


def staged_of(job: ImportJob) -> dict[str, Any]:
    """What the file would bring."""
    staged: dict[str, Any] = json.loads(zlib.decompress(job.staged)) if job.staged else {}
    return staged


def _work(job: ImportJob, work: Callable[[], None], *, at_once: bool) -> None:
    def guarded() -> None:
        try:
            work()
        except Cancelled:
            _close(job, "cancelled", "")
        except DomainError as error:
            _close(job, "failed", f"{error.sentence} {error.remedy}".strip())
        except Exception:
            log.exception("Import %s failed", job.pk)
            _close(job, "failed", "Something went wrong here. It was logged; nothing was changed.")

    def apart() -> None:
        try:
            guarded()
        finally:
            connection.close()

    if at_once:
        guarded()
    else:
        threading.Thread(target=apart, name=f"import {job.pk}", daemon=True).start()


def _close(job: ImportJob, state: str, problem: str) -> None:
    ImportJob.objects.filter(pk=job.pk).update(state=state, problem=problem)


# --- reading ---


def _read(job: ImportJob, name: str, raw: bytes, options: ImportOptions) -> None:
    staged = _parse(name, raw, options)
    ImportJob.objects.filter(pk=job.pk).update(total=len(staged.workloads))
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
            _look_up(job, number)
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
    ImportJob.objects.filter(pk=job.pk, cancel=False).update(
        staged=zlib.compress(json.dumps(packed).encode(), 1), summary=summary, state="ready",
        total=counts["new"] + counts["changed"] + len(staged.sites) + len(staged.links), done=0,
    )  # fmt: skip
    ImportJob.objects.filter(pk=job.pk, cancel=True).update(state="cancelled")


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
        host_pools=row.host_pools, storage_pools=row.storage_pools, networks=row.networks, limits=row.limits
    )


def _look_up(job: ImportJob, done: int) -> None:
    """Say how far it is, and stop where a person wants that."""
    ImportJob.objects.filter(pk=job.pk).update(done=done)
    _stop_if_cancelled(job)


def _stop_if_cancelled(job: ImportJob) -> None:
    if ImportJob.objects.filter(pk=job.pk, cancel=True).exists():
        raise Cancelled


# --- writing ---


def _write(job: ImportJob, token: str, clock: Clock) -> None:
    packed = staged_of(job)
    # Progress goes over a connection of its own: what the transaction writes nobody sees before its end.
    with ThreadPoolExecutor(max_workers=1) as aside:

        def say(done: int) -> None:
            _stop_if_cancelled(job)
            if job.total > AT_ONCE_ITEMS:
                aside.submit(_say, job.pk, done)

        with transaction.atomic():
            touched = _write_sites(packed, token, clock)
            touched |= _write_workloads(packed, say)
            mark_changed()
            workloads_changed()
            _stop_if_cancelled(job)
        for site in touched:
            # One that is away says otherwise until it is told; the page of the sites shows that.
            with suppress(Refused):
                update_practice_site(site)
        aside.submit(connection.close)
    ImportJob.objects.filter(pk=job.pk).update(state="done", done=job.total, staged=b"")


def _say(pk: int, done: int) -> None:
    ImportJob.objects.filter(pk=pk).update(done=done)


def _write_sites(packed: dict[str, Any], token: str, clock: Clock) -> set[Site]:
    touched: set[Site] = set()
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
            touched.add(site)
    for data in packed["links"]:
        link = from_data(LinkValue, data)
        known = find_link(link.one, link.other)
        if known is None or known.core() != link:
            save_link(link)
    return touched


def _write_workloads(packed: dict[str, Any], say: Callable[[int], None]) -> set[Site]:
    items = [item for item in packed["workloads"] if item["change"] != "same"]
    sites = {code: find_site(code) for code in dict.fromkeys(item["site"] for item in items)}
    for begin_at in range(0, len(items), CHUNK):
        say(begin_at)
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
        WorkloadRow.objects.bulk_create(fresh)
        WorkloadRow.objects.bulk_update(changed, ["spec", "revision"])
    return set(sites.values())
