"""Reads a scenario (a folder of YAML files) into the values that practice sites and the loader use.

The files are written compactly for people; what they leave out is filled in here: MAC addresses from the
workload's name, gateways and name servers from the network.
"""

from __future__ import annotations

import hashlib
from dataclasses import replace
from datetime import datetime, timedelta
from ipaddress import ip_interface, ip_network
from pathlib import Path
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue, NotFound
from maestoso.core.model.estate import (
    FrontDoor,
    HostPool,
    Inventory,
    Link,
    Network,
    SiteLimits,
    StoragePool,
    Workload,
)
from maestoso.core.model.plan import Plan
from maestoso.core.model.protection import Group
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.replication.change import Burst, ChangeProfile, Job, derived_usual_bps
from maestoso.core.replication.throttle import minute_of
from maestoso.practice.scenario_files import read_file, site_codes
from maestoso.practice.spec import Replica, SiteSpec


class Scenario:
    """One folder of scenario files. ``data(name)`` gives the parsed content of ``name``.yaml."""

    def __init__(self, folder: Path) -> None:
        self._codes = site_codes(folder)
        self.folder = folder
        self._read: dict[str, Any] = {}
        self._sites: dict[str, Any] = self.data("sites")["sites"]
        self.workloads: dict[str, Workload] = {}
        self.site_of: dict[str, str] = {}
        for row in self.data("workloads")["workloads"]:
            workload = self._workload(self._with_place(row))
            if workload.name in self.workloads:
                raise BadValue(f"{workload.name} is described twice.", "Remove one of the rows.")
            self.workloads[workload.name] = workload
            self.site_of[workload.name] = row["site"]

    def data(self, name: str) -> Any:
        """The content of one file; an empty object where there is none."""
        if name not in self._read:
            self._read[name] = read_file(self.folder, name)
        return self._read[name]

    @property
    def organisation(self) -> str:
        """Whose estate it is; empty where the files do not say."""
        return str(self.data("sites").get("organisation", ""))

    @property
    def time_zone(self) -> str:
        """Where its clocks are."""
        return str(self.data("sites").get("time_zone", "UTC"))

    def site_codes(self) -> tuple[str, ...]:
        """Codes of all sites, in order."""
        return self._codes

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
        usual: dict[str, float] = {}
        for group in self.data("protection").get("groups", []):
            usual |= self._usual(group)
            if group["target"] == code:
                replicas.append(self._replica(group, created_at))
                copied += [self.workloads[name] for name in group["members"]]
        return SiteSpec(
            code=code,
            seed=row["seed"],
            inventory=self._inventory(code, row),
            replicas=tuple(replicas),
            copied=Inventory(workloads=tuple(copied)),
            links=self.links(),
            usual_bps=usual,
        )

    def links(self) -> tuple[Link, ...]:
        """The lines between the sites."""
        return tuple(_link(row) for row in self.data("sites").get("links", []))

    def groups(self) -> tuple[Group, ...]:
        """The groups of all sites."""
        return tuple(self._group(row) for row in self.data("protection").get("groups", []))

    def scripts(self) -> tuple[ScriptText, ...]:
        """The script library."""
        return tuple(
            ScriptText(
                name=row["name"],
                interpreter=row["interpreter"],
                text=row["text"],
                sha256=digest(row["text"]),
            )
            for row in self.data("scripts").get("scripts", [])
        )

    def plans(self) -> tuple[Plan, ...]:
        """The plans; a script cue takes in the text that the library has."""
        hashes = {script.name: script.sha256 for script in self.scripts()}
        rows = self.data("plans").get("plans", [])
        return tuple(from_data(Plan, _with_hashes(_without(row, "then"), hashes)) for row in rows)

    def _group(self, row: dict[str, Any]) -> Group:
        known = {key: value for key, value in row.items() if key not in ("change", "key")}
        return from_data(Group, known, at=row["code"])

    def _usual(self, group: dict[str, Any]) -> dict[str, float]:
        """The changes of a group, spread over its members by their size."""
        sizes = {name: self.workloads[name].size_gib for name in group["members"]}
        total = sum(sizes.values()) or 1
        if "change" not in group:
            return {name: derived_usual_bps(self.workloads[name]) for name in sizes}
        return {name: group["change"]["usual_mbps"] * 1e6 * size / total for name, size in sizes.items()}

    def _inventory(self, code: str, row: dict[str, Any]) -> Inventory:
        return Inventory(
            host_pools=tuple(from_data(HostPool, item) for item in row["host_pools"]),
            storage_pools=tuple(from_data(StoragePool, item) for item in row["storage_pools"]),
            networks=tuple(self._network(item) for item in row["networks"]),
            workloads=tuple(w for w in self.workloads.values() if self.site_of[w.name] == code),
            limits=from_data(SiteLimits, row["limits"]),
            folders=tuple(row.get("folders", ())),
            front_doors=tuple(from_data(FrontDoor, item) for item in row.get("front_doors", ())),
            door_addresses=tuple(map(ip_network, row.get("door_addresses", ()))),
        )

    def _network(self, row: dict[str, Any]) -> Network:
        network = from_data(Network, row)
        gateways = tuple(str(prefix.network_address + 1) for prefix in network.prefixes)
        return replace(network, gateways=network.gateways or gateways)

    def _with_place(self, row: dict[str, Any]) -> dict[str, Any]:
        """Host pool and folder, where the site leaves no doubt: its only pool, the application's folder."""
        site = self._sites.get(row["site"], {})
        pools = [pool["name"] for pool in site.get("host_pools", [])]
        app = row.get("tags", {}).get("app", "")
        return {
            "host_pool": pools[0] if len(pools) == 1 else "",
            "folder": app if app in site.get("folders", ()) else "",
            **row,
        }

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
                    {
                        "name": f"disk{index}",
                        "size_gib": size,
                        "storage_pool": pool,
                        "left_out_because": row.get("left_out", {}).get(f"disk{index}"),
                    }
                    for index, (pool, size) in enumerate(disks)
                ],
                "nics": [self._nic(row["name"], index, nic) for index, nic in enumerate(row["nics"])],
                "offers": [self._service(text) for text in row.get("offers", [])],
                **{
                    key: row[key]
                    for key in (
                        "tags",
                        "owner",
                        "criticality",
                        "guest_agent",
                        "needs_key",
                        "uses",
                        "host_pool",
                        "folder",
                    )
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

    def _replica(self, row: dict[str, Any], created_at: datetime) -> Replica:
        change = row.get("change", {})
        profile = ChangeProfile(
            usual_bps=sum(self._usual(row).values()),
            failed_share=change.get("failed_share", 0.0),
            bursts=tuple(_burst(burst, created_at) for burst in change.get("bursts", [])),
            jobs=tuple(_job(job) for job in change.get("jobs", [])),
        )
        return Replica(group=self._group(row), profile=profile)


def digest(text: str) -> str:
    """The SHA-256 of a script's text, in hexadecimal."""
    return hashlib.sha256(text.encode()).hexdigest()


def _without(row: dict[str, Any], key: str) -> dict[str, Any]:
    return {name: value for name, value in row.items() if name != key}


def _with_hashes(data: Any, hashes: dict[str, str]) -> Any:
    if isinstance(data, list):
        return [_with_hashes(item, hashes) for item in data]
    if not isinstance(data, dict):
        return data
    made = {key: _with_hashes(value, hashes) for key, value in data.items()}
    return {"sha256": hashes[made["script"]], **made} if isinstance(made.get("script"), str) else made


def _link(row: dict[str, Any]) -> Link:
    one, other = row["between"]
    rest = {key: value for key, value in row.items() if key != "between"}
    return from_data(Link, {"one": one, "other": other, **rest}, at="link")


def _burst(row: dict[str, Any], created_at: datetime) -> Burst:
    hour, minute = map(int, row["at"].split(":"))
    night = created_at.replace(hour=hour, minute=minute, second=0, microsecond=0)
    # 'Last night' has been: before that hour, it is the night before.
    night -= timedelta(days=row["nights_ago"] - (1 if night < created_at else 0))
    return Burst(start=night, length_s=row["minutes"] * 60, factor=row["factor"])


def _job(row: dict[str, Any]) -> Job:
    return Job(begins_s=minute_of(row["at"]) * 60, length_s=row["minutes"] * 60, factor=row["factor"])
