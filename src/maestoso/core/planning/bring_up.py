"""Waves to steps: gates, cues, boots and checks. Every kind of run brings its workloads up by this."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.model.cue import Cue, CueKind
from maestoso.core.model.estate import Workload
from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.model.plan import Member, Wave
from maestoso.core.planning.door_steps import opening
from maestoso.core.planning.graph import Step
from maestoso.core.planning.inputs import RunInputs


class BringUp:
    """``begins`` is what the first wave waits for; ``machine`` names what a workload became at the target,
    and ``landed`` the steps after which that can be powered on."""

    def __init__(
        self,
        inputs: RunInputs,
        begins: tuple[str, ...],
        machine: Callable[[str], str],
        landed: Callable[[str], tuple[str, ...]],
    ) -> None:
        self.inputs = inputs
        self.begins = begins
        self.machine = machine
        self.landed = landed
        self.site = inputs.plan.target
        self.workloads = {workload.name: workload for workload in inputs.workloads}
        self.members = {member.workload: member for _, member in inputs.plan.members()}
        self.wave_of = {member.workload: index for index, member in inputs.plan.members()}
        self.scripts = {script.name: script for script in inputs.scripts}

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        """All of it, in the order of the plan."""
        cues = self.inputs.plan.cues
        before = tuple(self._cues(cues, "before", self.begins))
        waves = tuple(
            step for index, wave in enumerate(self.inputs.plan.waves) for step in self._wave(index, wave)
        )
        return (*before, *waves, *self._cues(cues, "after", _last((*before, *waves)) or self.begins))

    def cues_of(self, kind: CueKind) -> tuple[Cue, ...]:
        """Those of one kind in this run, in the order of the plan."""
        placed = (cue for _, _, cue in self.inputs.plan.placed_cues())
        return tuple(cue for cue in self._applying(placed) if cue.kind == kind)

    @property
    def ids(self) -> tuple[str, ...]:
        """The ids of all these steps."""
        return tuple(step.id for step in self.steps)

    @property
    def last(self) -> tuple[str, ...]:
        """Those that no other of these steps waits for: once they are resolved, everything is up."""
        return _last(self.steps)

    def ready_steps(self, member: Member) -> tuple[str, ...]:
        """The steps whose resolution makes ``member`` ready in the sense of its ready rule."""
        behind = self._applying(member.cues, "after")
        return (behind[-1].step,) if behind else self._checked(member)

    def _checked(self, member: Member) -> tuple[str, ...]:
        name, workload = member.workload, self.workloads[member.workload]
        if member.ready == "at-once":
            return (f"open-wave:{self.wave_of[name] + 1}",)
        if member.ready == "checks" and workload.offers:
            return tuple(f"probe-service:{name}:{service.name}" for service in workload.offers)
        if _waits_for_heartbeat(member, workload):
            return (f"await-heartbeat:{name}",)
        return (f"power-on:{name}",)

    def _applying(self, cues: Iterable[Cue], at: str | None = None) -> list[Cue]:
        """Those that do something in this run: a test may open none of the doors of a cue."""
        return [
            cue for cue in cues
            if self.inputs.kind in cue.kinds and at in (None, cue.at)
            and (cue.doors is None or self.inputs.opened(cue.id))
        ]  # fmt: skip

    def _wave(self, index: int, wave: Wave) -> Iterator[Step]:
        gate = f"open-wave:{index + 1}"
        yield Step(
            id=gate,
            verb="open-wave",
            subject=wave.name,
            phase="bring-up",
            wave=index,
            title=f"Open wave {index + 1}, {wave.name}",
            after=self._opens_after(index),
            skippable=False,
        )
        yield from self._cues(wave.cues, "before", (gate,), index)
        opened = (gate, *(cue.step for cue in self._applying(wave.cues, "before")))
        for member in wave.members:
            if member.power_on:
                yield from self._boot(index, member, opened)
        yield from self._cues(wave.cues, "after", self._wave_ready(index), index)

    def _opens_after(self, index: int) -> tuple[str, ...]:
        plan = self.inputs.plan
        if index == 0:
            return (*self.begins, *(cue.step for cue in self._applying(plan.cues, "before")))
        how = plan.waves[index].opens
        if how == "at-once":
            return (f"open-wave:{index}",)
        if how == "powered-on":
            return tuple(dict.fromkeys((*self._wave_begun(index - 1), *self._powered(index - 1))))
        after = (cue.step for cue in self._applying(plan.waves[index - 1].cues, "after"))
        return tuple(dict.fromkeys((*self._wave_ready(index - 1), *after)))

    def _wave_begun(self, index: int) -> tuple[str, ...]:
        cues = self._applying(self.inputs.plan.waves[index].cues, "before")
        return (f"open-wave:{index + 1}", *(cue.step for cue in cues))

    def _powered(self, index: int) -> tuple[str, ...]:
        members = self.inputs.plan.waves[index].members
        return tuple(f"power-on:{member.workload}" for member in members if member.power_on)

    def _wave_ready(self, index: int) -> tuple[str, ...]:
        members = [member for member in self.inputs.plan.waves[index].members if member.power_on]
        ready = (step for member in members for step in self.ready_steps(member))
        return tuple(dict.fromkeys((*self._wave_begun(index), *ready)))

    def _boot(self, wave: int, member: Member, opened: tuple[str, ...]) -> Iterator[Step]:
        name, workload = member.workload, self.workloads[member.workload]
        waits = [
            step
            for other in member.depends_on
            if other in self.members and self.members[other].power_on
            for step in self.ready_steps(self.members[other])
        ]
        from_here = tuple(dict.fromkeys((*opened, *waits)))
        yield from self._cues(member.cues, "before", from_here, wave, name)
        from_here += tuple(cue.step for cue in self._applying(member.cues, "before"))
        common: dict[str, Any] = {"wave": wave, "phase": "bring-up"}
        yield self._machine_step(
            "power-on",
            member,
            **common,
            title="Power on",
            slot="power",
            after=tuple(dict.fromkeys((*from_here, *self.landed(name)))),
            delay_s=float(member.delay_s),
            delay_from=from_here,
            needs=(f"register:{name}", f"attach-nics:{name}"),
        )
        up = f"power-on:{name}"
        if _waits_for_heartbeat(member, workload):
            yield self._machine_step(
                "await-heartbeat",
                member,
                **common,
                title="Guest heartbeat",
                after=(up,),
                needs=(up,),
                args={"timeout_s": member.ready_timeout_s},
            )
            up = f"await-heartbeat:{name}"
        if member.ready == "checks":
            for service in workload.offers:
                yield self._machine_step(
                    "probe-service",
                    member,
                    **common,
                    id=f"probe-service:{name}:{service.name}",
                    title=f"{service.name} answers on {service.protocol} {service.port}",
                    after=(up,),
                    needs=(f"power-on:{name}",),
                    args={
                        "service": service.name,
                        "protocol": service.protocol,
                        "port": service.port,
                        "timeout_s": member.ready_timeout_s,
                    },
                )
        yield from self._cues(member.cues, "after", (up, *self._checked(member)), wave, name)

    def _machine_step(self, verb: str, member: Member, **rest: Any) -> Step:
        values: dict[str, Any] = {
            "id": f"{verb}:{member.workload}",
            "subject": self.machine(member.workload),
            "site": self.site,
            "workload": member.workload,
            "on_failure": member.on_failure,
        }
        return Step(verb=verb, **{**values, **rest})

    # --- cues ---

    def _cues(
        self,
        cues: Iterable[Cue],
        at: str,
        after: tuple[str, ...],
        wave: int | None = None,
        member: str | None = None,
    ) -> Iterator[Step]:
        before = after
        for cue in self._applying(cues, at):
            yield self._cue(cue, tuple(dict.fromkeys(before)), wave, member)
            yield from self._old_answers(cue, wave, member)
            if self.inputs.compiler >= 3:
                before = (*after, cue.step)

    def _cue(self, cue: Cue, after: tuple[str, ...], wave: int | None, member: str | None) -> Step:
        common: dict[str, Any] = {
            "id": cue.step, "title": cue.title, "subject": cue.title, "phase": "bring-up", "wave": wave,
            "workload": member, "after": after, "on_failure": cue.on_failure,
        }  # fmt: skip
        if cue.hold is not None:
            return Step(verb="hold", person=True, args=self._hold_args(cue), **common)
        if cue.pause is not None:
            return Step(verb="pause", delay_s=float(cue.pause.seconds), delay_from=after, **common)
        if cue.notify is not None:
            return Step(verb="notify", args={"text": cue.notify.text}, **common)
        if cue.names is not None:
            return self._names(cue, common)
        if cue.doors is not None:
            return self._doors(cue, common)
        aim, args = self._script(cue, member) if cue.script is not None else self._probe(cue, member)
        needs = (f"power-on:{aim}",) if aim else self._door_step(cue)
        values = {
            **common,
            "site": self.site,
            "subject": self.machine(aim) if aim else common["subject"],
            "needs": needs,
            "after": tuple(dict.fromkeys((*after, *needs))),
        }
        return Step(verb="run-script" if cue.script is not None else "probe", args=args, **values)

    def _names(self, cue: Cue, common: dict[str, Any]) -> Step:
        """In a test the copies find each other by the names, and nothing outside changes."""
        records = self.inputs.names.get(cue.id, ())
        if self.inputs.kind == "test":
            named = [{"name": one.name, "type": one.type, "values": list(one.after)} for one in records]
            told = {"mark": self.inputs.mark, "names": named}
            return Step(verb="name-copies", site=self.site, args=told, **common)
        limit_s = cue.names.limit_s if cue.names else 0
        args = {"names": [to_data(one) for one in records], "within_s": limit_s}
        return Step(verb="publish-names", site=NAME_SERVERS, args=args, **common)

    def _doors(self, cue: Cue, common: dict[str, Any]) -> Step:
        """Behind the power of what they lead to: a site opens no door to a machine that is not there."""
        moves = self.inputs.opened(cue.id)
        powered = (f"power-on:{one.workload}" for one in moves if self._gets_power(one.workload))
        values = {**common, "after": tuple(dict.fromkeys((*common["after"], *powered)))}
        args = opening(moves, self.inputs.mark, self.machine, "after")
        return Step(verb="publish-address", site=self.site, args=args, **values)

    def _door_step(self, cue: Cue) -> tuple[str, ...]:
        """The step that opens the door which a probe goes through."""
        found = self.inputs.door(cue.probe.door) if cue.probe is not None and cue.probe.door else None
        return (f"doors:{found[0]}",) if found and found[1].after else ()

    def _gets_power(self, workload: str) -> bool:
        return workload in self.members and self.members[workload].power_on

    def _old_answers(self, cue: Cue, wave: int | None, member: str | None) -> Iterator[Step]:
        """Until then a client may go where the service was: it is not recovered for everybody."""
        names = self.inputs.names.get(cue.id, ())
        held_s = max((one.before_ttl_s for one in names if one.before != one.after), default=0)
        if cue.names is None or not cue.names.wait_out or self.inputs.kind == "test" or not held_s:
            return
        yield Step(
            id=f"old-answers:{cue.id}",
            verb="pause",
            subject=cue.title,
            phase="bring-up",
            wave=wave,
            workload=member,
            title="Old answers of the name run out",
            after=(cue.step,),
            delay_s=float(held_s),
            delay_from=(cue.step,),
            needs=(cue.step,),
        )

    def _hold_args(self, cue: Cue) -> dict[str, Any]:
        hold = cue.hold
        if hold is None:
            raise AssertionError("only a hold has the arguments of one")
        args: dict[str, Any] = {"instruction": hold.instruction}
        if hold.who:
            args["who"] = list(hold.who)
        if hold.limit_s:
            args |= {"limit_s": hold.limit_s, "then": hold.then}
        if hold.not_right:
            args["not_right"] = hold.not_right
        if hold.answers > 1:
            args["answers"] = hold.answers
        return args

    def _script(self, cue: Cue, member: str | None) -> tuple[str, dict[str, Any]]:
        call = cue.script
        if call is None:
            raise AssertionError("only a script cue has a script")
        text = self.scripts[call.script]
        aim = (call.workload or member or "") if call.where == "guest" else ""
        return aim, {
            "mark": self.inputs.mark,
            "script": call.script,
            "interpreter": text.interpreter,
            "text": text.text,
            "sha256": text.sha256,
            "where": call.where,
            "parameters": dict(call.parameters),
            "secrets": dict(call.secrets),
            "timeout_s": call.limit_s,
            "ok_codes": list(call.ok_codes),
        }

    def _probe(self, cue: Cue, member: str | None) -> tuple[str, dict[str, Any]]:
        probe = cue.probe
        if probe is None:
            raise AssertionError("only a probe cue has a probe")
        found = self.inputs.door(probe.door) if probe.door else None
        behind = found[1].workload if found else ""
        opened = found[1].after if found else ""
        address = opened or probe.address
        aim = "" if address else (probe.workload or behind or member or "")
        args: dict[str, Any] = {
            "mark": self.inputs.mark,
            "protocol": probe.protocol,
            "port": probe.port,
            "timeout_s": probe.limit_s,
        }
        if address:
            args["address"] = address
        if opened:
            args["outside"] = True
        if probe.protocol == "http":
            args |= {"path": probe.path, "status": probe.status, "text": probe.text}
        elif probe.protocol == "tls":
            args["days"] = probe.days
        elif probe.protocol == "dns":
            args["name"] = probe.name
        return aim, args


def _waits_for_heartbeat(member: Member, workload: Workload) -> bool:
    return member.ready == "heartbeat" or (member.ready == "checks" and workload.guest_agent)


def _last(steps: Sequence[Step]) -> tuple[str, ...]:
    found = {step.id: None for step in steps}
    for step in steps:
        for waited in step.after:
            found.pop(waited, None)
    return tuple(found)
