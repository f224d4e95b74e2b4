"""What can be done with workloads."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from functools import partial
from typing import Any
from urllib.parse import quote

from django.db import transaction

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.estate.checks import TAG, workload_complaints
from maestoso.core.estate.filter import compile_filter
from maestoso.core.estate.row import Row
from maestoso.core.model.estate import Workload
from maestoso.server.audit.changes import noted
from maestoso.server.audit.record import recorded
from maestoso.server.estate import retired, usage
from maestoso.server.estate.models import SavedFilter, Site, WorkloadRow
from maestoso.server.estate.services import find_site, update_practice_site
from maestoso.server.estate.snapshot import estate, mark_changed, workloads_changed

SORTS: dict[str, Callable[[Row], Any]] = {
    "name": lambda row: row.name,
    "site": lambda row: (row.site, row.name),
    "group": lambda row: (row.group == "", row.group, row.name),
    "cores": lambda row: (row.cores, row.name),
    "memory": lambda row: (row.memory_mib, row.name),
    "size": lambda row: (row.size_gib, row.name),
    "os": lambda row: (row.os_family, row.name),
}


def search(text: str, sort: str = "name") -> list[Row]:
    """Rows that a filter lets through, sorted; a minus before the sort turns it around."""
    key = SORTS.get(sort.removeprefix("-"))
    if key is None:
        raise BadValue(f"sort is {sort[:40]!r}.", f"Use one of: {', '.join(SORTS)}.", field="sort")
    test = compile_filter(text)
    found = [row for row in estate().rows.values() if test(row)]
    return sorted(found, key=key, reverse=sort.startswith("-"))


def find_workload(name: str) -> WorkloadRow:
    """The workload of that name. Raises NotFound."""
    row = WorkloadRow.objects.select_related("site").filter(name=name).first()
    if row is None:
        raise NotFound(f"There is no workload {name!r}.", "Choose one on the page Estate.")
    return row


@recorded()
def make_workload(site_code: str, workload: Workload) -> WorkloadRow:
    """Write a new workload down."""
    site = find_site(site_code)
    if WorkloadRow.objects.filter(name=workload.name).exists():
        raise Refused(f"There is a workload {workload.name} already.", "Names are unique.", field="body.name")
    _check(workload, site)
    row = WorkloadRow.objects.create(name=workload.name, site=site, spec=to_data(workload))
    _settle({site})
    return row


@recorded()
def change_workload(name: str, workload: Workload, revision: int) -> WorkloadRow:
    """Change everything but the name. Raises Stale where somebody was quicker."""
    row = WorkloadRow.objects.select_for_update().get(pk=find_workload(name).pk)
    if row.revision != revision:
        raise Stale(f"{name} was changed in between.", "Look at what it is now, then change it again.")
    if workload.name != name:
        raise BadValue(
            f"The name would change to {workload.name}.", "Names stay.", field="body.workload.name"
        )
    _check(workload, row.site)
    row.spec, row.revision = to_data(workload), row.revision + 1
    row.save()
    _settle({row.site})
    return row


@recorded()
def retire_workload(name: str, *, by: str, at: datetime) -> None:
    """Take a workload that nothing uses out of the estate."""
    row = find_workload(name)
    usage.refuse_if_used(name, usage.of_workload(name))
    retired.keep("workload", name, {"site": row.site.code, "workload": row.spec}, by=by, at=at)
    row.delete()
    # The records do not say any more what the agent does, though it says the same as before.
    Site.objects.filter(pk=row.site.pk, practice=False).update(inventory_mark="")
    _settle({row.site})


@retired.way_back("workload")
def _bring_back(body: dict[str, Any], by: str, at: datetime) -> str:
    workload = from_data(Workload, body["workload"])
    make_workload(body["site"], workload)
    return f"/estate?open={quote(workload.name)}"


@recorded()
def tag(names: list[str], add: dict[str, str], remove: list[str]) -> int:
    """Give many workloads tags and take others away; how many changed."""
    for key, value in add.items():
        if not TAG.fullmatch(key) or len(value) > 200:
            raise BadValue(
                f"{key[:60]!r} is no name for a tag.",
                "Use letters, digits, dots and dashes.",
                field="body.add",
            )
    rows = list(WorkloadRow.objects.select_for_update().filter(name__in=names).select_related("site"))
    unknown = sorted(set(names) - {row.name for row in rows})
    if unknown:
        raise NotFound(f"There is no workload {unknown[0]!r}.", "Choose again; nothing was changed.")
    changed = []
    for row in rows:
        tags = {key: value for key, value in row.spec["tags"].items() if key not in remove} | add
        if tags != row.spec["tags"]:
            row.spec, row.revision = {**row.spec, "tags": tags}, row.revision + 1
            changed.append(row)
    with noted(changed):
        WorkloadRow.objects.bulk_update(changed, ["spec", "revision"], batch_size=500)
    if changed:
        _settle({row.site for row in changed})
    return len(changed)


@recorded()
def save_filter(owner: str, name: str, text: str) -> None:
    """Name a filter, or give a name another one. Raises BadFilter for one that cannot be read."""
    if not name.strip() or len(name) > 80:
        raise BadValue(
            "The filter has no name, or a long one.", "Give 1 to 80 characters.", field="body.name"
        )
    compile_filter(text)
    SavedFilter.objects.update_or_create(owner=owner, name=name.strip(), defaults={"text": text})


@recorded()
def forget_filter(owner: str, name: str) -> None:
    """Forget a filter that somebody named."""
    SavedFilter.objects.filter(owner=owner, name=name).delete()


def _check(workload: Workload, site: Site) -> None:
    for field, sentence, remedy in workload_complaints(workload, site.things()):
        raise BadValue(sentence, remedy, field=f"body.workload.{field}")
    macs = {nic.mac for nic in workload.nics}
    for row in estate().rows.values():
        if row.name != workload.name and macs & set(row.macs):
            raise BadValue(
                f"{row.name} has the MAC address {sorted(macs & set(row.macs))[0]} already.",
                "Give each adapter its own.",
                field="body.workload.nics",
            )


def _settle(sites: set[Site]) -> None:
    mark_changed()
    workloads_changed()
    for site in sites:
        transaction.on_commit(partial(update_practice_site, site))
