"""Reads a scenario (a folder of YAML files) into the values that practice sites and the loader use.

The files are written compactly for people; what they leave out is filled in here: MAC addresses from the
workload's name, gateways and name servers from the network.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import ip_interface
from pathlib import Path
from typing import Any

import yaml

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue, NotFound
from maestoso.core.model.estate import (
    HostPool,
    Inventory,
    Network,
    SiteLimits,
    StoragePool,
    Workload,
)
from maestoso.core.model.protection import Policy
from maestoso.core.replication.points import Burst, ChangeProfile
from maestoso.practice.spec import Replica, SiteSpec


class Scenario:
    """One folder of scenario files. ``data(name)`` gives the parsed content of ``name``.yaml."""

    def __init__(self, folder: Path) -> None:
        if not (folder / "sites.yaml").is_file():
            raise NotFound(f"{folder} holds no scenario: sites.yaml is missing.")
        self.folder = folder
        self._sites: dict[str, Any] = self.data("sites")["sites"]
        self.workloads: dict[str, Workload] = {}
        self.site_of: dict[str, str] = {}
        for row in self.data("workloads")["workloads"]:
            workload = self._workload(row)
            if workload.name in self.workloads:
                raise BadValue(f"{workload.name} is described twice.", "Remove one of the rows.")
            self.workloads[workload.name] = workload
            self.site_of[workload.name] = row["site"]

    def data(self, name: str) -> Any:
        """The content of one file; an empty object where there is none."""
        file = self.folder / f"{name}.yaml"
        return yaml.safe_load(file.read_text(encoding="utf-8")) if file.is_file() else {}

    def site_codes(self) -> tuple[str, ...]:
        """Codes of all sites, in order."""
        return tuple(self._sites)

    def site(self, code: str) -> dict[str, Any]:
        """What the file says of a site."""
        if code not in self._sites:
            raise NotFound(f"The scenario has no site {code!r}.", f"Use one of: {', '.join(self._sites)}.")
        row: dict[str, Any] = self._sites[code]
        return row

    def spec(self, code: str, created_at: datetime) -> SiteSpec:
        """What the practice site of ``code`` is made of; bursts are anchored to ``created_at``."""
        row = self.site(code)
        replicas, copied = [], []
        for group in self.data("protection").get("groups", []):
            if group["target"] == code:
                replicas.append(self._replica(group, created_at))
                copied += [self.workloads[name] for name in group["members"]]
        return SiteSpec(
            code=code,
            seed=row["seed"],
            inventory=self._inventory(code, row),
            replicas=tuple(replicas),
            copied=Inventory(workloads=tuple(copied)),
        )

    def _inventory(self, code: str, row: dict[str, Any]) -> Inventory:
        return Inventory(
            host_pools=tuple(from_data(HostPool, item) for item in row["host_pools"]),
            storage_pools=tuple(from_data(StoragePool, item) for item in row["storage_pools"]),
            networks=tuple(self._network(item) for item in row["networks"]),
            workloads=tuple(w for w in self.workloads.values() if self.site_of[w.name] == code),
            limits=from_data(SiteLimits, row["limits"]),
        )

    def _network(self, row: dict[str, Any]) -> Network:
        network = from_data(Network, row)
        gateways = tuple(str(prefix.network_address + 1) for prefix in network.prefixes)
        return replace(network, gateways=network.gateways or gateways)

    def _workload(self, row: dict[str, Any]) -> Workload:
        cores, memory_gib = row["size"]
        disks = [(pool, size) for pool, sizes in row["disks"].items() for size in sizes]
        return from_data(
            Workload,
            {
                "name": row["name"],
                "os_family": row.get("os", "linux"),
                "cores": cores,
                "memory_mib": memory_gib * 1024,
                "disks": [
                    {"name": f"disk{index}", "size_gib": size, "storage_pool": pool}
                    for index, (pool, size) in enumerate(disks)
                ],
                "nics": [self._nic(row["name"], index, nic) for index, nic in enumerate(row["nics"])],
                "offers": [self._service(text) for text in row.get("offers", [])],
                **{
                    key: row[key]
                    for key in ("tags", "owner", "criticality", "guest_agent", "needs_key", "uses")
                    if key in row
                },
            },
            at=row["name"],
        )

    def _nic(self, workload: str, index: int, row: dict[str, Any]) -> dict[str, Any]:
        digest = hashlib.sha256(f"{workload}/{index}".encode()).digest()
        given = row.get("address", row.get("dhcp"))
        addresses: list[str] = [given] if isinstance(given, str) else list(given or [])
        interfaces = [ip_interface(address) for address in addresses]
        return {
            "name": f"nic{index}",
            "network": row["network"],
            "mac": "02:" + ":".join(f"{byte:02x}" for byte in digest[:5]),
            "dhcp": "dhcp" in row,
            "addresses": addresses,
            "gateways": [str(interface.network.network_address + 1) for interface in interfaces],
            "dns": ["10.20.0.21"],
        }

    def _service(self, text: str) -> dict[str, Any]:
        name, protocol, port = text.split()
        return {"name": name, "protocol": protocol, "port": int(port)}

    def _replica(self, group: dict[str, Any], created_at: datetime) -> Replica:
        change = group["change"]
        bursts = []
        for burst in change.get("bursts", []):
            hour, minute = map(int, burst["at"].split(":"))
            night = created_at.replace(hour=hour, minute=minute, second=0, microsecond=0)
            # 'Last night' has been: before that hour, it is the night before.
            night -= timedelta(days=burst["nights_ago"] - (1 if night < created_at else 0))
            bursts.append(Burst(start=night, length_s=burst["minutes"] * 60, factor=burst["factor"]))
        return Replica(
            group=group["code"],
            members=tuple(group["members"]),
            policy=from_data(Policy, group["policy"]),
            profile=ChangeProfile(
                usual_bps=change["usual_mbps"] * 1e6,
                failed_share=change.get("failed_share", 0.0),
                bursts=tuple(bursts),
            ),
        )
