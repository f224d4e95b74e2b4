"""Where copies come down: isolated networks, clones, definitions with their size, adapters and addresses."""

from __future__ import annotations

import logging
import shutil
from collections.abc import Iterable, Mapping
from functools import partial
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from maestoso.agent_kit import front_doors
from maestoso.agent_kit.platform import Failure, Operation

from . import chains, definition, images, leases
from .chains import Image
from .copies import GroupCopies
from .copy_names import CopyNames
from .files import plain, write
from .front_doors import FrontDoors
from .host import clone_at, device_of

log = logging.getLogger("site-agent")


class Landing(FrontDoors, CopyNames):
    """From a point to a machine that can be given power, and back."""

    def make_sandbox(self, op: Operation) -> None:
        """An isolated network, with the gateways of the network that it is like."""
        if self.store.note(f"sandbox:{op.subject}") is not None or op.subject in self.settings.networks:
            raise Failure("network-exists")
        box = {name: op.args[name] for name in ("mark", "like", "routers")}
        self._make_network(op.subject, box)
        op.note(f"sandbox:{op.subject}", box)
        op.effect(made=op.subject)

    def remove_sandbox(self, op: Operation) -> None:
        """Take it away, unless a machine is on it."""
        box = op.noted_before(f"sandbox:{op.subject}")
        on_it = [
            name for name in self.hypervisor.names()
            if any(nic["network"] == op.subject for nic in self.hypervisor.kept(name).get("nics", []))
        ]  # fmt: skip
        if on_it:
            raise Failure("network-in-use", f"{op.subject} still has {', '.join(on_it)} on it.")
        if box is not None:
            if [b["mark"] for b in self.store.notes("sandbox:").values()].count(box["mark"]) == 1:
                self.names_end(box["mark"])
            self._dhcp(op.subject, box).end()
            self._host(lambda: self.isolation.remove(box["mark"], op.subject))
            op.note(f"sandbox:{op.subject}", None)
            op.effect(removed=op.subject)

    def prove_isolation(self, op: Operation) -> dict[str, Any]:
        """Every adapter of the copies is in an isolated network of the run, and nothing leads out of
        those."""
        front_doors.proved_apart(op.args["doors"], self.own_doors())
        mark, boxes = op.args["mark"], self.store.notes("sandbox:")
        mine = {name for name, box in boxes.items() if box["mark"] == mark}
        devices, reached = [], set(op.args["networks"])
        for name in self.hypervisor.names():
            kept = self.hypervisor.kept(name)
            if not self._marked(name, mark) or not kept.get("test"):
                continue
            for number, nic in enumerate(kept.get("nics", [])):
                if nic["connected"] and nic["network"] not in mine:
                    raise Failure("not-isolated", f"{name} has an adapter in {nic['network']}.")
                devices.append(device_of(name, number))
                reached.add(nic["network"])
        out = self._host(lambda: self.isolation.ways_out(mark, devices)) if self.isolation.there(mark) else []
        if out:
            raise Failure("not-isolated", " ".join(out))
        op.effect(proved=sorted(reached))
        return {"networks": sorted(reached)}

    def clone_point(self, op: Operation) -> dict[str, Any]:
        """Files over those of a point."""
        group, workload = op.args["group"], op.args["workload"]
        told = self._group(group)
        if told is None or workload not in told["specs"]:
            raise Failure("no-such-replica")
        home = self.clones / plain(op.subject)
        with self._group_turns[group]:
            held = self.copies.of(group)
            point = held.point(op.args["point"])
            lower = held.disks(point, workload)
            if home.exists() or self.hypervisor.find(op.subject) is not None:
                if op.again and home.exists() and clone_at(home)["mark"] == op.args["mark"]:
                    op.effect(cloned=workload, point=clone_at(home)["point"])
                    return {"point": clone_at(home)["point"]}
                raise Failure("copy-exists")
            fresh = home.with_name(f".{home.name}")
            shutil.rmtree(fresh, ignore_errors=True)
            for disk, file in lower.items():
                images.create(fresh / f"{disk}.qcow2", below=Image(file))
            write(fresh / "clone.json", {
                "mark": op.args["mark"], "group": group, "point": point["id"],
                "workload": told["specs"][workload],
                "xml": point["machines"][workload]["xml"],
            })  # fmt: skip
            fresh.rename(home)
        op.effect(cloned=workload, point=point["id"])
        return {"point": point["id"]}

    def register(self, op: Operation) -> None:
        """A definition: of a test's copy from its clone, live from the copies of its group."""
        if op.args["host_pool"] != self.settings.host_pool:
            raise Failure("no-such-pool", f"There is no host pool {op.args['host_pool']!r} here.")
        there = self.hypervisor.find(op.subject)
        before = self.hypervisor.kept(op.subject)
        if there is not None and not before.get("given_up"):
            if op.again and not before.get("own", True):
                op.effect(registered=op.subject)
                return
            raise Failure("copy-exists")
        kept = {"own": False, "mark": op.args["mark"], "folder": op.args["folder"], "nics": []}
        if op.args["group"]:
            told = self._group(op.args["group"])
            if told is None or told["promoted"] is None:
                raise Failure("not-promoted")
            name = op.args["workload"] or op.subject
            held = self.copies.of(op.args["group"])
            point = held.point(told["promoted"]["apart"].get(name, told["promoted"]["point"]))
            files = self._live_disks(held, point, name)
            kept |= {"group": op.args["group"], "point": point["id"], "test": False}
            spec, source = told["specs"].get(name, {}), point["machines"][name]["xml"]
            if there is not None:
                # At home again: what was of this host only is as it was.
                source = ElementTree.tostring(self.hypervisor.xml(op.subject), encoding="unicode")
                self.hypervisor.undefine(op.subject)
        else:
            home = self.clones / plain(op.subject)
            if not (home / "clone.json").is_file():
                raise Failure("no-such-copy", f"There are no disks of {op.subject} here.")
            clone = clone_at(home)
            files = {file.stem: file for file in home.glob("*.qcow2")}
            kept |= {"mark": clone["mark"], "group": clone["group"], "point": "", "test": True}
            spec, source = clone["workload"], clone["xml"]
        kept["workload"] = spec
        found = {disk: chains.layers(file) for disk, file in files.items()}
        self.hypervisor.define(definition.copy_of(source, op.subject, found, kept, spec))
        op.effect(registered=op.subject)

    def _live_disks(self, held: GroupCopies, point: Mapping[str, Any], name: str) -> dict[str, Path]:
        """The files that a machine of a promoted group writes to; made where they are not there yet."""
        found = {}
        for disk, lower in held.disks(point, name).items():
            file = held.live / f"{plain(name)}-{disk}.{point['id']}.qcow2"
            if not file.is_file():
                images.create(file, below=Image(lower))
            found[disk] = file
        return found

    def set_size(self, op: Operation) -> None:
        """Cores and memory, where the host has as much."""
        described = self._described(op.subject)
        host = self.hypervisor.memory_mib()
        taken = sum(
            definition.memory_mib(self.hypervisor.xml(name))
            for name in self.hypervisor.names() if name != op.subject and self.hypervisor.running(name)
        )  # fmt: skip
        if taken + op.args["memory_mib"] > host:
            raise Failure("no-room", f"{self.settings.host_pool} has {max(host - taken, 0)} MiB left.")
        self.hypervisor.define(definition.with_size(described, op.args["cores"], op.args["memory_mib"]))
        op.effect(cores=op.args["cores"], memory_mib=op.args["memory_mib"])

    def attach_nics(self, op: Operation) -> None:
        """Its adapters: at bridges of the host, or of an isolated network, which they are moved to at the
        start."""
        described, boxes = self._described(op.subject), self.store.notes("sandbox:")
        adapters = []
        for number, nic in enumerate(op.args["nics"]):
            network = self.settings.networks.get(nic["network"])
            isolated = nic["network"] in boxes
            if nic["connected"] and network is None and not isolated:
                raise Failure("no-such-network", f"There is no network {nic['network']} here.")
            plugged = nic["connected"] and network is not None
            device = "" if plugged else device_of(op.subject, number)
            adapters.append(
                (nic["mac"], network.bridge if plugged and network else "", device, nic["connected"])
            )
        self._reserve(op.args["nics"])
        kept = {**self.hypervisor.kept(op.subject), "nics": op.args["nics"]}
        self.hypervisor.define(definition.with_kept(definition.with_nics(described, adapters), kept))
        op.effect(nics=len(adapters))

    def _reserve(self, nics: Iterable[Mapping[str, Any]]) -> None:
        """Tell the DHCP servers of their networks what adapters shall be given."""
        for nic in nics:
            if nic.get("reserve"):
                folder = self._reservations(nic["network"])
                if folder is None:
                    raise Failure("no-reservations", leases.no_reservations(nic["network"]))
                self._host(partial(leases.reserve, folder, self.site, nic["mac"], nic["reserve"]))
                self._read_anew(nic["network"])

    def _release(self, nics: Iterable[Mapping[str, Any]]) -> None:
        """What was reserved for adapters is nobody's any more."""
        for nic in nics:
            folder = self._reservations(nic["network"]) if nic.get("reserve") else None
            if folder is not None:
                leases.release(folder, self.site, nic["mac"])
                self._read_anew(nic["network"])

    def look_after_leases(self) -> None:
        """The servers of isolated networks may have ended with the agent, or with the host."""
        for name, box in self.store.notes("sandbox:").items():
            like = self.settings.networks.get(box["like"])
            if like is None or not like.dhcp or self._dhcp(name, box).number():
                continue
            if not self.isolation.there(box["mark"]):
                continue
            try:
                self._make_network(name, box)
                for machine in self.hypervisor.names():
                    nics = self.hypervisor.kept(machine).get("nics", [])
                    self._reserve(nic for nic in nics if nic["network"] == name)
            except Failure as failure:
                log.warning("No leases are given in %s: %s", name, failure)

    def _reservations(self, network: str) -> Path | None:
        """Where the DHCP server of a network reads them; None where that is not known."""
        box = self.store.note(f"sandbox:{network}")
        if box is not None:
            hosts = self._dhcp(network, box).hosts
            return hosts if hosts.is_dir() else None
        known = self.settings.networks.get(network)
        return known.dhcp_hosts if known is not None else None

    def _read_anew(self, network: str) -> None:
        box = self.store.note(f"sandbox:{network}")
        if box is not None:
            self._dhcp(network, box).read_anew()

    def set_addresses(self, op: Operation) -> None:
        """What its guest has from now on; told when it comes up, or at once where it runs."""
        described, kept = self._described(op.subject), self.hypervisor.kept(op.subject)
        if not definition.has_agent(described):
            raise Failure("no-guest-agent")
        macs = {nic["nic"]: nic["mac"] for nic in kept.get("nics", [])}
        for told in op.args["nics"]:
            if told["nic"] not in macs:
                raise Failure("no-such-nic", f"{op.subject} has no adapter {told['nic']}.")
        self.hypervisor.keep(
            op.subject, addresses=[[macs[told["nic"]], told] for told in op.args["nics"]], addressed=False
        )
        if self.hypervisor.running(op.subject):
            self._address(op.subject, op.wait)
        op.effect(addresses={told["nic"]: told["addresses"] for told in op.args["nics"]})

    def read_adapters(self, op: Operation) -> dict[str, Any]:
        """What the adapters of a run's copies have: as their guests say, else as they were told."""
        found = {}
        for name in self.hypervisor.names():
            if not self._marked(name, op.args["mark"]):
                continue
            kept = self.hypervisor.kept(name)
            told = dict(kept.get("addresses", []))
            seen = self._look(name) if self.hypervisor.running(name) else {}
            found[kept["workload"]["name"]] = [
                {
                    "nic": nic["nic"], "network": nic["network"], "mac": nic["mac"],
                    "connected": nic["connected"],
                    **_adapter(seen.get(nic["mac"].lower()) or told.get(nic["mac"], {})),
                }
                for nic in kept.get("nics", [])
            ]  # fmt: skip
        return {"adapters": found, "doors": self.doors_of(op.args["mark"])}

    def unregister(self, op: Operation) -> None:
        """No machine any more; its disks stay."""
        kept = self.hypervisor.kept(op.subject)
        if self.hypervisor.find(op.subject) is None or kept.get("given_up"):
            if op.again:
                op.effect(unregistered=op.subject)
            return
        if self.hypervisor.running(op.subject):
            raise Failure("powered-on")
        self._release(kept.get("nics", []))
        self.hypervisor.undefine(op.subject)
        op.effect(unregistered=op.subject)

    def discard_clone(self, op: Operation) -> None:
        """Remove the files of a test's copy."""
        if self.hypervisor.find(op.subject) is not None:
            raise Failure("registered")
        home = self.clones / plain(op.subject)
        if home.exists() or op.again:
            shutil.rmtree(home, ignore_errors=True)
            op.effect(discarded=op.subject)


def _adapter(told: Mapping[str, Any]) -> dict[str, Any]:
    return {name: told[name] for name in ("addresses", "gateways", "dns", "dhcp") if name in told}
