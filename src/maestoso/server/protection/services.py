"""What can be done with groups."""

from __future__ import annotations

from django.db import transaction

from maestoso.core.codec import to_data
from maestoso.core.errors import NotFound, Refused
from maestoso.core.model.protection import Group
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.protection.models import GroupMember, GroupRow


@transaction.atomic
def make_group(group: Group) -> GroupRow:
    """Protect workloads together. Raises Refused where one of them is in a group already."""
    sites = {site.code: site for site in Site.objects.filter(code__in=(group.source, group.target))}
    for code in (group.source, group.target):
        if code not in sites:
            raise NotFound(f"There is no site {code!r}.", "Register the site first.")
    row = GroupRow.objects.create(
        code=group.code,
        name=group.name,
        source=sites[group.source],
        target=sites[group.target],
        policy=to_data(group.policy),
    )
    for name in group.members:
        workload = WorkloadRow.objects.filter(name=name).first()
        if workload is None:
            raise NotFound(f"{name} is not in the estate.", "Fetch the inventory of its site first.")
        other = GroupMember.objects.filter(workload=workload).first()
        if other is not None:
            raise Refused(
                f"{name} is in group {other.group.name} already and cannot join {group.name} as well.",
                "Take it out of one of the two.",
            )
        GroupMember.objects.create(group=row, workload=workload)
    return row


def all_groups() -> tuple[Group, ...]:
    """Every group as a value."""
    rows = GroupRow.objects.select_related("source", "target").prefetch_related("members__workload")
    return tuple(row.core() for row in rows)
