"""Plan to step graph for re-protecting: the groups of a plan are copied in the other direction.

The plan is turned round already: its source is where everything runs now, its target where it ran before.
What differs since the two sides diverged is copied, and no more.
"""

from __future__ import annotations

from collections.abc import Iterator

from maestoso.core.codec import to_data
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.planning.inputs import GroupCopy, RunInputs


def compile_reprotect(inputs: RunInputs) -> StepGraph:
    """The graph of a re-protect."""
    return StepGraph(step for group in inputs.groups for step in _group(inputs, group))


def _group(inputs: RunInputs, group: GroupCopy) -> Iterator[Step]:
    here, there, code = inputs.plan.source, inputs.plan.target, group.code
    specs = {workload.name: workload for workload in inputs.workloads}
    for name in group.members:
        yield Step(
            id=f"fence:{name}",
            verb="fence",
            subject=name,
            site=there,
            workload=name,
            phase="prepare",
            title=f"Confirm its old copy at {there} off",
            skippable=False,
            args={"cut": False},
        )
    yield Step(
        id=f"changes-since:{code}",
        verb="changes-since",
        subject=code,
        site=here,
        phase="prepare",
        title=f"Find what differs in {code}",
        skippable=False,
        args={"group": code},
    )
    yield Step(
        id=f"reverse-copying:{code}",
        verb="reverse-copying",
        subject=code,
        site=there,
        phase="hand-over",
        title=f"Copy the differences of {code}",
        slot="copies",
        skippable=False,
        after=(f"changes-since:{code}", *(f"fence:{name}" for name in group.members)),
        args={
            "group": to_data(group.definition),
            "workloads": [to_data(specs[name]) for name in group.members],
            "link": to_data(inputs.link),
        },
    )
    yield Step(
        id=f"unprotect:{code}",
        verb="unprotect",
        subject=code,
        site=here,
        phase="hand-over",
        title=f"Forget the old direction of {code}",
        after=(f"reverse-copying:{code}",),
    )
