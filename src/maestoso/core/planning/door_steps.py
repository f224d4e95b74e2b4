"""What steps about front doors ask of a site."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Literal

from maestoso.core.codec import to_data
from maestoso.core.model.cue import Cue
from maestoso.core.model.door import DoorMove
from maestoso.core.planning.graph import Step
from maestoso.core.planning.inputs import RunInputs


def opening(
    moves: Iterable[DoorMove], mark: str, machine: Callable[[str], str], at: Literal["before", "after"]
) -> dict[str, Any]:
    """The arguments of ``publish-address``, with the addresses that the doors had before or have after.

    Without a ``mark`` they are the site's own.
    """
    return {
        "mark": mark,
        "doors": [
            {
                "name": one.name,
                "address": one.after if at == "after" else one.before,
                "ports": list(one.ports),
                "sources": to_data(one.sources),
                "machine": machine(one.workload),
            }
            for one in moves
        ],
    }


def closes(cue: Cue, inputs: RunInputs, end: str, title: str, **common: Any) -> Step:
    """What takes back, once ``end`` is resolved, that a cue opened front doors at the target."""
    return Step(
        id=closed_id(cue),
        verb="withdraw-address",
        subject=cue.title,
        site=inputs.plan.target,
        title=f"{title}: {cue.title}",
        after=(end, cue.step),
        undoes=(cue.step,),
        skippable=False,
        args=closing(inputs.opened(cue.id), inputs.mark),
        **common,
    )


def closed_id(cue: Cue) -> str:
    """The step that closes again what a cue opened."""
    return f"doors-closed:{cue.id}"


def closing(moves: Iterable[DoorMove], mark: str) -> dict[str, Any]:
    """The arguments of ``withdraw-address``; without a ``mark`` for the site's own."""
    return {"mark": mark, "doors": [one.name for one in moves]}
