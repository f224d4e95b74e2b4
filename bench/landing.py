"""Ratios of re-IP and landings: ``python -m bench.landing``. Asserts nothing.

The plain version walks the rules with ``ipaddress`` for every address, as one would write it first. It is
timed on a part of the addresses and scaled; both make the same strings, which is looked at once.
"""

from __future__ import annotations

import gc
import random
import time
from dataclasses import replace
from ipaddress import IPv4Network, IPv6Network, ip_address, ip_interface

from tests import worlds

from bench.core import best
from maestoso.core.addressing.rule_table import RuleTable
from maestoso.core.addressing.trial import DOES_NOT_FIT, readdress
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.judge import judge_landings
from maestoso.core.landing.resolve import resolve
from maestoso.core.model.crosswalk import SIDES, AddressRule, NetworkRow, Readdress
from maestoso.core.model.estate import HostPool, Network, StoragePool

ADDRESSES, RULES, PLAIN = 100_000, 1_000, 500
WORKLOADS, PER_NETWORK = 10_000, 200


def rules(family: int, dice: random.Random) -> list[AddressRule]:
    """Rules with prefixes of many lengths, some inside others."""
    bits, shortest, longest = (32, 12, 28) if family == 4 else (128, 40, 64)
    made = IPv4Network if family == 4 else IPv6Network
    found: dict[IPv4Network | IPv6Network, AddressRule] = {}
    while len(found) < RULES:
        length = dice.randint(shortest, longest)
        prefix = made((dice.getrandbits(length) << (bits - length), length))
        says = Readdress(action="translate", to=made((dice.getrandbits(length) << (bits - length), length)))
        found[prefix] = AddressRule(prefix=prefix, live=says, test=says)
    return list(found.values())


def plain(texts: list[str], all_rules: list[AddressRule]) -> list[str]:
    """One by one."""
    found = []
    for text in texts:
        address = ip_address(text)
        holding = [rule for rule in all_rules if address in rule.prefix]
        rule = max(holding, key=lambda one: one.prefix.prefixlen, default=None)
        to = rule.live.to if rule else None
        if rule is None or to is None:
            found.append("")
            continue
        host = int(address) - int(rule.prefix.network_address)
        found.append(str(to.network_address + host) if host < to.num_addresses else DOES_NOT_FIT)
    return found


def compare(family: int) -> None:
    """One family."""
    dice = random.Random(5)
    all_rules = rules(family, dice)
    spread = 12 if family == 6 else 4
    texts = [str(dice.choice(all_rules).prefix.network_address + dice.randrange(2**spread))
             for _ in range(ADDRESSES)]  # fmt: skip
    took, after = best(lambda: readdress(texts, RuleTable(all_rules, "live"))[0])
    begin = time.perf_counter()
    expected = plain(texts[:PLAIN], all_rules)
    one_by_one = (time.perf_counter() - begin) * ADDRESSES / PLAIN
    same = "the same strings" if expected == after[:PLAIN] else "OTHER STRINGS"
    print(f"IPv{family}: {ADDRESSES} addresses over {RULES} rules")
    print(f"  arrays                        {took * 1e3:9.1f} ms")
    print(f"  ipaddress, one by one         {one_by_one * 1e3:9.1f} ms, {one_by_one / took:.0f} x, {same}")


def landings() -> None:
    """All landings of a large site, live and in a test."""
    count = WORKLOADS // PER_NETWORK
    here = [Network(name=f"a{n}", vlan=n, prefixes=(IPv4Network(f"10.{n}.0.0/16"),)) for n in range(count)]
    there = [
        Network(name=f"b{n}", vlan=n, prefixes=(IPv4Network(f"172.{n}.0.0/16"),), gateways=(f"172.{n}.0.1",))
        for n in range(count)
    ]
    workloads = []
    for number in range(WORKLOADS):
        net, host = divmod(number, PER_NETWORK)
        made = worlds.workload(f"w{number:05d}", 1)
        address = ip_interface(f"10.{net}.1.{host + 10}/16")
        mac = f"02:00:00:00:{number >> 8:02x}:{number & 255:02x}"
        nic = replace(made.nics[0], network=f"a{net}", addresses=(address,), mac=mac, gateways=())
        workloads.append(replace(made, nics=(nic,)))
    moved = [
        AddressRule(prefix=one.prefixes[0], live=says, test=says)
        for one, other in zip(here, there, strict=True)
        for says in [Readdress(action="translate", to=other.prefixes[0], gateway=other.gateways[0])]
    ]
    walk = worlds.crosswalk(
        networks=tuple(NetworkRow(source=f"a{n}", live=f"b{n}") for n in range(count)),
        address_rules=tuple(moved),
    )
    big = (HostPool(name="b-hosts", hosts=9, cores=10**6, memory_mib=10**9),)
    sites = {
        "A": worlds.source(networks=tuple(here), workloads=tuple(workloads)),
        "B": worlds.target(
            networks=tuple(there), host_pools=big,
            storage_pools=(StoragePool(name="b-disk", capacity_gib=10**7),),
        ),
    }  # fmt: skip
    building, ground = best(lambda: Ground(sites))
    gc.disable()  # as the server does while it judges
    resolving, _ = best(lambda: resolve(workloads, walk, ground, "live"))
    judging, sides = best(lambda: [judge_landings(walk, ground, workloads, side, ()) for side in SIDES])
    gc.enable()
    print(f"{WORKLOADS} workloads, {count} networks")
    print(f"  ground                        {building * 1e3:9.1f} ms")
    print(f"  resolve one side              {resolving * 1e3:9.1f} ms")
    print(f"  judge both sides              {judging * 1e3:9.1f} ms, {len(sides[0].findings)} findings")


if __name__ == "__main__":
    compare(4)
    compare(6)
    landings()
