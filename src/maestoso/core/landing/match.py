"""Proposals for the rows that a crosswalk lacks, each with its reason and how sure it is.

The score of a pair of networks is a weighted sum of what they have in common; pairs are then chosen so that
the sum over all is largest (an assignment, Kuhn 1955), which keeps one tempting pair from spoiling the rest.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence, Set
from dataclasses import dataclass, replace
from difflib import SequenceMatcher
from typing import Literal

import numpy as np

from maestoso.core.addressing.rule_table import RuleTable
from maestoso.core.addressing.translate import translate
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.unmapped import sources
from maestoso.core.model.crosswalk import AddressRule, Crosswalk, NetworkRow, PoolRow, Readdress
from maestoso.core.model.estate import Network, Prefix

LEAST = 0.35
"""Below this a proposal would be a guess."""

MatchKind = Literal["network", "host pool", "storage pool", "folder", "address rule"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Proposal:
    """One row that could be added. Exactly one of ``network``, ``pool`` and ``rule`` is set."""

    kind: MatchKind
    source: str
    target: str
    reason: str
    confidence: float
    network: NetworkRow | None = None
    pool: PoolRow | None = None
    rule: AddressRule | None = None


Scored = tuple[float, str]


def propose(crosswalk: Crosswalk, ground: Ground) -> tuple[Proposal, ...]:
    """Rows for everything that has none yet; address rules for mapped and for proposed networks."""
    networks = _networks(crosswalk, ground)
    rows = (*crosswalk.networks, *(one.network for one in networks if one.network))
    return (*networks, *_pools(crosswalk, ground), *_folders(crosswalk, ground),
            *_rules(crosswalk, rows, ground))  # fmt: skip


def _bare(name: str, site: str) -> str:
    """A name without what only says where it is: the site's code, its digits stay."""
    parts = [part for part in re.split(r"[^a-z0-9]+", name.lower()) if part]
    kept = [part for part in parts if part not in (site.lower(), site.lower()[:3])]
    return "-".join(kept or parts)


def _alike(one: str, other: str) -> Scored:
    if one == other:
        return 0.6, f"both are called {one}"
    ratio = SequenceMatcher(None, one, other).ratio()
    return (0.5 * ratio, f"{one} is like {other}") if ratio >= 0.6 else (0.0, "")


def _pairs(left: Sequence[str], right: Sequence[str], scores: list[list[Scored]]) -> list[tuple[int, int]]:
    """The best pairs, each at least as sure as ``LEAST``."""
    if not left or not right:
        return []
    matrix = np.array([[score for score, _ in row] for row in scores])
    from scipy.optimize import linear_sum_assignment  # loaded where it is used: it takes long

    rows, columns = linear_sum_assignment(matrix, maximize=True)
    chosen = zip(rows.tolist(), columns.tolist(), strict=True)
    return [(row, column) for row, column in chosen if matrix[row, column] >= LEAST]


def _networks(crosswalk: Crosswalk, ground: Ground) -> list[Proposal]:
    source, target = ground.sites[crosswalk.source], ground.sites[crosswalk.target]
    have = {row.source for row in crosswalk.networks}
    left = [n for n in source.networks if n.name not in have and n.role == "production"]
    right = [n for n in target.networks if n.role == "production"]
    tags = {
        (code, network.name): _tags(code, network.name, ground)
        for code, some in ((crosswalk.source, left), (crosswalk.target, right))
        for network in some
    }
    scores = [
        [_network_score(crosswalk, one, other, tags[(crosswalk.source, one.name)],
                        tags[(crosswalk.target, other.name)]) for other in right]
        for one in left
    ]  # fmt: skip
    # A target that has a network already can take another, but one that is free is better.
    taken = {row.live for row in crosswalk.networks}
    scores = [
        [(score - 0.2 if other.name in taken else score, why)
         for (score, why), other in zip(row, right, strict=True)]
        for row in scores
    ]  # fmt: skip
    found = []
    for row, column in _pairs([n.name for n in left], [n.name for n in right], scores):
        score, why = scores[row][column]
        sandbox = _sandbox(right[column], target.networks)
        if sandbox:
            why += f"; {sandbox} is a sandbox with the same prefix"
        found.append(
            Proposal(
                kind="network", source=left[row].name, target=right[column].name, reason=why,
                confidence=round(min(score, 1.0), 2),
                network=NetworkRow(source=left[row].name, live=right[column].name, sandbox=sandbox),
            )
        )  # fmt: skip
    return found


