"""Plan to step graph for an isolated test.

The order is: networks and copies are prepared all at once, isolation is proved twice (the networks when
they exist, the copies before any of them has power), then waves come up, a person judges, and everything
is taken away again. Production is not touched by any step.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from maestoso.core.model.estate import Workload
from maestoso.core.model.landing import Landing, LandingNic
from maestoso.core.model.plan import Member, Wave
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.planning.inputs import RunInputs

PROVE_NETWORKS = "prove-isolation:networks"
PROVE_COPIES = "prove-isolation:copies"
READ_ADAPTERS = "read-adapters:copies"
VERDICT = "verdict"
LEAK_CHECK = "leak-check"


def copy_name(workload: str, mark: str) -> str:
    """The name that the test copy of ``workload`` is registered under at the target."""
    return f"{workload}--{mark}"


def compile_test(inputs: RunInputs) -> StepGraph:
    """The graph of a test. Raises CycleFound when members wait for each other in a circle."""
    return StepGraph(_TestSteps(inputs).all())


class _TestSteps:
    def __init__(self, inputs: RunInputs) -> None:
        self.inputs = inputs
        self.site = inputs.plan.target
        self.workloads = {workload.name: workload for workload in inputs.workloads}
        self.landings = {landing.workload: landing for landing in inputs.landings}
        self.group_of = {name: group for group in inputs.groups for name in group.members}
        self.members = {member.workload: member for _, member in inputs.plan.members()}
        self.wave_of = {member.workload: index for index, member in inputs.plan.members()}
        # The networks that this test makes, and in whose likeness.
        made = ((self._network(nic), nic.like) for one in inputs.landings for nic in one.nics if nic.isolated)
        self.sandboxes = dict(sorted(made))

    def _network(self, nic: LandingNic) -> str:
        """The network of a copy's adapter. Each test makes its own, so that two tests never share one."""
        return f"{nic.network}-{self.inputs.mark}" if nic.isolated else nic.network

    def all(self) -> Iterator[Step]:
        yield from self._preparation()
        for index, wave in enumerate(self.inputs.plan.waves):
            yield from self._wave(index, wave)
        yield from self._reading()
        yield Step(
            id=VERDICT,
            verb="verdict",
            subject=self.inputs.plan.code,
            phase="judge",
            title="Verdict",
            after=(*self._all_bring_up(), *(step.id for step in self._reading())),
            person=True,
            skippable=False,
        )
        yield from self._cleanup()

    def _reading(self) -> Iterator[Step]:
        """Once all is up, what every adapter really has: it stays in the log when the copies are gone."""
        if self.inputs.compiler >= 2:
            yield self._site_step(
                "read-adapters",
                "copies",
                phase="judge",
                title="Read what every adapter has",
                after=tuple(self._all_bring_up()),
                on_failure="go-on",
                args={"mark": self.inputs.mark},
            )

    def _site_step(self, verb: str, subject: str, **rest: Any) -> Step:
        values: dict[str, Any] = {"site": self.site, "id": f"{verb}:{subject}", "subject": subject}
        return Step(verb=verb, **{**values, **rest})

    def _preparation(self) -> Iterator[Step]:
        if self.inputs.sync_first:
            for group in self.inputs.groups:
                yield self._site_step(
                    "sync",
                    group.code,
                    phase="prepare",
                    title=f"Copy latest changes of {group.code}",
                    slot="copies",
                    args={"group": group.code},
                )
        for network in self.sandboxes:
            yield self._site_step(
                "make-sandbox",
                network,
                phase="prepare",
                title=f"Make sandbox {network}",
                skippable=False,
                args={"mark": self.inputs.mark, "like": self.sandboxes[network]},
            )
        yield self._site_step(
            "prove-isolation",
            "networks",
            phase="prepare",
            title="Prove that the sandbox is isolated",
            after=tuple(f"make-sandbox:{network}" for network in self.sandboxes),
            skippable=False,
            on_failure="stop",
            args={"mark": self.inputs.mark, "networks": self._landing_networks()},
        )
        for index, member in self.inputs.plan.members():
            yield from self._copy(index, member)
        yield self._site_step(
            "prove-isolation",
            "copies",
            phase="prepare",
            title="Prove that no copy reaches production",
            after=(PROVE_NETWORKS, *(f"attach-nics:{name}" for name in self.members)),
            skippable=False,
            on_failure="stop",
            args={"mark": self.inputs.mark, "networks": self._landing_networks()},
        )

    def _landing_networks(self) -> list[str]:
        nics = (nic for landing in self.inputs.landings for nic in landing.nics if nic.connected)
        return sorted({self._network(nic) for nic in nics})

    def _member_step(self, verb: str, member: Member, **rest: Any) -> Step:
        copy = copy_name(member.workload, self.inputs.mark)
        values: dict[str, Any] = {
            "id": f"{verb}:{member.workload}",
            "workload": member.workload,
            "on_failure": member.on_failure,
        }
        return self._site_step(verb, copy, **{**values, **rest})

    def _copy(self, wave: int, member: Member) -> Iterator[Step]:
        """The copy of one member, up to but not including its power."""
        name = member.workload
        landing, group = self.landings[name], self.group_of[name]
        sync = (f"sync:{group.code}",) if self.inputs.sync_first else ()
        common: dict[str, Any] = {"wave": wave, "phase": "prepare"}
        yield self._member_step(
            "clone-point",
            member,
            **common,
            title="Clone its disks",
            slot="clones",
            after=sync,
            args={
                "workload": name,
                "group": group.code,
                "mark": self.inputs.mark,
                "point": group.point.id if group.point else None,
            },
        )
        yield self._member_step(
            "register",
            member,
            **common,
            title="Register the copy",
            after=(f"clone-point:{name}",),
            needs=(f"clone-point:{name}",),
            args={"host_pool": landing.host_pool, "folder": landing.folder},
        )
        yield self._member_step(
            "set-size",
            member,
            **common,
            title="Set cores and memory",
            after=(f"register:{name}",),
            needs=(f"register:{name}",),
            args={"cores": landing.cores, "memory_mib": landing.memory_mib},
        )
        yield self._member_step(
            "attach-nics",
            member,
            **common,
            title="Attach adapters to the sandbox",
            after=(f"set-size:{name}", PROVE_NETWORKS),
            needs=(f"register:{name}",),
            args={"nics": [self._nic_args(nic) for nic in landing.nics]},
        )
        if self._needs_injection(landing):
            yield self._member_step(
                "set-addresses",
                member,
                **common,
                title="Set its addresses",
                after=(f"attach-nics:{name}",),
                needs=(f"attach-nics:{name}",),
                args={"nics": [_address_args(nic) for nic in landing.nics if self._is_injected(nic)]},
            )

    def _needs_injection(self, landing: Landing) -> bool:
        return any(self._is_injected(nic) for nic in landing.nics)

    def _is_injected(self, nic: LandingNic) -> bool:
        """Whether the guest must be told: of addresses of its own, or that it shall ask DHCP from now on."""
        if nic.dhcp:
            return self.inputs.compiler >= 2 and nic.connected and not nic.was_dhcp
        return bool(nic.addresses)

    def _nic_args(self, nic: LandingNic) -> dict[str, object]:
        args: dict[str, object] = {"nic": nic.nic, "network": self._network(nic), "mac": nic.mac}
        if not nic.connected:
            args["connected"] = False
        elif nic.dhcp and nic.addresses:
            args["reserve"] = [str(address) for address in nic.addresses]
        return args

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
        opened: tuple[str, ...] = (gate,)
        for hold in wave.holds:
            if self.inputs.kind in hold.kinds:
                yield Step(
                    id=f"hold:{hold.id}",
                    verb="hold",
                    subject=hold.title,
                    phase="bring-up",
                    wave=index,
                    title=hold.title,
                    after=(gate,),
                    person=True,
                    args={"instruction": hold.instruction},
                )
                opened = (*opened, f"hold:{hold.id}")
        for member in wave.members:
            if member.power_on:
                yield from self._boot(index, member, opened)

    def _opens_after(self, index: int) -> tuple[str, ...]:
        if index == 0:
            return (PROVE_COPIES,)
        before, gate = self.inputs.plan.waves[index - 1], f"open-wave:{index}"
        how = self.inputs.plan.waves[index].opens
        if how == "at-once":
            return (gate,)
        ready = [
            step
            for member in before.members
            if member.power_on
            for step in (self.ready_steps(member) if how == "ready" else (f"power-on:{member.workload}",))
        ]
        holds = [f"hold:{hold.id}" for hold in before.holds if self.inputs.kind in hold.kinds]
        return tuple(dict.fromkeys((gate, *holds, *ready)))

    def _boot(self, wave: int, member: Member, opened: tuple[str, ...]) -> Iterator[Step]:
        name, workload = member.workload, self.workloads[member.workload]
        waits = [
            step
            for other in member.depends_on
            if other in self.members and self.members[other].power_on
            for step in self.ready_steps(self.members[other])
        ]
        from_here = tuple(dict.fromkeys((*opened, *waits)))
        copied = (
            f"set-addresses:{name}" if self._needs_injection(self.landings[name]) else f"attach-nics:{name}"
        )
        common: dict[str, Any] = {"wave": wave, "phase": "bring-up"}
        yield self._member_step(
            "power-on",
            member,
            **common,
            title="Power on",
            slot="power",
            after=(*from_here, copied, PROVE_COPIES),
            delay_s=float(member.delay_s),
            delay_from=from_here,
            needs=(f"register:{name}", f"attach-nics:{name}"),
        )
        up = f"power-on:{name}"
        if _waits_for_heartbeat(member, workload):
            yield self._member_step(
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
                yield self._member_step(
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

    def ready_steps(self, member: Member) -> tuple[str, ...]:
        """The steps whose resolution makes ``member`` ready in the sense of its ready rule."""
        name, workload = member.workload, self.workloads[member.workload]
        if member.ready == "at-once":
            return (f"open-wave:{self.wave_of[name] + 1}",)
        if member.ready == "checks" and workload.offers:
            return tuple(f"probe-service:{name}:{service.name}" for service in workload.offers)
        if _waits_for_heartbeat(member, workload):
            return (f"await-heartbeat:{name}",)
        return (f"power-on:{name}",)

    def _all_bring_up(self) -> Iterator[str]:
        for index, wave in enumerate(self.inputs.plan.waves):
            yield f"open-wave:{index + 1}"
            yield from (f"hold:{hold.id}" for hold in wave.holds if self.inputs.kind in hold.kinds)
            for member in wave.members:
                yield from self._copy_steps(member.workload)
                if member.power_on:
                    yield from self._boot_steps(member)

    def _copy_steps(self, name: str) -> tuple[str, ...]:
        steps = [f"{verb}:{name}" for verb in ("clone-point", "register", "set-size", "attach-nics")]
        if self._needs_injection(self.landings[name]):
            steps.append(f"set-addresses:{name}")
        return tuple(steps)

    def _boot_steps(self, member: Member) -> Iterator[str]:
        name, workload = member.workload, self.workloads[member.workload]
        yield f"power-on:{name}"
        if _waits_for_heartbeat(member, workload):
            yield f"await-heartbeat:{name}"
        if member.ready == "checks":
            yield from (f"probe-service:{name}:{service.name}" for service in workload.offers)

    def _cleanup(self) -> Iterator[Step]:
        """Each copy goes as soon as its own steps have settled; a wait in flight ends with its power."""
        common: dict[str, Any] = {"phase": "cleanup", "on_failure": "ask", "skippable": False}
        for index, member in self.inputs.plan.members():
            name = member.workload
            here = {**common, "wave": index}
            off: tuple[str, ...] = ()
            if member.power_on:
                yield self._member_step(
                    "power-off",
                    member,
                    **here,
                    title="Power off the copy",
                    slot="power",
                    after=(VERDICT, f"power-on:{name}"),
                    undoes=(f"power-on:{name}",),
                )
                off = (f"power-off:{name}",)
            yield self._member_step(
                "unregister",
                member,
                **here,
                title="Unregister the copy",
                after=(VERDICT, *off, *self._copy_steps(name)),
                undoes=(f"register:{name}",),
            )
            yield self._member_step(
                "discard-clone",
                member,
                **here,
                title="Discard its disks",
                slot="clones",
                after=(f"unregister:{name}",),
                undoes=(f"clone-point:{name}",),
            )
        gone = tuple(f"unregister:{name}" for name in self.members)
        for network in self.sandboxes:
            yield self._site_step(
                "remove-sandbox",
                network,
                **common,
                title=f"Remove sandbox {network}",
                after=(VERDICT, f"make-sandbox:{network}", PROVE_NETWORKS, PROVE_COPIES, *gone),
                undoes=(f"make-sandbox:{network}",),
            )
        syncs = tuple(f"sync:{group.code}" for group in self.inputs.groups) if self.inputs.sync_first else ()
        yield Step(
            id=LEAK_CHECK,
            verb="leak-check",
            subject=self.inputs.mark,
            site=self.site,
            phase="cleanup",
            title="Check that nothing of the test is left",
            skippable=False,
            after=(
                *(f"discard-clone:{name}" for name in self.members),
                *(f"remove-sandbox:{network}" for network in self.sandboxes),
                *self._all_bring_up(),
                *syncs,
                VERDICT,
            ),
            args={"mark": self.inputs.mark},
        )


def _waits_for_heartbeat(member: Member, workload: Workload) -> bool:
    return member.ready == "heartbeat" or (member.ready == "checks" and workload.guest_agent)


def _address_args(nic: LandingNic) -> dict[str, object]:
    return {
        "nic": nic.nic,
        "addresses": [] if nic.dhcp else [str(address) for address in nic.addresses],
        "gateways": list(nic.gateways),
        "dns": list(nic.dns),
        "suffix": nic.suffix,
        "dhcp": nic.dhcp,
    }
