"""What is wrong with a crosswalk itself, whatever lands by it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator

from maestoso.core.answer_cache import AnswerCache
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.model.finding import Finding, blocks, note, warns


def row_twice(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """A source with two rows; only the first counts."""
    for kind, rows in (
        ("network", crosswalk.networks),
        ("host pool", crosswalk.host_pools),
        ("storage pool", crosswalk.storage_pools),
        ("folder", crosswalk.folders),
        ("front door", crosswalk.front_doors),
    ):
        for source, times in Counter(row.source for row in rows).items():
            if times > 1:
                sentence = f"The {kind} {source} has {times} rows; only the first counts."
                yield blocks("row-twice", source, sentence, "Remove all but one.")


def rules_overlap(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """Prefixes of equal length overlap only when they are the same."""
    for prefix, times in Counter(rule.prefix for rule in crosswalk.address_rules).items():
        if times > 1:
            yield blocks(
                "rules-overlap",
                str(prefix),
                f"{times} address rules hold {prefix}, and neither is longer than the other.",
                "Remove all but one.",
            )


def gone(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """Rows and entries about what is not there (any more)."""
    source, target = crosswalk.source, crosswalk.target
    pairs: list[tuple[str, str, str, bool]] = []
    for row in crosswalk.networks:
        pairs.append((source, row.source, "network", (source, row.source) in ground.networks))
        for name in dict.fromkeys(name for name in (row.live, row.sandbox) if name):
            pairs.append((target, name, "network", (target, name) in ground.networks))
    for pool in crosswalk.host_pools:
        pairs.append((source, pool.source, "host pool", (source, pool.source) in ground.host_pools))
        pairs.append((target, pool.target, "host pool", (target, pool.target) in ground.host_pools))
    for pool in crosswalk.storage_pools:
        pairs.append((source, pool.source, "storage pool", (source, pool.source) in ground.storage_pools))
        pairs.append((target, pool.target, "storage pool", (target, pool.target) in ground.storage_pools))
    if target in ground.sites:
        there_too = ground.sites[target].folders
        pairs += [(target, row.target, "folder", row.target in there_too) for row in crosswalk.folders]
    # A door that was moved is at the target, under the same name.
    doors = {door.name for code in (source, target) if code in ground.sites
             for door in ground.sites[code].front_doors}  # fmt: skip
    pairs += [(source, row.source, "front door", row.source in doors) for row in crosswalk.front_doors]
    for site, name, kind, there in dict.fromkeys(pairs):
        if not there:
            sentence = f"The crosswalk names the {kind} {name}, which {site} does not have."
            yield warns("row-gone", name, sentence, f"Choose one that {site} has, or remove the row.")
    # What is at the target comes by this crosswalk once it has failed over: the twin is made before.
    here = [workload for code, workload in ground.workloads() if code in (source, target)]
    nics = {(workload.name, nic.name) for workload in here for nic in workload.nics}
    names = {workload.name for workload in here}
    for entry in crosswalk.table:
        if (entry.workload, entry.nic) not in nics:
            sentence = f"The table has an entry for {entry.nic} of {entry.workload}, which {source} lacks."
            yield warns("entry-gone", entry.workload, sentence, "Remove the entry.", entry.nic)
    for exception in crosswalk.exceptions:
        if exception.workload not in names:
            sentence = f"There is an exception for {exception.workload}, which {source} does not have."
            yield warns("entry-gone", exception.workload, sentence, "Remove the exception.")


def pool_replicated(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """A pool that is itself replicated cannot be landed on, whether or not something would."""
    for row in crosswalk.storage_pools:
        pool = ground.storage_pools.get((crosswalk.target, row.target))
        if pool is not None and pool.replicated:
            yield blocks(
                "landing-pool-replicated",
                row.source,
                f"{row.source} would land on {row.target}, which is itself replicated and cannot be written "
                "to.",
                "Choose a pool that is not replicated.",
            )


def stretch_differs(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """Two ends of one segment must say the same of it."""
    for row in crosswalk.networks:
        here = ground.networks.get((crosswalk.source, row.source))
        there = ground.networks.get((crosswalk.target, row.live))
        if here is None or there is None:
            continue
        said = here.stretched_with == f"{crosswalk.target}/{row.live}"
        said_back = there.stretched_with == f"{crosswalk.source}/{row.source}"
        if not said and not said_back:
            continue
        differ = []
        if said != said_back:
            silent = there if said else here
            differ.append(f"{silent.name} does not say that it is stretched")
        if set(here.prefixes) != set(there.prefixes):
            one, other = (", ".join(map(str, n.prefixes)) or "nothing" for n in (here, there))
            differ.append(f"one carries {one}, the other {other}")
        if here.vlan != there.vlan:
            differ.append(f"one is VLAN {here.vlan}, the other {there.vlan}")
        if set(here.gateways) != set(there.gateways):
            one, other = (", ".join(n.gateways) or "none" for n in (here, there))
            differ.append(f"the gateway is {one} here and {other} there")
        if differ:
            yield warns(
                "stretch-differs",
                row.source,
                f"{row.source} and {row.live} are one stretched segment, but {'; '.join(differ)}.",
                "Correct the end that is wrong on the page of its site.",
            )


def live_and_test_meet(crosswalk: Crosswalk, ground: Ground) -> Iterator[Finding]:
    """A network that live workloads land on is no sandbox."""
    lives = {(crosswalk.target, row.live): row.source for row in crosswalk.networks}
    segments = {ground.segment(place): (place[1], source) for place, source in lives.items()}
    for row in crosswalk.networks:
        meets = segments.get(ground.segment((crosswalk.target, row.sandbox))) if row.sandbox else None
        if meets:
            yield blocks(
                "live-and-test-meet",
                row.source,
                f"Tests of {row.source} would run on {row.sandbox}, where {meets[1]} lands live.",
                "Choose a sandbox network, or let each test make its own.",
            )
    for entry in crosswalk.table:
        test = entry.test.network if entry.test else None
        meets = segments.get(ground.segment((crosswalk.target, test))) if test else None
        if meets:
            yield blocks(
                "live-and-test-meet",
                entry.workload,
                f"A test of {entry.workload} would run on {test}, where {meets[1]} lands live.",
                "Choose a sandbox network for this adapter.",
                entry.nic,
            )


def reverse_missing(reverse: Crosswalk | None, crosswalk: Crosswalk) -> Iterator[Finding]:
    """Without the way back there is no re-protecting and no failback."""
    if reverse is None:
        back = f"{crosswalk.target} to {crosswalk.source}"
        yield note(
            "reverse-missing",
            back,
            f"There is no crosswalk {back}, so what failed over could not come home.",
            "Make its reverse crosswalk.",
        )


RULES: tuple[Callable[[Crosswalk, Ground], Iterator[Finding]], ...] = (
    row_twice, rules_overlap, gone, pool_replicated, stretch_differs, live_and_test_meet,
)  # fmt: skip


_checked: AnswerCache[Ground, Crosswalk, tuple[Finding, ...]] = AnswerCache(8)


def check_crosswalk(crosswalk: Crosswalk, ground: Ground) -> tuple[Finding, ...]:
    """What every rule noticed, each once."""
    return _checked.answer(
        ground, crosswalk,
        lambda: tuple(dict.fromkeys(found for rule in RULES for found in rule(crosswalk, ground))),
    )  # fmt: skip