def _tags(site: str, network: str, ground: Ground) -> Counter[str]:
    """How often each tag is on a workload of this network."""
    return Counter(
        f"{key}={value}"
        for workload in ground.sites[site].workloads
        if any(nic.network == network for nic in workload.nics)
        for key, value in workload.tags.items()
    )


def _network_score(
    crosswalk: Crosswalk, one: Network, other: Network, tags: Counter[str], their_tags: Counter[str]
) -> Scored:
    stretched = f"{crosswalk.target}/{other.name}", f"{crosswalk.source}/{one.name}"
    if one.stretched_with == stretched[0] or other.stretched_with == stretched[1]:
        return 1.0, "they are one stretched segment"
    score, why = _alike(_bare(one.name, crosswalk.source), _bare(other.name, crosswalk.target))
    reasons = [why] if why else []
    if set(one.prefixes) & set(other.prefixes):
        score += 0.3
        reasons.append("both carry the same prefix")
    elif _lengths(one) and _lengths(one) == _lengths(other):
        score += 0.15
        reasons.append(f"prefixes of the same size ({', '.join(f'/{n}' for n in _lengths(one))})")
    if one.vlan == other.vlan:
        score += 0.2
        reasons.append(f"both are VLAN {one.vlan}")
    if one.dhcp and other.dhcp:
        score += 0.05
        reasons.append("DHCP on both")
    common = set(tags) & set(their_tags)
    if common:
        score += 0.1
        reasons.append(f"workloads tagged {min(common)} on both")
    return score, "; ".join(reasons)


def _lengths(network: Network) -> list[int]:
    return sorted(prefix.prefixlen for prefix in network.prefixes)


def _sandbox(live: Network, networks: Sequence[Network]) -> str | None:
    """A fixed sandbox in the likeness of a network, if the target has one."""
    alike = (n.name for n in networks if n.role == "sandbox" and set(n.prefixes) & set(live.prefixes))
    return next(alike, None)


def _pools(crosswalk: Crosswalk, ground: Ground) -> list[Proposal]:
    source, target = ground.sites[crosswalk.source], ground.sites[crosswalk.target]
    found = []
    hosts = [p.name for p in source.host_pools if p.name not in {r.source for r in crosswalk.host_pools}]
    found += _by_name(crosswalk, "host pool", hosts, [(p.name, "") for p in target.host_pools])
    stores = [
        p.name for p in source.storage_pools if p.name not in {r.source for r in crosswalk.storage_pools}
    ]
    room = [
        (pool.name, f"{pool.capacity_gib - pool.used_gib} GiB free")
        for pool in sorted(target.storage_pools, key=lambda pool: pool.used_gib - pool.capacity_gib)
        if not pool.replicated
    ]
    found += _by_name(crosswalk, "storage pool", stores, room)
    return found


def _by_name(
    crosswalk: Crosswalk, kind: MatchKind, left: Sequence[str], right: Sequence[tuple[str, str]]
) -> list[Proposal]:
    """Pairs by name; what is left over goes to the only choice there is, or to the one with most room."""
    scores = [
        [_alike(_bare(one, crosswalk.source), _bare(other, crosswalk.target)) for other, _ in right]
        for one in left
    ]
    found = {}
    for row, column in _pairs(left, [name for name, _ in right], scores):
        found[left[row]] = (right[column][0], scores[row][column][1], 0.3 + scores[row][column][0])
    for name in left:
        if name not in found and right:
            only = len(right) == 1
            why = f"it is the only {kind} there" if only else f"it has the most room ({right[0][1]})"
            if only or right[0][1]:
                found[name] = (right[0][0], why, 0.8 if only else 0.4)
    return [
        Proposal(
            kind=kind, source=name, target=target, reason=why, confidence=round(min(score, 1.0), 2),
            pool=PoolRow(source=name, target=target),
        )
        for name, (target, why, score) in found.items()
    ]  # fmt: skip


