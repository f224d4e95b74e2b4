"""Which services answer during a run, as seen by probes that go on all the time from its start.

Of a run that moves production every service is probed, at both sites; of a test those that were chosen, on
its copies. Whoever conducts the run writes down what changed. Outage clocks are made from that and from
nothing else, so they also show what no step of the run knows of.
"""

from __future__ import annotations

from collections.abc import Mapping, Set
from dataclasses import dataclass, replace

from maestoso.core.planning.inputs import LIVE, RunInputs
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState

ServiceId = tuple[str, str]
"""Workload and name of a service."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Outage:
    """How a service was away during a run, from ``from_s`` until ``to_s`` (run seconds; None: it still is).

    It may have been away in several ``spells``, as after another point; in between it answered for ``up_s``.
    One that the plan leaves off is away by intent. ``assumed``: its site said nothing, so nobody saw it.
    """

    workload: str
    service: str
    from_s: float
    to_s: float | None
    up_s: float = 0.0
    spells: int = 1
    left_off: bool = False
    assumed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Probes:
    """What probes of a test saw of one service: it answered from ``up_s`` on (run seconds; None: never).

    After that it was away in ``breaks`` for ``away_s`` together, the longest of them ``longest_s``. They end
    when somebody judges the test, at ``until_s`` (None: they go on). Unless ``seen`` the site made none.
    """

    workload: str
    service: str
    up_s: float | None
    breaks: int
    away_s: float
    longest_s: float
    until_s: float | None
    seen: bool


def watched(inputs: RunInputs) -> tuple[ServiceId, ...]:
    """The services that are probed continuously: all of a live run, the chosen ones of a test."""
    if inputs.kind not in LIVE:
        return tuple((one.workload, one.service) for one in inputs.probed)
    return tuple((one.name, service.name) for one in inputs.workloads for service in one.offers)


def probed_at(inputs: RunInputs) -> tuple[tuple[str, ...], str]:
    """The sites that are asked, and the mark of the copies that count there (of none: production does)."""
    if inputs.kind in LIVE:
        return (inputs.plan.source, inputs.plan.target), ""
    return (inputs.plan.target,), inputs.mark


def noticed(state: RunState, answering: Mapping[str, Set[ServiceId] | None]) -> Draft | None:
    """What changed since the last look; None where nothing did.

    ``answering`` says by site which services answer there, None for a site that gave no answer. An agent that
    is silent is no outage of services: nothing is concluded from it. But in a disaster the source is taken as
    lost, as was said at the start: what is not seen to answer does not.
    """
    if state.probes_end_s is not None:
        # What goes away now is taken away.
        return None
    plan = state.inputs.plan
    both = state.inputs.kind == "planned"
    seen: set[ServiceId] = set().union(*(found for found in answering.values() if found is not None))
    services = watched(state.inputs)
    back = [one for one in services if one in seen and one in state.away]
    blind = answering.get(plan.target) is None or (both and answering.get(plan.source) is None)
    away = [] if blind else [one for one in services if one not in seen and one not in state.away]
    if not back and not away and (state.looked or blind):
        return None
    told: dict[str, object] = {"away": [list(one) for one in away], "back": [list(one) for one in back]}
    if away and state.inputs.kind in LIVE and answering.get(plan.source) is None:
        told["assumed"] = True
    return Draft(kind="services.seen", data=told)


def outages(state: RunState) -> tuple[Outage, ...]:
    """How long every service of production was away, in the order in which they went; each service once.

    In a disaster, what was away at the first look has been since the outage was declared.
    """
    if state.inputs.kind not in LIVE:
        return ()
    live = state.inputs.live
    declared = live.declared_at if live is not None else None
    before_s = max((state.started_at - declared).total_seconds(), 0.0) if declared else 0.0
    off = {member.workload for _, member in state.inputs.plan.members() if not member.power_on}
    found: dict[ServiceId, Outage] = {}
    for spell in state.spells:
        known = found.get(spell.service)
        if known is None:
            workload, service = spell.service
            found[spell.service] = Outage(
                workload=workload, service=service, left_off=workload in off, assumed=spell.assumed,
                from_s=-before_s if spell.first and before_s else spell.from_s, to_s=spell.to_s,
            )  # fmt: skip
        else:
            up_s = known.up_s + spell.from_s - (known.to_s or spell.from_s)
            found[spell.service] = replace(
                known, to_s=spell.to_s, up_s=up_s, spells=known.spells + 1,
                assumed=known.assumed or spell.assumed,
            )  # fmt: skip
    return tuple(found.values())


def probes(state: RunState) -> tuple[Probes, ...]:
    """What was seen of every service that a test probes, in the order in which they were chosen."""
    if state.inputs.kind in LIVE:
        return ()
    end_s = state.run_s if state.probes_end_s is None else state.probes_end_s
    made = []
    for one in watched(state.inputs):
        spells = [spell for spell in state.spells if spell.service == one]
        # Until it answers for the first time it comes up; only after that it can break off.
        coming = spells[0] if spells and spells[0].first else None
        breaks = spells[1:] if coming else spells
        up_s = coming.to_s if coming else 0.0 if state.looked else None
        lasted = [(end_s if spell.to_s is None else spell.to_s) - spell.from_s for spell in breaks]
        made.append(
            Probes(
                workload=one[0], service=one[1], up_s=up_s, breaks=len(breaks),
                away_s=sum(lasted), longest_s=max(lasted, default=0.0), until_s=state.probes_end_s,
                seen=state.looked,
            )
        )  # fmt: skip
    return tuple(made)
