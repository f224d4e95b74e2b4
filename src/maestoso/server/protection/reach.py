"""What scopes of roles look at: plans with their parts, groups with their members, where workloads are."""

from __future__ import annotations

from maestoso.core.people.scope import Facts, GroupFacts, PlanFacts
from maestoso.core.planning.parts import expand_parts
from maestoso.server.access.reach import FACTS
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.services import newest_versions
from maestoso.server.protection.services import rows_and_groups


@FACTS.hears
def facts() -> Facts:
    """As the records are now."""
    plans = {row.plan.code: row.core() for row in newest_versions()}
    return Facts(
        plans=tuple(
            PlanFacts(
                code=code, tags=plan.tags, source=plan.source, target=plan.target,
                workloads=frozenset(expand_parts(plan, plans.get).plan.workloads()),
                parts=tuple(part.plan for part in plan.parts),
            )
            for code, plan in plans.items()
        ),
        groups=tuple(
            GroupFacts(
                code=group.code, source=group.source, target=group.target, members=frozenset(group.members)
            )
            for _, group in rows_and_groups()
        ),
        workloads={name: row.site for name, row in estate().rows.items()},
    )  # fmt: skip
