"""Production that moves: copies that are written to, machines taken over and given up, copying turned
round."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

from maestoso.agent_kit.platform import Failure, Operation

from . import chains, definition, images
from .chains import Image
from .copies import GroupCopies
from .copying import Copying, told_of
from .files import seconds
from .landing import Landing


class Moving(Copying, Landing):
    """The verbs that move production."""

    def promote(self, op: Operation) -> dict[str, Any]:
        """Files that may be written to, over those of a point; machines that are there already get them
        anew."""
        args = op.args
        with self._group_turns[args["group"]]:
            told, held = self._needed(args["group"]), self.copies.of(args["group"])
            point = held.point(args["point"])
            points = {name: held.point(args["apart"].get(name, point["id"])) for name in told["specs"]}
            found = {
                name: at["machines"][name]["contents"]
                for name, at in points.items()
                if name in at["machines"]
            }
            behind = sorted(
                name for name, at in args["contents"].items() if name in found and found[name] < at - 1e-3
            )
            if behind and args["equal"]:
                raise Failure(
                    "not-equal", f"The copies of {', '.join(behind)} are not equal to their source."
                )
            for name in told["specs"]:
                kept = self.hypervisor.kept(name)
                if kept.get("group") == args["group"] and not kept.get("given_up"):
                    self.hypervisor.cut_power(name)
            for file in self._live_files(args["group"]):
                file.unlink()
            for name, at in points.items():
                if name in found:
                    self._live_disks(held, at, name)
            op.note(
                f"group:{args['group']}", {**told, "promoted": {"point": point["id"], "apart": args["apart"]}}
            )
            self._keep_key(held, lasting=True)
            self._repoint(told, held, points)
        op.effect(promoted=args["group"], point=point["id"])
        return {"point": point["id"], "behind": behind}

    def _keep_key(self, held: GroupCopies, *, lasting: bool) -> None:
        """Where production runs on encrypted copies, it must find their key after a start of the host."""
        if held.key is not None:
            self.hypervisor.keep_key(held.key, lasting=lasting)

    def _repoint(
        self, told: Mapping[str, Any], held: GroupCopies, points: Mapping[str, Mapping[str, Any]]
    ) -> None:
        """Machines that came up from another point get the files of this one."""
        for name, point in points.items():
            kept = self.hypervisor.kept(name)
            if kept.get("group") != told["group"]["code"] or kept.get("given_up") or kept.get("test"):
                continue
            described = self.hypervisor.xml(name)
            files = self._live_disks(held, point, name)
            for disk in described.iterfind("devices/disk"):
                target = disk.find("target")
                if target is not None and target.get("dev", "") in files:
                    definition.lay(disk, chains.layers(files[target.get("dev", "")]))
            self.hypervisor.undefine(name)
            self.hypervisor.define(
                definition.with_kept(described, {**kept, "point": point["id"], "addressed": False})
            )

    def demote(self, op: Operation) -> None:
        """What the copies changed goes; they are copied to again."""
        group = op.args["group"]
        with self._group_turns[group]:
            up = [
                name for name in self.hypervisor.names()
                if self.hypervisor.kept(name).get("group") == group and self.hypervisor.kept(name).get("mark")
                and not self.hypervisor.kept(name).get("test")
            ]  # fmt: skip
            if up:
                raise Failure("registered", f"{', '.join(up)} are still registered.")
            told = self._group(group)
            if told is not None and (told["promoted"] is not None or op.again):
                for file in self._live_files(group):
                    file.unlink()
                op.note(f"group:{group}", {**told, "promoted": None})
                self._keep_key(self.copies.of(group), lasting=False)
                op.effect(demoted=group)

    def wake_host(self, op: Operation) -> None:
        """There is one host, which is awake."""
        if op.subject != self.settings.host_pool:
            raise Failure("no-such-pool")

    def adopt(self, op: Operation) -> None:
        """The machines of the run are the site's own, and started with the host."""
        for spec in op.args["workloads"]:
            if self.hypervisor.find(spec["name"]) is not None:
                before = self.hypervisor.kept(spec["name"])
                # From now on its guest says which addresses it has, unless it was not told yet.
                wanted = [] if before.get("addressed") else before.get("addresses", [])
                own = {"own": True, "mark": "", "workload": spec, "nics": [], "addresses": wanted}
                kept = {**before, **own}
                described = definition.with_kept(self.hypervisor.xml(spec["name"]), kept, spec)
                self.hypervisor.define(described)
                self.hypervisor.machine(spec["name"]).setAutostart(1)
        names = {spec["name"] for spec in op.args["workloads"]}
        doors = [door for door in self.doors_of(op.args["mark"]) if door["machine"] in names]
        for door in doors:
            op.note(f"door:{op.args['mark']}/{door['name']}", None)
        if doors:
            self.keep_doors(op, doors)
        op.effect(adopted=sorted(names))

    def give_up(self, op: Operation) -> dict[str, Any]:
        """At home elsewhere: off, fenced, not in the inventory; the disks stay until they are copied back."""
        running, gone = [], []
        for name in op.args["workloads"]:
            domain = self.hypervisor.find(name)
            kept = self.hypervisor.kept(name)
            mine = kept.get("given_up") == op.key
            if domain is None or not (kept.get("own", True) or mine):
                continue
            ran = bool(domain.isActive()) or (mine and kept.get("ran_until") == op.key)
            running += [name] if ran else []
            gone.append(name)
            self.hypervisor.keep(
                name, own=False, given_up=op.key, fenced=True, copied_back=False, mark="", test=False,
                ran_until=op.key if ran else "", nics=[],
            )  # fmt: skip
            domain.setAutostart(0)
            self.hypervisor.cut_power(name)
        if op.args["doors"]:
            self.keep_doors(op, (), gone=op.args["doors"])
        if gone:
            op.effect(given_up=gone, were_running=running)
        return {"were_running": running}

    def let_points_go(self, op: Operation) -> None:
        """All but those that it was promoted from."""
        with self._group_turns[op.subject]:
            told = self._group(op.subject)
            if told is None or told["promoted"] is None:
                return
            held = self.copies.of(op.subject)
            stay = {told["promoted"]["point"], *told["promoted"]["apart"].values()}
            gone = [point["id"] for point in held.points() if point["id"] not in stay]
            for ident in gone:
                held.drop_point(ident)
            if gone or op.again:
                held.sweep(self._in_use())
                op.effect(points_gone=op.subject)

    def changes_since(self, op: Operation) -> dict[str, Any]:
        """What the files hold that were written to since it was promoted."""
        group = op.args["group"]
        told = self._group(group)
        if told is None or told["promoted"] is None:
            raise Failure("not-promoted")
        held = self.copies.of(group)
        point = held.point(told["promoted"]["point"])
        since = min(
            (machine["contents"] for machine in point["machines"].values()), default=seconds(point["at"])
        )
        return {
            "changed_bytes": sum(images.bytes_of(file) for file in self._live_files(group)),
            "since": since,
        }

    def reverse_copying(self, op: Operation) -> dict[str, Any]:
        """Copy back from where the group is at home now: only what differs from the disks that were given
        up."""
        self._take_key(op, lasting=False)
        told = {
            **(self._group(op.subject) or {}),
            **told_of(op),
            "paused_because": "",
            "promoted": None,
            "since": time.time(),
        }
        with self._group_turns[op.subject]:
            point = self._copied(lambda: self._copy(told, self._left_behind(told), op.progress))
            self.copies.of(op.subject).keep_below(point)
            for name in told["specs"]:
                if self.hypervisor.kept(name).get("given_up"):
                    self.hypervisor.keep(name, copied_back=True)
            op.note(f"group:{op.subject}", told)
            op.effect(reversed=op.subject)
        return {"point": point["id"], "digest": op.args["digest"]}

    def _left_behind(self, told: Mapping[str, Any]) -> dict[tuple[str, str], Image]:
        """The disks of machines that were given up here, by machine and disk."""
        return {
            (name, disk.name): Image(disk.file, disk.format)
            for name in told["specs"] if self.hypervisor.kept(name).get("given_up")
            for disk in definition.disks(self.hypervisor.xml(name)) if disk.file.is_file()
        }  # fmt: skip
