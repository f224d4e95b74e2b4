"""An example of a platform: a folder of files as machines. It is also what a filled-in skeleton looks like.

A machine is a folder with ``machine.json`` and its disks as files; it is "on" when that file says so. The
data plane between two such agents is a folder that both can read. ``site.json`` has the inventory without
workloads. A folder is made under another name and renamed, so that an agent which is killed leaves no half
machine behind.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import threading
import time
from collections.abc import Iterable, Iterator, Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from . import front_doors, scripts
from .platform import Failure, NotKnown, Operation, Platform

BOOT_S = 0.2


class Folders(Platform):
    """The site whose files are in ``folder``; ``others`` are the folders of other sites by their codes."""

    name = "folders of files 1"
    care_every_s = 1.0

    def __init__(self, site: str, folder: Path, others: Mapping[str, Path]) -> None:
        self.site = site
        self.folder = folder
        self.others = others
        self._turn = threading.RLock()
        for name in ("machines", "points"):
            (folder / name).mkdir(parents=True, exist_ok=True)

    # --- what the site is and has ---

    def inventory(self) -> dict[str, Any]:
        """What ``site.json`` says, and the workloads that are at home here."""
        at_home = [machine["workload"] for machine in self._machines() if machine["own"]]
        return {**self._said(), "workloads": at_home}

    def _said(self) -> dict[str, Any]:
        said: dict[str, Any] = json.loads((self.folder / "site.json").read_text("utf-8"))
        return said

    def groups(self) -> list[dict[str, Any]]:
        """How the copying of each group stands."""
        return [self._group_state(code, told) for code, told in self.store.notes("group:").items()]

    def _group_state(self, code: str, told: Mapping[str, Any]) -> dict[str, Any]:
        points = self._points(code)
        newest = self.folder / "points" / code / (points[-1]["id"] if points else "none")
        size = sum(_size(newest / name) for name in told["group"]["members"])
        source = told["group"]["source"]
        away = "" if self._there(source) else f"The folder of {source} cannot be read."
        return {
            "group": code, "source": source, "digest": told["digest"],
            "newest": points[-1] if points else None,
            "seeded_bytes": size, "seed_bytes": size or 1, "paused_because": told["paused_because"],
            "stalled_because": away, "kept_points": len(points), "kept_bytes": size * len(points),
            "promoted": told["promoted"] is not None,
        }  # fmt: skip

    def links(self) -> list[dict[str, Any]]:
        """The other folders, as links without a limit."""
        cut = {code: "" if self._there(code) else "Its folder cannot be read." for code in self.others}
        return [
            {"source": code, "room_bps": 1e9, "used_bps": 0.0, "cut_because": why}
            for code, why in cut.items()
        ]

    def points(self, group: str) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """Points of a group, oldest first; how fast it changed is not measured."""
        if self.store.note(f"group:{group}") is None:
            raise NotKnown(f"No copies of a group {group!r} are held here.")
        return self._points(group), []

    def lags(self) -> dict[str, Any]:
        """Nothing is measured; the lists are there."""
        return {"every_s": 900, "groups": {code: [] for code in self.store.notes("group:")}}

    def running(self) -> tuple[int, int]:
        """Machines that have power: for real, and copies of tests."""
        on = [machine for machine in self._machines() if machine["powered"]]
        tests = [machine for machine in on if not machine["own"] and not machine["group"]]
        return len(on) - len(tests), len(tests)

    def off(self) -> list[str]:
        """Its own machines that have no power."""
        return [one["name"] for one in self._machines() if one["own"] and not one["powered"]]

    def answering(self, workloads: Iterable[str], mark: str) -> dict[str, list[str]]:
        """What is on answers on everything that it offers."""
        wanted, found = set(workloads), {}
        for one in self._machines():
            is_test = not one["own"] and not one["group"]
            asked = is_test == bool(mark) and mark in ("", one["mark"])
            if asked and one["powered"] and one["workload"]["name"] in wanted:
                offers = one["workload"].get("offers", [])
                found[one["workload"]["name"]] = [service["name"] for service in offers]
        return found

    def remains(self, mark: str) -> list[str]:
        """Copies and networks with the mark."""
        copies = [f"copy {one['name']}" for one in self._machines() if one["mark"] == mark and not one["own"]]
        boxes = self.store.notes("sandbox:").items()
        doors = [f"front door {one['name']}" for one in self._doors_of(mark)]
        return copies + [f"sandbox {name}" for name, box in boxes if box["mark"] == mark] + doors

    def refuses_landing(self, landing: Mapping[str, Any]) -> str:
        """A pool or a network that is not here."""
        has = self._said()
        if landing["host_pool"] not in [pool["name"] for pool in has["host_pools"]]:
            return f"There is no host pool {landing['host_pool']!r} here."
        networks = [network["name"] for network in has["networks"]]
        unknown = [nic["network"] for nic in landing["nics"] if nic["network"] not in networks]
        return f"There is no network {unknown[0]!r} here." if unknown else ""

    def care(self) -> None:
        """Copy what is due."""
        for code, told in self.store.notes("group:").items():
            points = self._points(code)
            age = time.time() - _seconds(points[-1]["at"]) if points else float("inf")
            quiet = told["paused_because"] or told["promoted"] is not None
            if (
                not quiet
                and age >= told["group"]["policy"]["interval_s"]
                and self._there(told["group"]["source"])
            ):
                with self._turn:
                    self._copy(code, told["group"], told["group"]["source"])

    # --- copying ---

    def protect(self, op: Operation) -> dict[str, Any]:
        """Copy a group from now on."""
        group, before = op.args["group"], self._group(op.subject)
        if group["policy"]["encrypted"] and not op.secrets.get("key"):
            raise Failure("key-missing")
        if group["policy"]["encrypted"]:
            raise Failure("not-encrypted", "This example cannot encrypt copies.")
        if before is None or before["digest"] != op.args["digest"] or before["group"] != group:
            known = before or {"paused_because": "", "promoted": None}
            op.note(f"group:{op.subject}", {**known, **_definition(op)})
            op.effect(protected=op.subject)
        return {"digest": op.args["digest"]}

    def unprotect(self, op: Operation) -> None:
        """Forget a group and its points."""
        if self._group(op.subject) is not None:
            op.note(f"group:{op.subject}", None)
            op.effect(unprotected=op.subject)
        shutil.rmtree(self.folder / "points" / op.subject, ignore_errors=True)

    def pause_copying(self, op: Operation) -> None:
        """Pause with a reason, or go on."""
        told = self._needed(op.subject)
        op.note(f"group:{op.subject}", {**told, "paused_because": op.args["because"]})
        op.effect(paused_because=op.args["because"])

    def pin_point(self, op: Operation) -> None:
        """Give a point a label."""
        file = self.folder / "points" / op.subject / op.args["point"] / "point.json"
        if not file.is_file():
            raise Failure("point-gone")
        _write(file, {**json.loads(file.read_text("utf-8")), "label": op.args["label"]})
        op.effect(point=op.args["point"], label=op.args["label"])

    def sync(self, op: Operation) -> dict[str, Any]:
        """Make a point now."""
        group = self._needed(op.args["group"])["group"]
        if not self._there(group["source"]):
            raise Failure("stalled", f"The folder of {group['source']} cannot be read.")
        with self._turn:
            point = self._copy(group["code"], group, group["source"])
        op.effect(point=point["id"])
        return {"point": point["id"], "at": point["at"]}

    def _copy(self, code: str, group: Mapping[str, Any], source: str) -> dict[str, Any]:
        """A new point of all members, in one step."""
        now = datetime.now(UTC)
        ident = now.strftime("%Y%m%dT%H%M%S%f")
        fresh = self.folder / "points" / code / f".{ident}"
        changed = 0
        for name in group["members"]:
            shutil.copytree(self.others[source] / "machines" / name / "disks", fresh / name)
            changed += _size(fresh / name)
        point = {
            "id": ident, "group": code, "at": now.isoformat(), "kind": "crash-consistent",
            "changed_bytes": changed,
        }  # fmt: skip
        _write(fresh / "point.json", point)
        fresh.rename(fresh.with_name(ident))
        return point

    # --- tests ---

    def make_sandbox(self, op: Operation) -> None:
        """An isolated network is a note: no file of a machine leads anywhere."""
        if self.store.note(f"sandbox:{op.subject}") is not None:
            raise Failure("network-exists")
        op.note(f"sandbox:{op.subject}", {"mark": op.args["mark"], "like": op.args["like"]})
        op.effect(made=op.subject)

    def remove_sandbox(self, op: Operation) -> None:
        """Take it away, unless something is on it."""
        on_it = [
            one["name"] for one in self._machines()
            if one["registered"] and any(nic["network"] == op.subject for nic in one["nics"])
        ]  # fmt: skip
        if on_it:
            raise Failure("network-in-use", f"{op.subject} still has {', '.join(on_it)} on it.")
        if self.store.note(f"sandbox:{op.subject}") is not None:
            op.note(f"sandbox:{op.subject}", None)
            op.effect(removed=op.subject)

    def name_copies(self, op: Operation) -> None:
        """Names are noted with their networks, and gone with them; nobody asks a file for a name."""
        boxes = {
            name: box for name, box in self.store.notes("sandbox:").items() if box["mark"] == op.args["mark"]
        }
        if not boxes:
            raise Failure("no-such-network")
        for name, box in boxes.items():
            op.note(f"sandbox:{name}", {**box, "names": [*box.get("names", ()), *op.args["names"]]})
        op.effect(named=sorted(one["name"] for one in op.args["names"]))

    # --- front doors: nobody comes to a file, so that one is open is a note ---

    def _doors_of(self, mark: str) -> list[dict[str, Any]]:
        """Those that a run opened."""
        return [one["door"] for one in self.store.notes("door:").values() if mark and one["mark"] == mark]

    def _opened(self) -> dict[tuple[str, str], dict[str, Any]]:
        """Every open door by the mark that it has, and its name; the site's own have none."""
        closed, own = set(self.store.notes("closed:")), self._said().get("front_doors", ())
        opened = {("", door["name"]): door for door in own if door["name"] not in closed}
        return opened | {
            (one["mark"], one["door"]["name"]): one["door"] for one in self.store.notes("door:").values()
        }

    def _keep_doors(self, doors: Iterable[Mapping[str, Any]]) -> None:
        """These are the site's own from now on."""
        fresh = {
            door["name"]: {
                **{key: door[key] for key in ("name", "address", "ports", "sources")},
                "workload": door["machine"],
            }
            for door in doors
        }  # fmt: skip
        said = self._said()
        own = {door["name"]: door for door in said.get("front_doors", ())}
        if fresh:
            _write(self.folder / "site.json", {**said, "front_doors": list({**own, **fresh}.values())})

    def publish_address(self, op: Operation) -> None:
        """All of them, or none."""
        mark = op.args["mark"]
        front_doors.checked(mark, op.args["doors"], self._opened())
        for door in op.args["doors"]:
            self._machine(door["machine"])
        for door in op.args["doors"]:
            if mark:
                op.note(f"door:{mark}/{door['name']}", {"mark": mark, "door": door})
            else:
                op.note(f"closed:{door['name']}", None)
        if not mark:
            self._keep_doors(op.args["doors"])
        op.effect(published=[door["name"] for door in op.args["doors"]])

    def withdraw_address(self, op: Operation) -> None:
        """Those of a run are gone; the site's own can be opened again."""
        mark = op.args["mark"]
        opened = self._opened()
        closed = [name for name in op.args["doors"] if (mark, name) in opened]
        for name in closed:
            op.note(f"door:{mark}/{name}" if mark else f"closed:{name}", None if mark else {})
        if closed:
            op.effect(withdrawn=closed)

    def prove_isolation(self, op: Operation) -> dict[str, Any]:
        """Nothing routes here, so only an adapter in another network can lead out, or an address in."""
        front_doors.proved_apart(op.args["doors"], self._said().get("front_doors", ()))
        boxes = self.store.notes("sandbox:")
        copies = [one for one in self._machines() if one["mark"] == op.args["mark"] and not one["own"]]
        for one in copies:
            for nic in one["nics"]:
                if nic.get("connected", True) and nic["network"] not in boxes:
                    raise Failure("not-isolated", f"{one['name']} has an adapter in {nic['network']}.")
        networks = sorted({*op.args["networks"], *(n["network"] for one in copies for n in one["nics"])})
        op.effect(proved=networks)
        return {"networks": networks}

    def clone_point(self, op: Operation) -> dict[str, Any]:
        """A machine of its own with the disks of a point."""
        told, name = self._group(op.args["group"]), op.args["workload"]
        if told is None or name not in told["group"]["members"]:
            raise Failure("no-such-replica")
        disks = self._disks(op.args["group"], op.args["point"] or self._newest(op.args["group"]), name)
        self._new_machine(op, disks, mark=op.args["mark"], workload=told["specs"][name])
        op.effect(cloned=name, point=disks.parent.name)
        return {"point": disks.parent.name}

    def register(self, op: Operation) -> None:
        """Let it have power; live, from the promoted copies of its group."""
        pools = [pool["name"] for pool in self.inventory()["host_pools"]]
        if op.args["host_pool"] not in pools:
            raise Failure("no-such-pool")
        if op.args["group"]:
            told = self._group(op.args["group"])
            if told is None or told["promoted"] is None:
                raise Failure("not-promoted")
            name = op.args["workload"] or op.subject
            disks = self._promoted_disks(told, name)
            self._new_machine(
                op, disks, mark=op.args["mark"], workload=told["specs"][name],
                group=op.args["group"],
            )  # fmt: skip
        self._change(op, registered=True, host_pool=op.args["host_pool"], folder=op.args["folder"])

    def set_size(self, op: Operation) -> None:
        """Cores and memory, where the pool has as much."""
        machine = self._machine(op.subject)
        pools = self.inventory()["host_pools"]
        pool = next(pool for pool in pools if pool["name"] == machine["host_pool"])
        taken = pool.get("used_memory_mib", 0) + sum(
            one["memory_mib"] for one in self._machines()
            if not one["own"] and one["host_pool"] == pool["name"] and one["name"] != op.subject
        )  # fmt: skip
        if taken + op.args["memory_mib"] > pool["memory_mib"]:
            left = max(pool["memory_mib"] - taken, 0)
            raise Failure("no-room", f"{pool['name']} has {left} MiB left.")
        self._change(op, cores=op.args["cores"], memory_mib=op.args["memory_mib"])

    def attach_nics(self, op: Operation) -> None:
        """Its adapters."""
        networks = {network["name"] for network in self.inventory()["networks"]}
        known = networks | set(self.store.notes("sandbox:"))
        for nic in op.args["nics"]:
            if nic["connected"] and nic["network"] not in known:
                raise Failure("no-such-network", f"There is no network {nic['network']} here.")
        self._change(op, nics=[{**nic, "addresses": nic["reserve"]} for nic in op.args["nics"]])

    def set_addresses(self, op: Operation) -> None:
        """What its guest has from now on."""
        machine = self._machine(op.subject)
        if not machine["workload"].get("guest_agent", True):
            raise Failure("no-guest-agent")
        nics = {nic["nic"]: nic for nic in machine["nics"]}
        for told in op.args["nics"]:
            if told["nic"] not in nics:
                raise Failure("no-such-nic", f"{op.subject} has no adapter {told['nic']}.")
            nics[told["nic"]] |= {name: told[name] for name in ("addresses", "gateways", "dns", "dhcp")}
        self._change(op, nics=list(nics.values()))

    def read_adapters(self, op: Operation) -> dict[str, Any]:
        """What the adapters of all copies have, and the front doors that are open for them."""
        names = ("nic", "network", "mac", "connected", "dhcp", "addresses", "gateways", "dns")
        copies = [one for one in self._machines() if one["mark"] == op.args["mark"] and one["registered"]]
        told = {
            one["workload"]["name"]: [{n: nic[n] for n in names if n in nic} for nic in one["nics"]]
            for one in copies
        }
        return {"adapters": told, "doors": self._doors_of(op.args["mark"])}

    def power_on(self, op: Operation) -> None:
        """Give power. A boot writes to the first disk."""
        machine = self._machine(op.subject)
        if machine["fenced"]:
            raise Failure("fenced")
        if machine["powered"] and not op.again:
            if op.args["unless_on"]:
                return
            raise Failure("powered-on")
        if not machine["powered"]:
            self._boot(machine)
        # Begun before the agent was killed, it was this operation that gave it power.
        op.effect(powered="on")

    def _boot(self, machine: dict[str, Any]) -> None:
        disks = sorted((self._home(machine["name"]) / "disks").iterdir())
        if disks:
            with disks[0].open("ab") as disk:
                disk.write(f"booted {datetime.now(UTC).isoformat()}\n".encode())
        self._save({**machine, "powered": True, "powered_at": time.time()})

    def power_off(self, op: Operation) -> None:
        """Take power away."""
        machine = self._find(op.subject)
        if machine is not None and (machine["powered"] or op.again):
            self._save({**machine, "powered": False})
            op.effect(powered="off")

    def await_heartbeat(self, op: Operation) -> None:
        """Comes a moment after the power."""
        machine = self._machine(op.subject)
        if not machine["workload"].get("guest_agent", True):
            raise Failure("no-guest-agent")
        if op.args["restart"] and not machine["fenced"]:
            self._boot(machine)
        op.waits_since(machine["powered_at"])

        def settled() -> str:
            now = self._machine(op.subject)
            if not now["powered"]:
                return "off"
            return "up" if time.time() - now["powered_at"] >= BOOT_S else ""

        how = op.until(settled, op.args["timeout_s"])
        if how != "up":
            raise Failure("powered-off" if how == "off" else "ready-timeout")

    def probe_service(self, op: Operation) -> None:
        """What is on answers on the ports of its services."""
        machine = self._machine(op.subject)
        if not machine["powered"]:
            raise Failure("powered-off")
        if op.args["port"] not in [service["port"] for service in machine["workload"].get("offers", [])]:
            op.wait(min(op.args["timeout_s"], 0.2))
            raise Failure("no-answer", f"{op.subject} does not answer on port {op.args['port']}.")

    def probe(self, op: Operation) -> None:
        """As ``probe-service``, of a machine by its name or by an address."""
        address = op.args["address"]
        for one in self._machines():
            has = [text.split("/")[0] for nic in one["nics"] for text in nic.get("addresses", [])]
            hit = one["mark"] == op.args["mark"] and address in has if address else one["name"] == op.subject
            ports = [service["port"] for service in one["workload"].get("offers", [])]
            if hit and one["powered"] and op.args["port"] in ports:
                return
        raise Failure("no-answer")

    def run_script(self, op: Operation) -> dict[str, Any]:
        """Run it, in the folder of the machine where it is for a guest."""
        scripts.checked(op)
        home = self.folder
        if op.args["where"] == "guest":
            if not self._machine(op.subject)["powered"]:
                raise Failure("powered-off")
            home = self._home(op.subject)
        return scripts.ended(op, *scripts.run_here(op, home))

    def unregister(self, op: Operation) -> None:
        """No machine any more. A live copy's disks are its group's; those of a test are discarded later."""
        machine = self._find(op.subject)
        if machine is None or not machine["registered"]:
            if op.again:
                op.effect(unregistered=op.subject)
            return
        if machine["powered"]:
            raise Failure("powered-on")
        if machine["group"]:
            shutil.rmtree(self._home(op.subject))
        else:
            self._save({**machine, "registered": False, "nics": [], "memory_mib": 0})
        op.effect(unregistered=op.subject)

    def discard_clone(self, op: Operation) -> None:
        """Remove its disks."""
        machine = self._find(op.subject)
        if machine is not None and machine["registered"]:
            raise Failure("registered")
        if machine is not None or op.again:
            shutil.rmtree(self._home(op.subject), ignore_errors=True)
            op.effect(discarded=op.subject)

    # --- the side that is closed down ---

    def shut_down(self, op: Operation) -> dict[str, Any]:
        """A guest with an agent goes at once; another only by force."""
        machine = self._machine(op.subject)
        if not machine["powered"] and not op.again:
            return {"forced": False}
        deaf = not machine["workload"].get("guest_agent", True)
        if machine["powered"] and deaf and not op.args["force"]:
            raise Failure("still-running")
        self._save({**machine, "powered": False})
        op.effect(shut_down=op.subject, forced=deaf)
        return {"forced": deaf}

    def fence(self, op: Operation) -> dict[str, Any]:
        """Off, and no power from now on; what its disks hold."""
        machine = self._find(op.subject)
        if machine is None:
            return {"was_running": False}
        was_running = machine["powered"]
        if was_running and not op.args["cut"]:
            raise Failure("still-running")
        if op.again and machine["fenced"]:
            # It was this operation that fenced it, and what it found then counts.
            was_running = was_running or machine["ran_until"] == op.key
        disks = self._home(op.subject) / "disks"
        told = {"was_running": was_running, "contents": max_written(disks), "checksum": checksum(disks)}
        if was_running or not machine["fenced"] or op.again:
            until = op.key if was_running else ""
            self._save({**machine, "powered": False, "fenced": True, "ran_until": until})
            op.effect(fenced=op.subject, **told)
        return told

    def lift_fence(self, op: Operation) -> None:
        """It may have power again."""
        machine = self._machine(op.subject)
        if machine["fenced"] or op.again:
            self._save({**machine, "fenced": False})
            op.effect(fence_lifted=op.subject)

    def give_up(self, op: Operation) -> dict[str, Any]:
        """At home elsewhere: off, fenced, not in the inventory; the disks stay until they are copied back."""
        running, gone = [], []
        for name in op.args["workloads"]:
            machine = self._find(name)
            mine = machine is not None and machine.get("given_up") == op.key
            if machine is not None and (machine["own"] or mine):
                ran = machine["powered"] or (mine and machine["ran_until"] == op.key)
                running += [name] if ran else []
                gone.append(name)
                told = {"own": False, "given_up": op.key, "ran_until": op.key if ran else ""}
                self._save({**machine, "powered": False, "fenced": True, **told})
        said = self._said()
        kept = [door for door in said.get("front_doors", ()) if door["name"] not in op.args["doors"]]
        if len(kept) < len(said.get("front_doors", ())):
            _write(self.folder / "site.json", {**said, "front_doors": kept})
        if gone:
            op.effect(given_up=gone, were_running=running)
        return {"were_running": running}

    # --- the side that comes up ---

    def promote(self, op: Operation) -> dict[str, Any]:
        """Machines are made of this point from now on; those that are there already get its disks."""
        told, args = self._needed(op.args["group"]), op.args
        point = args["point"] or self._newest(args["group"])
        disks = {
            name: self._disks(args["group"], args["apart"].get(name, point), name)
            for name in told["group"]["members"]
        }
        behind = sorted(
            n for n, at in args["contents"].items() if n in disks and max_written(disks[n]) < at - 1e-3
        )
        if behind and args["equal"]:
            raise Failure("not-equal", f"The copies of {', '.join(behind)} are not equal to their source.")
        for name, place in disks.items():
            machine = self._find(name)
            if machine is not None and machine["group"] == args["group"]:
                self._save({**machine, "powered": False})
                _replace(place, self._home(name) / "disks")
        promoted = {"point": point, "apart": args["apart"]}
        op.note(f"group:{args['group']}", {**told, "promoted": promoted})
        op.effect(promoted=args["group"], point=point, checksums={n: checksum(d) for n, d in disks.items()})
        return {"point": point, "behind": behind}

    def demote(self, op: Operation) -> None:
        """Copies again."""
        up = [one["name"] for one in self._machines() if one["group"] == op.args["group"]]
        if up:
            raise Failure("registered", f"{', '.join(up)} are still registered.")
        told = self._group(op.args["group"])
        if told is not None and told["promoted"] is not None:
            op.note(f"group:{op.args['group']}", {**told, "promoted": None})
            op.effect(demoted=op.args["group"])

    def wake_host(self, op: Operation) -> None:
        """There are no hosts that sleep; that the pool is here is what can be said."""
        if op.subject not in [pool["name"] for pool in self.inventory()["host_pools"]]:
            raise Failure("no-such-pool")

    def adopt(self, op: Operation) -> None:
        """The machines of the run are the site's own."""
        for spec in op.args["workloads"]:
            machine = self._find(spec["name"])
            if machine is not None:
                self._save({**machine, "workload": spec, "own": True, "mark": "", "group": ""})
        names = {spec["name"] for spec in op.args["workloads"]}
        doors = [door for door in self._doors_of(op.args["mark"]) if door["machine"] in names]
        for door in doors:
            op.note(f"door:{op.args['mark']}/{door['name']}", None)
            op.note(f"closed:{door['name']}", None)
        self._keep_doors(doors)
        op.effect(adopted=sorted(names))

    def let_points_go(self, op: Operation) -> None:
        """All but those that it was promoted from."""
        told = self._group(op.subject)
        if told is None or told["promoted"] is None:
            return
        kept = {told["promoted"]["point"], *told["promoted"]["apart"].values()}
        gone = [point["id"] for point in self._points(op.subject) if point["id"] not in kept]
        for ident in gone:
            shutil.rmtree(self.folder / "points" / op.subject / ident)
        if gone or op.again:
            op.effect(points_gone=op.subject)

    def changes_since(self, op: Operation) -> dict[str, Any]:
        """Bytes of the files that differ from the point."""
        told = self._group(op.args["group"])
        if told is None or told["promoted"] is None:
            raise Failure("not-promoted")
        changed, since = 0, []
        for name in told["group"]["members"]:
            base = self._promoted_disks(told, name)
            since.append(max_written(base))
            changed += sum(
                disk.stat().st_size for disk in (self._home(name) / "disks").glob("*")
                if not (base / disk.name).is_file() or disk.read_bytes() != (base / disk.name).read_bytes()
            )  # fmt: skip
        return {"changed_bytes": changed, "since": min(since)}

    def reverse_copying(self, op: Operation) -> dict[str, Any]:
        """Copy the group back from where it is at home now."""
        group = op.args["group"]
        if not self._there(group["source"]):
            raise Failure("stalled", f"The folder of {group['source']} cannot be read.")
        with self._turn:
            point = self._copy(group["code"], group, group["source"])
        op.note(f"group:{op.subject}", {**_definition(op), "paused_because": "", "promoted": None})
        op.effect(reversed=op.subject)
        return {"point": point["id"], "digest": op.args["digest"]}

    # --- files ---

    def _home(self, name: str) -> Path:
        if name in ("", ".", "..") or "/" in name:
            raise Failure("bad-value", f"{name!r} is no name of a machine.")
        return self.folder / "machines" / name

    def _machines(self) -> Iterator[dict[str, Any]]:
        for home in sorted((self.folder / "machines").iterdir()):
            machine = None if home.name.startswith(".") else self._find(home.name)
            if machine is not None:
                yield machine

    def _find(self, name: str) -> dict[str, Any] | None:
        try:
            machine: dict[str, Any] = json.loads((self._home(name) / "machine.json").read_text("utf-8"))
        except (FileNotFoundError, NotADirectoryError):
            return None
        return machine

    def _machine(self, name: str) -> dict[str, Any]:
        machine = self._find(name)
        if machine is None or not machine["registered"]:
            raise Failure("no-such-copy", f"There is no machine {name} here.")
        return machine

    def _save(self, machine: dict[str, Any]) -> None:
        _write(self._home(machine["name"]) / "machine.json", machine)

    def _change(self, op: Operation, **changes: Any) -> None:
        machine = self._find(op.subject)
        if machine is None:
            raise Failure("no-such-copy", f"There is no machine {op.subject} here.")
        self._save({**machine, **changes})
        op.effect(**changes)

    def _new_machine(
        self, op: Operation, disks: Path, *, mark: str, workload: Mapping[str, Any], group: str = "",
    ) -> None:  # fmt: skip
        home, there = self._home(op.subject), self._find(op.subject)
        if there is not None and not there.get("given_up"):
            if op.again and there["mark"] == mark:
                return  # it was made before the agent was killed
            raise Failure("copy-exists")
        fresh = home.with_name(f".{op.subject}")
        shutil.rmtree(fresh, ignore_errors=True)
        shutil.copytree(disks, fresh / "disks")
        machine = {
            "name": op.subject, "workload": workload, "own": False, "mark": mark, "group": group,
            "registered": False, "powered": False, "powered_at": 0.0, "fenced": False, "host_pool": "",
            "folder": "", "cores": 0, "memory_mib": 0, "nics": [], "ran_until": "",
        }  # fmt: skip
        _write(fresh / "machine.json", machine)
        shutil.rmtree(home, ignore_errors=True)
        fresh.rename(home)

    def _group(self, code: str) -> dict[str, Any] | None:
        told: dict[str, Any] | None = self.store.note(f"group:{code}")
        return told

    def _needed(self, code: str) -> dict[str, Any]:
        told = self._group(code)
        if told is None:
            raise Failure("no-such-group", f"No copies of group {code!r} are held here.")
        return told

    def _points(self, code: str) -> list[dict[str, Any]]:
        files = sorted((self.folder / "points" / code).glob("[!.]*/point.json"))
        return [json.loads(file.read_text("utf-8")) for file in files]

    def _newest(self, code: str) -> str:
        points = self._points(code)
        if not points:
            raise Failure("point-gone", f"There is no point of {code} yet.")
        return str(points[-1]["id"])

    def _disks(self, code: str, point: str, name: str) -> Path:
        place = self.folder / "points" / code / point / name
        if not point or "/" in point or not place.is_dir():
            raise Failure("point-gone", f"The recovery point {point} of {code} is not held here any more.")
        return place

    def _promoted_disks(self, told: Mapping[str, Any], name: str) -> Path:
        promoted = told["promoted"]
        return self._disks(told["group"]["code"], promoted["apart"].get(name, promoted["point"]), name)

    def _there(self, code: str) -> bool:
        return code in self.others and (self.others[code] / "machines").is_dir()


