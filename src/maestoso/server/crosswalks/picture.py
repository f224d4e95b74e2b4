"""Crosswalks and landings as the API shows them."""

from __future__ import annotations

import gc
import hashlib
import json
import threading
from collections.abc import Container, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass

from maestoso.core.addressing.rule_table import RuleTable
from maestoso.core.addressing.trial import readdress
from maestoso.core.codec import from_data, to_data
from maestoso.core.csv_rows import line
from maestoso.core.errors import BadValue, NotFound
from maestoso.core.estate.filter import compile_filter
from maestoso.core.estate.row import Row
from maestoso.core.landing.actual import in_words
from maestoso.core.landing.crosswalk_checks import check_crosswalk
from maestoso.core.landing.doors import address_at
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.judge import Judged, judge_landings
from maestoso.core.landing.unmapped import Source, sources, unmapped
from maestoso.core.model.crosswalk import SIDES, Crosswalk, Side
from maestoso.core.model.estate import Workload
from maestoso.core.model.finding import SEVERITIES, Finding
from maestoso.core.model.landing import Landing, LandingNic
from maestoso.core.people.scope import Reach
from maestoso.server.crosswalks.models import CrosswalkRow, HeldRow
from maestoso.server.crosswalks.services import checked, find_crosswalk
from maestoso.server.crosswalks.shapes import (
    CrosswalkDetail,
    CrosswalkLine,
    DoorView,
    HeldView,
    LandingFinding,
    LandingRow,
    LandingsAsked,
    LandingsView,
    RoomView,
    SideView,
    Targets,
    Tried,
)
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.models import PlanRow
from maestoso.server.protection.services import all_groups

KEPT = 8
LONGEST_TRIAL = 100_000
LONGEST_PAGE = 1000
Sides = Mapping[Side, Judged]


@dataclass(frozen=True, slots=True, kw_only=True)
class EvaluatedCrosswalk:
    """A crosswalk judged over all workloads of its source; kept while neither it nor the ground changes."""

    place: Ground
    workloads: tuple[Workload, ...]
    sides: Sides
    of_crosswalk: tuple[Finding, ...]
    unmapped: tuple[Source, ...]


_kept: dict[str, EvaluatedCrosswalk] = {}
_lock = threading.Lock()


def evaluate(crosswalk: Crosswalk) -> EvaluatedCrosswalk:
    """Everything about a crosswalk, saved or not."""
    place = estate().ground
    key = hashlib.sha256(json.dumps(to_data(crosswalk)).encode()).hexdigest()
    with _lock:
        known = _kept.get(key)
    if known is not None and known.place is place:
        return known
    workloads = place.sites[crosswalk.source].workloads
    copied = {
        name for group in all_groups()
        if (group.source, group.target) == (crosswalk.source, crosswalk.target) for name in group.members
    }  # fmt: skip
    with _uncollected():
        sides = {side: judge_landings(crosswalk, place, workloads, side, copied) for side in SIDES}
    made = EvaluatedCrosswalk(
        place=place,
        workloads=workloads,
        sides=sides,
        of_crosswalk=check_crosswalk(crosswalk, place),
        unmapped=unmapped(crosswalk, place),
    )
    with _lock:
        _kept[key] = made
        while len(_kept) > KEPT:
            del _kept[next(iter(_kept))]
    return made


