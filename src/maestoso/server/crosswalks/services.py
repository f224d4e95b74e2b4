"""What can be done with crosswalks."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.files import Complaint
from maestoso.core.landing.shape import complaints
from maestoso.core.landing.table_file import read_table
from maestoso.core.landing.twin import Twin, twin
from maestoso.core.model.crosswalk import Crosswalk, NicEntry
from maestoso.server.audit.record import recorded
from maestoso.server.crosswalks.models import CrosswalkRow
from maestoso.server.estate import retired
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate, mark_changed, part_of_estate
from maestoso.server.plans.models import PlanRow


def find_crosswalk(source: str, target: str) -> CrosswalkRow:
    """The crosswalk in that direction. Raises NotFound."""
    rows = CrosswalkRow.objects.select_related("source", "target")
    row = rows.filter(source__code=source, target__code=target).first()
    if row is None:
        raise NotFound(f"There is no crosswalk {source} to {target}.", "Make it on the page Crosswalks.")
    return row


def crosswalk_between(source: str, target: str) -> Crosswalk | None:
    """The crosswalk in that direction, if there is one."""
    row = CrosswalkRow.objects.filter(source__code=source, target__code=target).first()
    return row.core() if row else None


@part_of_estate("crosswalks")
def _all_crosswalks() -> dict[tuple[str, str], Crosswalk]:
    rows = CrosswalkRow.objects.select_related("source", "target").defer(
        "source__inventory", "target__inventory"
    )
    return {(row.source.code, row.target.code): row.core() for row in rows}


@recorded()
def make_crosswalk(crosswalk: Crosswalk, *, by: str = "", at: datetime | None = None) -> CrosswalkRow:
    """Make the first crosswalk in its direction. Raises Refused where there is one."""
    ends = _ends(crosswalk)
    if CrosswalkRow.objects.filter(source=ends[0], target=ends[1]).exists():
        raise Refused(
            f"There is a crosswalk {crosswalk.source} to {crosswalk.target} already.",
            "Change that one.",
            code="exists",
        )
    mark_changed()
    return CrosswalkRow.objects.create(
        source=ends[0], target=ends[1], body=to_data(crosswalk), changed_by=by, changed_at=at
    )


@recorded()
def save_crosswalk(crosswalk: Crosswalk, revision: int, *, by: str, at: datetime) -> CrosswalkRow:
    """Replace a crosswalk. Raises Stale where somebody was quicker."""
    _ends(crosswalk)
    found = find_crosswalk(crosswalk.source, crosswalk.target)
    row = CrosswalkRow.objects.select_for_update().select_related("source", "target").get(pk=found.pk)
    if row.revision != revision:
        raise Stale(
            f"{row.changed_by or 'Somebody'} changed the crosswalk {crosswalk.source} to {crosswalk.target} "
            "in between.",
            "Your changes are still on the page; load the crosswalk again and repeat what matters.",
        )
    row.body, row.revision, row.changed_by, row.changed_at = to_data(crosswalk), revision + 1, by, at
    row.save()
    mark_changed()
    return row


@recorded()
def retire_crosswalk(source: str, target: str, *, by: str, at: datetime) -> None:
    """Take a crosswalk away by which no plan lands. Raises Refused naming the plans."""
    row = find_crosswalk(source, target)
    plans = [plan.code for plan in PlanRow.objects.all()
             if (value := plan.version().core()).source == source and value.target == target]  # fmt: skip
    if plans:
        raise Refused(
            f"The crosswalk {source} to {target} is in use: {', '.join(plans)} would land by it.",
            "Retire these plans first.",
            code="in-use",
        )
    retired.keep("crosswalk", f"{source} to {target}", row.body, by=by, at=at)
    row.delete()
    mark_changed()


@retired.way_back("crosswalk")
def _bring_back(body: dict[str, Any], by: str, at: datetime) -> str:
    crosswalk = from_data(Crosswalk, body)
    make_crosswalk(crosswalk, by=by, at=at)
    return f"/crosswalks/{crosswalk.source}/{crosswalk.target}"


@recorded()
def make_twin(source: str, target: str, *, by: str = "", at: datetime | None = None) -> Twin:
    """Make the crosswalk in the other direction. Raises Refused where there is one."""
    made = twin(find_crosswalk(source, target).core(), estate().ground)
    make_crosswalk(made.crosswalk, by=by, at=at)
    return made


def import_table(source: str, raw: bytes) -> tuple[tuple[NicEntry, ...], tuple[Complaint, ...]]:
    """Entries of a CSV file for adapters that the source has. Nothing is written."""
    site = estate().ground.sites.get(source)
    if site is None:
        raise NotFound(f"There is no site {source!r}.")
    known = {(workload.name, nic.name): nic for workload in site.workloads for nic in workload.nics}
    return read_table(raw, known)


def checked(crosswalk: Crosswalk) -> Crosswalk:
    """The same, where it could be. Raises BadValue or NotFound."""
    _ends(crosswalk)
    return crosswalk


def _ends(crosswalk: Crosswalk) -> Sequence[Site]:
    for field, sentence, remedy in complaints(crosswalk):
        raise BadValue(sentence, remedy, field=f"body.{field}")
    sites = {site.code: site for site in Site.objects.filter(code__in=(crosswalk.source, crosswalk.target))}
    for code in (crosswalk.source, crosswalk.target):
        if code not in sites:
            raise NotFound(f"There is no site {code!r}.", "Register the site first.")
    return sites[crosswalk.source], sites[crosswalk.target]
