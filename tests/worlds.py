"""Small worlds for tests: two sites, a handful of workloads, and ways to change one thing at a time."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from ipaddress import ip_interface, ip_network

from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import AddressRule, Crosswalk, NetworkRow, PoolRow, Readdress
from maestoso.core.model.cue import Cue, Hold
from maestoso.core.model.estate import (
    Disk,
    HostPool,
    Inventory,
    Link,
    Network,
    Nic,
    Service,
    StoragePool,
    Workload,
)
from maestoso.core.model.plan import Member, Plan, Wave
from maestoso.core.model.protection import Group, Policy, RecoveryPoint
from maestoso.core.planning.inputs import Kind, LiveChoices, RunInputs
from maestoso.core.readiness.assess import Options, assess
from maestoso.core.readiness.context import Context
from maestoso.core.replication.change import ChangeProfile
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState
from maestoso.practice.spec import Replica, SiteSpec
from maestoso.practice.world import World

NOW = datetime(2026, 11, 12, 15, 0, tzinfo=UTC)
POLICY = Policy(interval_s=60, rpo_s=120)


def workload(name: str, host: int, **changes: object) -> Workload:
    """A workload at 10.1.0.``host`` that offers one service called after it."""
    made = Workload(
        name=name,
        cores=2,
        memory_mib=4096,
        disks=(Disk(name="disk0", size_gib=40, storage_pool="a-disk"),),
        nics=(
            Nic(
                name="nic0",
                network="a-net",
                mac=f"02:00:00:00:00:{host:02x}",
                addresses=(ip_interface(f"10.1.0.{host}/24"),),
                gateways=("10.1.0.1",),
                dns=("10.1.0.5",),
            ),
        ),
        offers=(Service(name=f"{name}-service", protocol="tcp", port=1000 + host),),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


NAMES = ("db", "queue", "app", "web")
WORKLOADS = {name: workload(name, 11 + index) for index, name in enumerate(NAMES)}


def source(**changes: object) -> Inventory:
    """What site A has."""
    made = Inventory(
        host_pools=(HostPool(name="a-hosts", hosts=2, cores=32, memory_mib=131072),),
        storage_pools=(StoragePool(name="a-disk", capacity_gib=4000),),
        networks=(
            Network(name="a-net", vlan=10, prefixes=(ip_network("10.1.0.0/24"),), gateways=("10.1.0.1",)),
        ),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def target(**changes: object) -> Inventory:
    """What site B has."""
    made = Inventory(
        host_pools=(HostPool(name="b-hosts", hosts=2, cores=32, memory_mib=131072),),
        storage_pools=(StoragePool(name="b-disk", capacity_gib=4000),),
        networks=(
            Network(name="b-net", vlan=20, prefixes=(ip_network("10.2.0.0/24"),), gateways=("10.2.0.1",)),
            Network(
                name="b-lab",
                vlan=21,
                prefixes=(ip_network("10.2.0.0/24"),),
                gateways=("10.2.0.1",),
                role="sandbox",
            ),
        ),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def translate_to(prefix: str, gateway: str | None = None) -> Readdress:
    """A translation into ``prefix``."""
    return Readdress(action="translate", to=ip_network(prefix), gateway=gateway)


def crosswalk(**changes: object) -> Crosswalk:
    """A to B: one network, one pool each, one rule."""
    rule = AddressRule(
        prefix=ip_network("10.1.0.0/24"),
        live=translate_to("10.2.0.0/24", "10.2.0.1"),
        test=translate_to("10.2.0.0/24", "10.2.0.1"),
    )
    made = Crosswalk(
        source="A",
        target="B",
        networks=(NetworkRow(source="a-net", live="b-net"),),
        host_pools=(PoolRow(source="a-hosts", target="b-hosts"),),
        storage_pools=(PoolRow(source="a-disk", target="b-disk"),),
        address_rules=(rule,),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def plan(*waves: tuple[Member, ...], **changes: object) -> Plan:
    """A plan from A to B; by default db and queue, then app, then web."""
    chosen = waves or (
        (Member(workload="db"), Member(workload="queue")),
        (Member(workload="app", delay_s=30, depends_on=("db",)),),
        (Member(workload="web"),),
    )
    made = Plan(
        code="SHOP",
        name="Shop",
        source="A",
        target="B",
        rto_s=1800,
        rpo_s=120,
        waves=tuple(Wave(name=f"Wave {index + 1}", members=members) for index, members in enumerate(chosen)),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def with_hold(original: Plan, wave: int, **changes: object) -> Plan:
    """The plan with a hold before one of its waves."""
    hold = replace(
        Cue(id="ask", title="Office confirms", hold=Hold(instruction="Call the office.")),
        **changes,  # type: ignore[arg-type]
    )
    return with_cues(original, wave, hold)


def with_cues(original: Plan, wave: int, *cues: Cue) -> Plan:
    """The plan with cues at one of its waves."""
    waves = list(original.waves)
    waves[wave] = replace(waves[wave], cues=cues)
    return replace(original, waves=tuple(waves))


GROUP = Group(code="shop", name="Shop", source="A", target="B", members=NAMES, policy=POLICY)
POINT = RecoveryPoint(
    id="shop@1794495540",
    group="shop",
    at=datetime.fromtimestamp(1794495540, UTC),
    kind="crash-consistent",
    changed_bytes=1000,
)


def ground(workloads: Mapping[str, Workload] = WORKLOADS, target_site: Inventory | None = None) -> Ground:
    """Site A with its workloads, and site B."""
    return Ground({"A": source(workloads=tuple(workloads.values())), "B": target_site or target()})


def context(**changes: object) -> Context:
    """The plan in a world where nothing is wrong but that it was never tested.

    ``target`` is what site B has.
    """
    place = changes.pop("target", None) or target()
    workloads = changes.get("workloads", WORKLOADS)
    changes.setdefault("ground", ground(workloads, place))  # type: ignore[arg-type]
    made = Context(
        plan=plan(),
        version=1,
        now=NOW,
        workloads=WORKLOADS,
        ground=ground(),
        crosswalk=crosswalk(),
        reverse=Crosswalk(source="B", target="A"),
        groups=(GROUP,),
        newest={"shop": replace(POINT, at=NOW - timedelta(seconds=20))},
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def inputs(ctx: Context | None = None, **options: object) -> RunInputs:
    """Inputs of a test as the server would make them."""
    chosen = replace(Options(points={"shop": POINT}), **options)  # type: ignore[arg-type]
    judged = assess(ctx or context(), chosen, "t1", {}, samples=20)
    if judged.inputs is None:
        raise AssertionError(judged.findings)
    return judged.inputs


def spec(**changes: object) -> SiteSpec:
    """Practice site B, which holds the copies of the shop."""
    made = SiteSpec(
        code="B",
        seed=5,
        inventory=target(),
        replicas=(Replica(group=GROUP, profile=ChangeProfile(usual_bps=1e6)),),
        links=(Link(one="A", other="B", bandwidth_bps=1_000_000_000),),
        copied=Inventory(workloads=tuple(WORKLOADS.values())),
    )
    return replace(made, **changes)  # type: ignore[arg-type]


def world(**changes: object) -> World:
    """Practice site B since yesterday."""
    made = World(spec(**changes), NOW - timedelta(days=1))
    made.advance(NOW.timestamp())
    return made


def judge(state: RunState, verdict: str = "passed") -> tuple[Draft, float] | None:
    """A person who retries what failed, answers what asks, and judges."""
    if state.failed:
        step = min(state.failed)
        if state.steps[step].attempt < 3:
            return Draft(kind="step.retried", data={"step": step}, by="ann"), 20.0
        if state.graph[step].skippable:
            return Draft(kind="step.skipped", data={"step": step, "reason": "enough"}, by="ann"), 20.0
        return (
            (Draft(kind="run.aborted", data={"reason": "not safe"}, by="ann"), 20.0)
            if state.aborted_because is None
            else None
        )
    if state.held_because is not None:
        return Draft(kind="run.resumed", data={}, by="ann"), 20.0
    holds = sorted(state.persons - {"verdict", "decision", "acknowledge"})
    if holds:
        return Draft(kind="hold.answered", data={"step": holds[0], "text": ""}, by="ann"), 20.0
    if "verdict" in state.persons:
        return Draft(kind="verdict.given", data={"verdict": verdict, "notes": "seen"}, by="ann"), 60.0
    return None


def source_world(**changes: object) -> World:
    """Practice site A since yesterday, where the workloads are at home."""
    made = SiteSpec(code="A", seed=3, inventory=source(workloads=tuple(WORKLOADS.values())))
    made = replace(made, links=(Link(one="A", other="B", bandwidth_bps=1_000_000_000),), **changes)  # type: ignore[arg-type]
    found = World(made, NOW - timedelta(days=1))
    found.advance(NOW.timestamp())
    return found


def live_inputs(kind: Kind, ctx: Context | None = None, **choices: object) -> RunInputs:
    """Inputs of a live run as the server would make them."""
    live = LiveChoices(**choices)  # type: ignore[arg-type]
    options = Options(points={"shop": POINT}, kind=kind, live=live, sync_first=kind == "planned")
    judged = assess(ctx or context(), options, f"{kind[0]}1", {}, samples=20)
    if judged.inputs is None:
        raise AssertionError(judged.findings)
    return judged.inputs


def decide_for(decision: str) -> Callable[[RunState], tuple[Draft, float] | None]:
    """A person who helps a live run along and then commits it, or rolls it back."""

    def act(state: RunState) -> tuple[Draft, float] | None:
        if "acknowledge" in state.persons:
            said = {"step": "acknowledge", "text": "Known."}
            return Draft(kind="hold.answered", data=said, by="ann"), 20.0
        if "decision" in state.persons:
            return Draft(kind="decision.given", data={"decision": decision, "notes": ""}, by="ann"), 60.0
        return judge(state)

    return act