def _definition(op: Operation) -> dict[str, Any]:
    """What is kept of a group: its source may be gone when its copies are needed."""
    specs = {spec["name"]: spec for spec in op.args["workloads"]}
    return {"group": op.args["group"], "digest": op.args["digest"], "specs": specs}


def checksum(disks: Path) -> str:
    """Over the disks of a machine: equal contents, equal sums."""
    total = hashlib.sha256()
    for disk in sorted(disks.iterdir()):
        total.update(disk.name.encode() + b"\0" + disk.read_bytes())
    return total.hexdigest()[:16]


def max_written(disks: Path) -> float:
    """When these disks were last written to. Copying keeps that."""
    return max((disk.stat().st_mtime for disk in disks.iterdir()), default=0.0)


def _size(folder: Path) -> int:
    return sum(file.stat().st_size for file in folder.glob("*"))


def _seconds(moment: str) -> float:
    return datetime.fromisoformat(moment).timestamp()


def _replace(source: Path, target: Path) -> None:
    fresh = target.with_name(".disks")
    shutil.rmtree(fresh, ignore_errors=True)
    shutil.copytree(source, fresh)
    shutil.rmtree(target, ignore_errors=True)
    fresh.rename(target)


def _write(file: Path, value: Any) -> None:
    """In one step: whoever reads has the old text or the new one."""
    file.parent.mkdir(parents=True, exist_ok=True)
    fresh = file.with_name(f".{file.name}.{threading.get_ident()}")
    fresh.write_text(json.dumps(value, indent=1), encoding="utf-8")
    fresh.replace(file)