def _folders(crosswalk: Crosswalk, ground: Ground) -> list[Proposal]:
    have = {row.source for row in crosswalk.folders}
    wanted = [s.name for s in sources(crosswalk.source, ground) if s.kind == "folder" and s.name not in have]
    there = [(name, "") for name in ground.sites[crosswalk.target].folders]
    return _by_name(crosswalk, "folder", wanted, there) if len(there) > 1 else []


def _rules(crosswalk: Crosswalk, rows: Sequence[NetworkRow], ground: Ground) -> list[Proposal]:
    have = {rule.prefix for rule in crosswalk.address_rules}
    taken = {rule.live.to for rule in crosswalk.address_rules if rule.live.to is not None}
    found: list[Proposal] = []
    for row in rows:
        here = ground.networks.get((crosswalk.source, row.source))
        there = ground.networks.get((crosswalk.target, row.live))
        if here is None or there is None:
            continue
        for prefix in here.prefixes:
            if prefix not in have:
                have.add(prefix)
                made = _rule(prefix, here, there, crosswalk, ground, taken)
                if made is not None:
                    found.append(made)
                    if made.rule is not None and made.rule.live.to is not None:
                        taken.add(made.rule.live.to)
    return _with_dns(found, crosswalk, rows, ground)


def _rule(
    prefix: Prefix, here: Network, there: Network, crosswalk: Crosswalk, ground: Ground, taken: Set[Prefix]
) -> Proposal | None:
    """A rule for one prefix. A prefix that another network goes to already is ``taken``, and a last choice:
    two networks of the same size would meet there address by address."""
    family = [other for other in there.prefixes if other.version == prefix.version]
    gateway = next((g for g in there.gateways if (":" in g) == (prefix.version == 6)), None)
    if prefix in family:
        same = ground.segment((crosswalk.source, here.name)) == ground.segment((crosswalk.target, there.name))
        why = "the segment is stretched" if same else "both networks carry this prefix"
        says, confidence = Readdress(action="keep"), 1.0 if same else 0.7
        target = "keep"
    elif family:
        to = min(family, key=lambda other: (other in taken, abs(other.prefixlen - prefix.prefixlen)))
        says = Readdress(action="translate", to=to, gateway=gateway, dns=there.dns)
        equal = to.prefixlen == prefix.prefixlen
        why = "prefixes of the same size" if equal else f"{to} is the nearest in size"
        confidence, target = (0.9 if equal else 0.5), str(to)
        if to in taken:
            why, confidence = f"{why}; another network goes to {to} already", 0.2
    elif there.dhcp:
        says, why, confidence, target = Readdress(action="dhcp"), f"{there.name} has DHCP", 0.5, "dhcp"
    else:
        return None
    return Proposal(
        kind="address rule", source=str(prefix), target=target, reason=why, confidence=confidence,
        rule=AddressRule(prefix=prefix, live=says, test=says),
    )  # fmt: skip


def _with_dns(
    found: list[Proposal], crosswalk: Crosswalk, rows: Sequence[NetworkRow], ground: Ground
) -> list[Proposal]:
    """Name servers that land by these rules themselves are asked where they will be."""
    rules = (*crosswalk.address_rules, *(one.rule for one in found if one.rule))
    table = RuleTable(rules, "live")
    held = {
        str(address.ip): address
        for workload in ground.sites[crosswalk.source].workloads
        for nic in workload.nics
        for address in nic.addresses
    }
    network_of = {
        prefix: row.source
        for row in rows
        if (network := ground.networks.get((crosswalk.source, row.source)))
        for prefix in network.prefixes
    }
    better = []
    for one in found:
        rule = one.rule
        if rule is None or rule.live.action != "translate" or rule.live.dns:
            better.append(one)
            continue
        asked = Counter(
            nic.dns for workload in ground.sites[crosswalk.source].workloads for nic in workload.nics
            if nic.network == network_of.get(rule.prefix) and nic.dns
        )  # fmt: skip
        servers = []
        for text in asked.most_common(1)[0][0] if asked else ():
            address = held.get(text)
            by = table.rule_of(address) if address else None
            moves = by is not None and by.live.action == "translate" and by.live.to is not None
            servers.append(
                str(translate(address, by.prefix, by.live.to).ip)
                if address and by and by.live.to and moves else text
            )  # fmt: skip
        says = replace(rule.live, dns=tuple(servers))
        better.append(replace(one, rule=replace(rule, live=says, test=says)))
    return better