@contextmanager
def _uncollected() -> Iterator[None]:
    """Makes a hundred thousand small values that all stay without the collector looking at them each time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def lines() -> tuple[CrosswalkLine, ...]:
    """Every direction between two sites: those with a crosswalk first, then those in which one could be."""
    rows = {(row.source.code, row.target.code): row
            for row in CrosswalkRow.objects.select_related("source", "target")}  # fmt: skip
    sites = list(Site.objects.all())
    plans = [(plan.code, plan.version().core()) for plan in PlanRow.objects.all()]
    place = estate().ground
    found = []
    for source in sites:
        for target in sites:
            if source == target:
                continue
            way = source.code, target.code
            row = rows.get(way)
            judged = evaluate(row.core()) if row else None
            counted = _counted(_all_findings(judged)) if judged else {"blocks": 0, "warns": 0, "note": 0}
            held = HeldRow.objects.filter(site=target, workload__in=[w.name for w in judged.workloads]) if (
                judged) else HeldRow.objects.none()  # fmt: skip
            wrong = held.exclude(wrong="").count()
            found.append(
                CrosswalkLine(
                    source=source.code, source_name=source.name, target=target.code, target_name=target.name,
                    revision=row.revision if row else 0, workloads=len(place.sites[source.code].workloads),
                    plans=tuple(code for code, plan in plans if (plan.source, plan.target) == way),
                    unmapped=len(judged.unmapped) if judged else 0, blocks=counted["blocks"],
                    warns=counted["warns"], held=held.count() - wrong, held_wrong=wrong,
                    has_twin=way[::-1] in rows,
                )
            )  # fmt: skip
    return tuple(sorted(found, key=lambda one: one.revision == 0))


def detail(source: str, target: str) -> CrosswalkDetail:
    """A crosswalk, or an empty one where none is made yet. Raises NotFound for an unknown site."""
    place = estate().ground
    names = dict(Site.objects.values_list("code", "name"))
    for code in (source, target):
        if code not in names:
            raise NotFound(f"There is no site {code!r}.", "Choose two sites on the page Crosswalks.")
    if source == target:
        raise NotFound(f"A crosswalk from {source} to itself goes nowhere.", "Choose another site.")
    row = CrosswalkRow.objects.filter(source__code=source, target__code=target).first()
    there = place.sites[target]
    plans = ((plan.code, plan.version().core()) for plan in PlanRow.objects.all())
    return CrosswalkDetail(
        crosswalk=row.core() if row else Crosswalk(source=source, target=target),
        revision=row.revision if row else 0, changed_by=row.changed_by if row else "",
        changed_at=row.changed_at if row else None, source_name=names[source], target_name=names[target],
        sources=sources(source, place), source_networks=place.sites[source].networks,
        source_doors=place.sites[source].front_doors,
        targets=Targets(networks=there.networks, host_pools=there.host_pools,
                        storage_pools=there.storage_pools, folders=there.folders,
                        door_addresses=tuple(map(str, there.door_addresses))),
        has_twin=CrosswalkRow.objects.filter(source__code=target, target__code=source).exists(),
        plans=tuple(code for code, plan in plans if (plan.source, plan.target) == (source, target)),
    )  # fmt: skip


def landings(asked: LandingsAsked, reach: Reach) -> LandingsView:
    """A stretch of the before-and-after table of a crosswalk that need not be saved, of what is in reach."""
    if not 0 <= asked.offset <= 10**9:
        raise BadValue(f"offset is {asked.offset}.", "Give 0 or more.", field="body.offset")
    if not 1 <= asked.limit <= LONGEST_PAGE:
        raise BadValue(f"limit is {asked.limit}.", f"Give 1 to {LONGEST_PAGE}.", field="body.limit")
    judged = evaluate(checked(asked.crosswalk))
    workloads = [one for one in judged.workloads if reach.has("workload", one.name)]
    return view(asked.crosswalk, workloads, judged.sides, judged.of_crosswalk, judged.unmapped, asked)


def view(
    crosswalk: Crosswalk, workloads: Sequence[Workload], sides: Sides, of_crosswalk: Sequence[Finding],
    missing: Sequence[Source], asked: LandingsAsked,
) -> LandingsView:  # fmt: skip
    """The table over some workloads."""
    names = {workload.name for workload in workloads}
    findings = _together(sides)
    by_workload: dict[str, list[LandingFinding]] = {}
    beside = [LandingFinding(side="both", finding=finding) for finding in of_crosswalk]
    for one in findings:
        about = [name for name in (one.finding.subject, *one.finding.others) if name in names]
        for name in about:
            by_workload.setdefault(name, []).append(one)
        if not about:
            beside.append(one)
    odd = {(entry.workload, "") for entry in crosswalk.exceptions}
    odd |= {(entry.workload, entry.nic) for entry in crosswalk.table}
    known = estate().rows
    chosen = [
        (workload, index, number, _of_adapter(workload, number, by_workload.get(workload.name, ())))
        for workload, index in _chosen(workloads, known, by_workload, asked)
        for number in range(max(len(workload.nics), 1))
    ]
    if asked.only_findings:
        chosen = [one for one in chosen if one[3]]
    # Only the stretch that is asked for is made into rows: a page of a large site is a small part of it.
    shown = chosen[asked.offset : asked.offset + asked.limit]
    rows = tuple(
        _row(workload, index, number, sides, mine, known, odd) for workload, index, number, mine in shown
    )
    stuck = {
        name for name, some in by_workload.items() if any(one.finding.severity == "blocks" for one in some)
    }
    counted = _counted([*(one.finding for one in findings), *of_crosswalk])
    return LandingsView(
        workloads=len(workloads), placed=len(workloads) - len(stuck),
        adapters=sum(len(workload.nics) for workload in workloads), matched=len(chosen), rows=rows,
        findings=tuple(sorted(beside, key=lambda one: SEVERITIES.index(one.finding.severity))),
        blocks=counted["blocks"], warns=counted["warns"], unmapped=tuple(missing),
        rooms=tuple(RoomView(side=side, room=room) for side in SIDES for room in sides[side].rooms),
        doors=_doors(crosswalk, names),
    )  # fmt: skip


def _doors(crosswalk: Crosswalk, names: Container[str]) -> tuple[DoorView, ...]:
    """The front doors that lead to these workloads."""
    return tuple(
        DoorView(
            name=door.name, workload=door.workload, ports=door.ports, before=door.address,
            live=address_at(door, crosswalk, "live"), test=address_at(door, crosswalk, "test"),
        )
        for door in estate().ground.sites[crosswalk.source].front_doors if door.workload in names
    )  # fmt: skip


def _chosen(
    workloads: Sequence[Workload], rows: Mapping[str, Row], by_workload: Mapping[str, object],
    asked: LandingsAsked,
) -> Iterator[tuple[Workload, int]]:  # fmt: skip
    test = compile_filter(asked.filter)
    for index, workload in enumerate(workloads):
        known = rows.get(workload.name)
        if known is not None and test(known) and (not asked.only_findings or workload.name in by_workload):
            yield workload, index


def _together(sides: Sides) -> list[LandingFinding]:
    """Findings of both sides; what is the same on both is one. Notes come last."""
    live = dict.fromkeys(sides["live"].findings)
    test = dict.fromkeys(sides["test"].findings)
    found = [LandingFinding(side="both" if one in test else "live", finding=one) for one in live]
    found += [LandingFinding(side="test", finding=one) for one in test if one not in live]
    return sorted(found, key=lambda one: SEVERITIES.index(one.finding.severity))


def _all_findings(judged: EvaluatedCrosswalk) -> list[Finding]:
    return [*(one.finding for one in _together(judged.sides)), *judged.of_crosswalk]


def _counted(findings: Sequence[Finding]) -> dict[str, int]:
    return {severity: sum(1 for one in findings if one.severity == severity) for severity in SEVERITIES}


def _of_adapter(
    workload: Workload, number: int, found: Sequence[LandingFinding]
) -> tuple[LandingFinding, ...]:
    """Findings about one adapter; what is about no adapter stands in the first row of the workload."""
    if not found:
        return ()
    name = workload.nics[number].name if workload.nics else ""
    elsewhere = {nic.name for nic in workload.nics} - {name}
    return tuple(
        one for one in found
        if one.finding.part == name or (number == 0 and one.finding.part not in elsewhere)
    )  # fmt: skip


def _row(
    workload: Workload, index: int, number: int, sides: Sides, mine: tuple[LandingFinding, ...],
    known: Mapping[str, Row], odd: set[tuple[str, str]],
) -> LandingRow:  # fmt: skip
    live, test = sides["live"].landings[index], sides["test"].landings[index]
    nic = workload.nics[number] if workload.nics else None
    name = nic.name if nic else ""
    return LandingRow(
        workload=workload.name, group=known[workload.name].group, nic=name,
        network=nic.network if nic else "",
        before=in_words(nic.addresses, nic.dhcp) if nic else "no adapter",
        live=_side(live, name), test=_side(test, name), name=live.name, host_pool=live.host_pool,
        cores=live.cores, memory_mib=live.memory_mib, folder=live.folder, disks=live.disks,
        exception=not odd.isdisjoint({(workload.name, ""), (workload.name, name)}), findings=mine,
    )  # fmt: skip


def _side(landing: Landing, name: str) -> SideView | None:
    nic: LandingNic | None = next((nic for nic in landing.nics if nic.nic == name), None)
    if nic is None:
        return None
    return SideView(
        network=nic.network, addresses=tuple(map(str, nic.addresses)), gateways=nic.gateways, dns=nic.dns,
        suffix=nic.suffix, mac=nic.mac, dhcp=nic.dhcp, isolated=nic.isolated, connected=nic.connected,
        decided=nic.decided,
    )  # fmt: skip


COLUMNS = (
    "workload", "group", "nic", "network", "before", "live_network", "live_addresses", "live_gateways",
    "live_dns", "live_mac", "test_network", "test_addresses", "test_gateways", "test_dns", "test_mac",
    "name", "host_pool", "folder", "cores", "memory_mib", "findings",
)  # fmt: skip


def export(view_of: LandingsView) -> Iterator[str]:
    """The before-and-after table as CSV, line by line."""
    yield line(COLUMNS)
    for row in view_of.rows:
        cells = [row.workload, row.group, row.nic, row.network, row.before]
        for side in (row.live, row.test):
            if side is None:
                cells += ["", "", "", "", ""]
            else:
                cells += [side.network, _listed(side), " ".join(side.gateways), " ".join(side.dns), side.mac]
        cells += [row.name, row.host_pool, row.folder, str(row.cores), str(row.memory_mib)]
        yield line([*cells, " ".join(one.finding.sentence for one in row.findings)])


def _listed(side: SideView) -> str:
    if not side.connected:
        return "disconnected"
    return " ".join((*side.addresses, "DHCP") if side.dhcp else side.addresses)


def everything(source: str, target: str, text: str) -> LandingsView:
    """All rows of a saved crosswalk that a filter finds."""
    crosswalk = find_crosswalk(source, target).core()
    judged = evaluate(crosswalk)
    asked = LandingsAsked(crosswalk=crosswalk, filter=text, limit=10**9)
    return view(crosswalk, judged.workloads, judged.sides, judged.of_crosswalk, judged.unmapped, asked)


def trial(crosswalk: Crosswalk, addresses: Sequence[str]) -> tuple[Tried, ...]:
    """What the rules of a crosswalk, saved or not, make of addresses. Raises BadValue for what is none."""
    if len(addresses) > LONGEST_TRIAL:
        raise BadValue(
            f"There are {len(addresses)} addresses.", f"Give at most {LONGEST_TRIAL}.", field="body.addresses"
        )
    texts = [text.strip() for text in addresses]
    rules = checked(crosswalk).address_rules
    live, why = readdress(texts, RuleTable(rules, "live"))
    test, _ = readdress(texts, RuleTable(rules, "test"))
    return tuple(
        Tried(before=before, rule=rule, live=one, test=other)
        for before, rule, one, other in zip(texts, why, live, test, strict=True)
    )


def held(site: Site) -> list[HeldView]:
    """Landings that a site was asked to hold, those that are wrong first."""
    there = estate().ground.site_of
    rows = [
        HeldView(
            workload=row.workload, source=there.get(row.workload, ""), wrong=row.wrong,
            host_pool=said.host_pool if said else "",
            adapters=tuple(
                f"{in_words(nic.addresses, nic.dhcp)} on {nic.network}" for nic in said.nics if nic.connected
            ) if said else (),
        )
        for row in HeldRow.objects.filter(site=site)
        for said in [from_data(Landing, row.said) if row.said else None]
    ]  # fmt: skip
    return sorted(rows, key=lambda one: not one.wrong)
