"""Which services answer during a run that moves production, as seen by probes that run from its start.

Probes ask both sites; whoever conducts the run writes down what changed. Outage clocks are made from that
and from nothing else, so they also show what no step of the run knows of.
"""

from __future__ import annotations

from collections.abc import Mapping, Set
from dataclasses import dataclass

from maestoso.core.planning.inputs import LIVE, RunInputs
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState

ServiceId = tuple[str, str]
"""Workload and name of a service."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Outage:
    """A service that did not answer from ``from_s`` to ``to_s`` (run seconds; None: it still does not)."""

    workload: str
    service: str
    from_s: float
    to_s: float | None


def watched(inputs: RunInputs) -> tuple[ServiceId, ...]:
    """The services whose outage is measured in a run that moves production: all that come up again.

    What the plan leaves off stays away because it was wanted so, which is no outage.
    """
    if inputs.kind not in LIVE:
        return ()
    booted = {member.workload for _, member in inputs.plan.members() if member.power_on}
    return tuple(
        (one.name, service.name) for one in inputs.workloads if one.name in booted for service in one.offers
    )


def noticed(state: RunState, answering: Mapping[str, Set[ServiceId] | None]) -> Draft | None:
    """What changed since the last look; None where nothing did.

    ``answering`` says by site which services answer there, None for a site that gave no answer. In a planned
    run nothing is concluded from silence; in a disaster what is not seen to answer does not.
    """
    seen: set[ServiceId] = set().union(*(found for found in answering.values() if found is not None))
    silent = any(found is None for found in answering.values()) and state.inputs.kind != "disaster"
    services = watched(state.inputs)
    back = [one for one in services if one in seen and one in state.away]
    away = [one for one in services if one not in seen and one not in state.away and not silent]
    if not back and not away and state.looked:
        return None
    return Draft(
        kind="services.seen", data={"away": [list(one) for one in away], "back": [list(one) for one in back]}
    )


def outages(state: RunState) -> tuple[Outage, ...]:
    """How long every service was away, in the order in which they went.

    In a disaster, what was away at the first look has been since the outage was declared.
    """
    live = state.inputs.live
    declared = live.declared_at if live is not None else None
    before_s = max((state.started_at - declared).total_seconds(), 0.0) if declared else 0.0
    return tuple(
        Outage(
            workload=workload, service=service, from_s=-before_s if first and before_s else from_s, to_s=to_s
        )
        for (workload, service), from_s, to_s, first in state.outages
    )
