"""What the site says of itself: its host, networks and machines, what runs and what answers."""

from __future__ import annotations

import hashlib
import json
import os
import threading
import time
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from maestoso.agent_kit.platform import Failure

from . import definition, images
from .chains import ImageFault
from .front_doors import FrontDoors
from .guest_machines import LOOK_AGAIN_S
from .host import clone_at
from .leases import no_reservations
from .settings import NetworkSetting, Settings

_SAID = ("tags", "owner", "criticality", "os_family", "offers", "uses", "needs_key", "folder")


class Estate(FrontDoors):
    """What the site is and has."""

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings)
        self._mark = ""
        self._marked_at = 0.0
        self._news = threading.Event()
        self.hypervisor.changed.append(lambda name: self._news.set())

    def inventory(self) -> dict[str, Any]:
        """The host, its bridges, its folders of disks, and the machines that are at home here."""
        told = self.hypervisor.connection.getInfo()
        own = [self._workload(name) for name in self._own()]
        return {
            "host_pools": [{
                "name": self.settings.host_pool, "hosts": 1, "cores": int(told[2]),
                "memory_mib": self.hypervisor.memory_mib(),
                "used_cores": sum(one["cores"] for one in own),
                "used_memory_mib": sum(one["memory_mib"] for one in own),
            }],
            "storage_pools": [_storage(name, folder) for name, folder in self._storage().items()],
            "networks": [_network(one) for one in self.settings.networks.values()],
            "workloads": own,
            "limits": {"power": 4, "copies": 4, "clones": 4},
            "front_doors": self.doors_said(),
            "door_addresses": list(self.settings.front_doors.addresses) if self.settings.front_doors else [],
        }  # fmt: skip

    def inventory_mark(self) -> str:
        """Changes with the machines and what is said of them, not with what the host has free at the moment;
        made anew when libvirt tells that something happened, and once in a while."""
        if self._news.is_set() or not self._mark or time.monotonic() - self._marked_at > LOOK_AGAIN_S:
            self._news.clear()
            self._marked_at = time.monotonic()
            said = [*(self._workload(name) for name in self._own()), *self.doors_said()]
            self._mark = hashlib.sha256(json.dumps(said, sort_keys=True).encode()).hexdigest()[:16]
        return self._mark

    def _storage(self) -> dict[str, Path]:
        return {**self.settings.storage, "copies": self.settings.folder}

    def _own(self) -> list[str]:
        return [name for name in self.hypervisor.names() if self.hypervisor.kept(name).get("own", True)]

    def _workload(self, name: str) -> dict[str, Any]:
        """What a machine is, in the shape Workload."""
        described = self.hypervisor.xml(name)
        kept = self.hypervisor.kept(name)
        seen = self._adapters(name)
        nics = []
        for nic in definition.nics(described):
            network = next(
                (one.name for one in self.settings.networks.values() if one.bridge == nic.bridge), nic.bridge
            )
            nics.append({"name": nic.name, "network": network, "mac": nic.mac, **seen.get(nic.mac, {})})
        disks = [
            {
                "name": one.name,
                "size_gib": definition.size_gib(_size(one)),
                "storage_pool": self._pool_of(one.file),
            }
            for one in definition.disks(described)
        ]
        disks += [
            {
                "name": one,
                "size_gib": 1,
                "storage_pool": "",
                "left_out_because": "It is no file, and cannot be copied.",
            }
            for one in definition.other_disks(described)
        ]
        said = {**kept.get("workload", {}), **definition.said_by_people(described)}
        return {
            **{part: value for part, value in said.items() if part in _SAID},
            "name": name, "cores": definition.cores(described),
            "memory_mib": definition.memory_mib(described),
            "disks": disks, "nics": nics, "guest_agent": definition.has_agent(described),
            "host_pool": self.settings.host_pool,
        }  # fmt: skip

    def _pool_of(self, file: Path) -> str:
        found = [name for name, folder in self._storage().items() if file.is_relative_to(folder)]
        return max(found, key=lambda name: len(str(self._storage()[name])), default="")

    def running(self) -> tuple[int, int]:
        """Machines that have power: for real, and copies of tests."""
        tests = [
            bool(self.hypervisor.kept(name).get("test"))
            for name in self.hypervisor.names()
            if self.hypervisor.running(name)
        ]
        return tests.count(False), tests.count(True)

    def off(self) -> list[str]:
        """Its own machines that have no power."""
        return [name for name in self._own() if not self.hypervisor.running(name)]

    def answering(self, workloads: Iterable[str], mark: str) -> dict[str, list[str]]:
        """Services of workloads that answer now; with a mark, of that test's copies inside their networks."""
        found = {}
        for workload in workloads:
            name = self._machine_of(workload, mark)
            if name is not None:
                found[workload] = [one["name"] for one in self._offers(name) if self._answers(name, one)]
        return found

    def _machine_of(self, workload: str, mark: str) -> str | None:
        """The machine that runs a workload now: a test's copy, or what counts."""
        for name in self.hypervisor.names():
            kept = self.hypervisor.kept(name)
            fits = kept.get("mark") == mark and kept.get("test") if mark else not kept.get("test")
            if (
                fits
                and kept.get("workload", {}).get("name", name) == workload
                and self.hypervisor.running(name)
            ):
                return name
        return None

    def _offers(self, name: str) -> list[dict[str, Any]]:
        said = definition.said_by_people(self.hypervisor.xml(name))
        offers: list[dict[str, Any]] = said.get("offers") or self.hypervisor.kept(name).get(
            "workload", {}
        ).get("offers", [])
        return offers

    def _answers(self, name: str, service: Mapping[str, Any]) -> bool:
        try:
            self._ask(name, {"protocol": service["protocol"], "port": service["port"]})
        except Failure:
            return False
        return True

    def remains(self, mark: str) -> list[str]:
        """Machines, files and networks with the mark of a run."""
        machines = [name for name in self.hypervisor.names() if self._marked(name, mark)]
        left = [f"copy {name}" for name in machines]
        left += [
            f"disks of {one.name}"
            for one in self._clone_folders()
            if clone_at(one)["mark"] == mark and one.name not in machines
        ]
        boxes = [name for name, box in self.store.notes("sandbox:").items() if box["mark"] == mark]
        left += [f"network {name}" for name in boxes]
        left += [f"front door {one['name']}" for one in self.doors_of(mark)]
        if not boxes and self.isolation.there(mark):
            left.append(f"namespace {self.isolation.space(mark)}")
        return left

    def refuses_landing(self, landing: Mapping[str, Any]) -> str:
        """A pool or a network that is not here."""
        if landing["host_pool"] != self.settings.host_pool:
            return (
                f"There is no host pool {landing['host_pool']!r} here; there is {self.settings.host_pool!r}."
            )
        unknown = [nic["network"] for nic in landing["nics"] if nic["network"] not in self.settings.networks]
        if unknown:
            return f"There is no network {unknown[0]!r} here."
        told = (nic["network"] for nic in landing["nics"] if nic["dhcp"] and nic["addresses"])
        return next((no_reservations(one) for one in told if not self.settings.networks[one].dhcp_hosts), "")


def _storage(name: str, folder: Path) -> dict[str, Any]:
    at = next((one for one in (folder, *folder.parents) if one.exists()), Path("/"))
    told = os.statvfs(at)
    total, free = told.f_blocks * told.f_frsize >> 30, told.f_bavail * told.f_frsize >> 30
    return {"name": name, "capacity_gib": max(total, 1), "used_gib": max(total - free, 0)}


def _network(one: NetworkSetting) -> dict[str, Any]:
    return {
        "name": one.name, "vlan": one.vlan, "prefixes": list(one.prefixes), "gateways": list(one.gateways),
        "dns": list(one.dns), "dhcp": one.dhcp, "routes_to": list(one.routes_to),
    }  # fmt: skip


def _size(disk: definition.MachineDisk) -> int:
    try:
        return images.size_of(disk.file, disk.format)
    except ImageFault:
        return 0
