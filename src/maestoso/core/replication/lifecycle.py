"""The lifecycle of a group: one table, and one function that reads it. ``docs/protection.md`` draws it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

from maestoso.core.errors import Refused

Stage = Literal[
    "unprotected", "seeding", "protected", "failing over", "running uncommitted",
    "running committed", "re-protecting",
]  # fmt: skip
Happening = Literal[
    "protect", "seeded", "changed", "fail over", "came up", "called off", "commit", "roll back", "re-protect",
    "resynced", "stopped", "end protection",
]  # fmt: skip

TABLE: Mapping[tuple[Stage, Happening], Stage] = {
    ("unprotected", "protect"): "seeding",
    ("seeding", "seeded"): "protected",
    ("seeding", "changed"): "seeding",
    ("seeding", "end protection"): "unprotected",
    ("seeding", "fail over"): "failing over",
    ("protected", "changed"): "protected",
    ("protected", "end protection"): "unprotected",
    ("protected", "fail over"): "failing over",
    ("failing over", "came up"): "running uncommitted",
    ("failing over", "called off"): "protected",
    ("running uncommitted", "commit"): "running committed",
    ("running uncommitted", "roll back"): "protected",
    ("running committed", "re-protect"): "re-protecting",
    ("running committed", "end protection"): "unprotected",
    ("re-protecting", "resynced"): "protected",
    ("re-protecting", "stopped"): "running committed",
}


def is_copied(stage: str) -> bool:
    """Whether a group in this stage is copied by intent, so that its points should be young."""
    return stage in ("protected", "seeding")


def after(group: str, stage: Stage, happening: Happening) -> Stage:
    """The stage that follows. Raises Refused, naming group, stage and what was wanted."""
    found = TABLE.get((stage, happening))
    if found is None:
        possible = [wanted for here, wanted in TABLE if here == stage]
        raise Refused(
            f"{group} is {stage}; {happening!r} cannot happen to it now.",
            f"From here it can: {', '.join(possible)}.",
            code="lifecycle",
        )
    return found


def diagram() -> str:
    """The table as a Mermaid state diagram."""
    lines = ["stateDiagram-v2", "    [*] --> unprotected"]
    lines += [f"    {_id(here)} --> {_id(there)}: {what}" for (here, what), there in TABLE.items()]
    return "\n".join(lines)


def _id(stage: str) -> str:
    return stage.replace(" ", "_").replace("-", "_")
