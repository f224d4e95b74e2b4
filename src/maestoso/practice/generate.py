"""Made-up estates of any size, as scenario folders that the demo starts with.

``python -m maestoso.practice.generate DIR --workloads 10000 --sites 4 --seed 7`` writes one;
``MAESTOSO_SCENARIO=DIR ./maestoso demo`` starts with it. The same seed gives the same estate.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

import numpy as np

NAMES = ("Amber", "Birch", "Cedar", "Dune", "Elm", "Fjord", "Grove", "Heath")
TIERS = ("data", "data", "app", "app", "app", "web", "web")
PER_APP = 7
PER_NETWORK = 200
LARGEST = 8


def generate(workloads: int, sites: int, seed: int) -> dict[str, Any]:
    """The files of a scenario by name: sites, workloads, protection, crosswalks.

    Workloads come in applications of seven (data, app and web tiers that use each other), each in a group of
    its own that is copied to the next site. Every eleventh application is not protected. Each site
    keeps networks for what comes from the one before it, and a crosswalk says so.
    """
    random = np.random.default_rng(seed)
    codes = [NAMES[index][:3].upper() for index in range(sites)]
    rows, groups = [], []
    counts = dict.fromkeys(codes, 0)
    for number in range(workloads):
        app, member = divmod(number, PER_APP)
        code = codes[app % sites]
        rows.append(_workload(random, app, member, code, counts[code]))
        counts[code] += 1
    for app in range(-(-workloads // PER_APP)):
        if app % 11 != 10 and sites > 1:
            members = [row["name"] for row in rows[app * PER_APP : (app + 1) * PER_APP]]
            groups.append(_group(random, app, codes, members))
    return {
        "sites": {
            "sites": {
                code: _site(
                    code, index, counts[code], _networks(counts[codes[index - 1]]) if sites > 1 else 0
                )
                for index, code in enumerate(codes)
            },
            "links": [
                {"between": [one, other], "bandwidth_bps": 40_000_000_000, "latency_ms": 5.0}
                for index, one in enumerate(codes)
                for other in codes[index + 1 :]
            ],
        },
        "workloads": {"workloads": rows},
        "protection": {"groups": groups},
        "crosswalks": {"crosswalks": _crosswalks(codes, counts)},
    }


def _workload(random: np.random.Generator, app: int, member: int, code: str, count: int) -> dict[str, Any]:
    network, host = divmod(count, PER_NETWORK)
    site = [name[:3].upper() for name in NAMES].index(code)
    tier = TIERS[member]
    base = f"app{app:04d}"
    row = {
        "name": f"{base}-{tier}-{member + 1}",
        "site": code,
        "size": [int(random.choice((2, 4, 8, 16))), int(random.choice((4, 8, 16, 32)))],
        "disks": {
            f"{code.lower()}-disk": [int(random.choice((20, 40, 60))), int(random.integers(1, 40)) * 10]
        },
        "nics": [
            {"network": f"{code.lower()}-{network}", "address": f"10.{site + 1}.{network}.{host + 10}/24"}
        ],
        "tags": {"app": base, "tier": tier},
        "offers": [f"{base}-{member} tcp {5000 + member}"],
        "criticality": str(random.choice(("vital", "important", "deferrable"))),
    }
    return row | ({"uses": [f"{base}-{int(random.integers(0, member))}"]} if member else {})


def _group(random: np.random.Generator, app: int, codes: list[str], members: list[str]) -> dict[str, Any]:
    source = app % len(codes)
    return {
        "code": f"app{app:04d}",
        "name": f"Application {app}",
        "source": codes[source],
        "target": codes[(source + 1) % len(codes)],
        "members": members,
        "policy": {
            "interval_s": int(random.choice((60, 300, 900))), "rpo_s": 1800, "keep_all_s": 3600,
            "keep_hourly_s": 86400, "keep_daily_s": 7 * 86400,
        },
        "change": {"usual_mbps": float(np.round(random.lognormal(-2.5, 0.8), 4)), "failed_share": 0.01},
    }  # fmt: skip


def _networks(count: int) -> int:
    return -(-max(count, 1) // PER_NETWORK)


def _crosswalks(codes: list[str], counts: dict[str, int]) -> list[dict[str, Any]]:
    """From each site to the next."""
    found = []
    for index, code in enumerate(codes if len(codes) > 1 else []):
        to = (index + 1) % len(codes)
        low, there = code.lower(), codes[to].lower()
        moves = [
            {"action": "translate", "to": f"10.{to + 101}.{n}.0/24", "gateway": f"10.{to + 101}.{n}.1"}
            for n in range(_networks(counts[code]))
        ]
        found.append(
            {
                "source": code,
                "target": codes[to],
                "networks": [{"source": f"{low}-{n}", "live": f"{there}-in-{n}"} for n in range(len(moves))],
                "host_pools": [{"source": f"{low}-hosts", "target": f"{there}-hosts"}],
                "storage_pools": [{"source": f"{low}-disk", "target": f"{there}-disk"}],
                "address_rules": [
                    {"prefix": f"10.{index + 1}.{n}.0/24", "live": says, "test": says}
                    for n, says in enumerate(moves)
                ],
            }
        )
    return found


def _site(code: str, index: int, count: int, coming: int) -> dict[str, Any]:
    """``coming`` is how many networks the site keeps for what comes from another."""
    networks = _networks(count)
    return {
        "name": NAMES[index],
        "kind": "datacentre",
        "time_zone": "UTC",
        "seed": 100 + index,
        "limits": {"power": 16, "copies": 16, "clones": 16},
        "host_pools": [
            {"name": f"{code.lower()}-hosts", "hosts": 2 + count // 20, "cores": 64 + 20 * count,
             "memory_mib": 65536 + 40960 * count}
        ],
        "storage_pools": [{"name": f"{code.lower()}-disk", "capacity_gib": 2000 + 1000 * count}],
        "networks": [
            {"name": f"{code.lower()}-{n}", "vlan": 100 + n, "prefixes": [f"10.{index + 1}.{n}.0/24"]}
            for n in range(networks)
        ]
        + [
            {"name": f"{code.lower()}-in-{n}", "vlan": 2000 + n, "prefixes": [f"10.{index + 101}.{n}.0/24"]}
            for n in range(coming)
        ],
    }  # fmt: skip


def main() -> None:
    """Write the folder."""
    parser = argparse.ArgumentParser(prog="maestoso.practice.generate", description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--workloads", type=int, default=1000)
    parser.add_argument("--sites", type=int, default=3, choices=range(1, LARGEST + 1))
    parser.add_argument("--seed", type=int, default=7)
    options = parser.parse_args()
    most = options.sites * PER_NETWORK * 250
    if not 1 <= options.workloads <= most:
        parser.error(f"--workloads must be 1 to {most} for {options.sites} sites")
    options.folder.mkdir(parents=True, exist_ok=True)
    for name, content in generate(options.workloads, options.sites, options.seed).items():
        file = options.folder / f"{name}.json"
        file.write_text(json.dumps(content, indent=1) + "\n", encoding="utf-8")
        print(file)


if __name__ == "__main__":
    main()
