"""How one workload comes down at the target: registered, sized, connected and given its addresses."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from maestoso.core.model.landing import Landing, LandingNic, gets_new_settings
from maestoso.core.model.plan import Member
from maestoso.core.planning.graph import Phase, Step
from maestoso.core.planning.inputs import RunInputs


class LandingSteps:
    """``machine`` names what a workload becomes at the target, ``network`` where an adapter goes."""

    def __init__(
        self,
        inputs: RunInputs,
        phase: Phase,
        machine: Callable[[str], str],
        network: Callable[[LandingNic], str] = lambda nic: nic.network,
    ) -> None:
        self.inputs = inputs
        self.phase: Phase = phase
        self.machine = machine
        self.network = network
        self.landings = {landing.workload: landing for landing in inputs.landings}
        self.workloads = {workload.name: workload for workload in inputs.workloads}
        self.off = {member.workload for _, member in inputs.plan.members() if not member.power_on}

    def step(self, verb: str, member: Member, **rest: Any) -> Step:
        """A step about one member at the target."""
        values: dict[str, Any] = {
            "id": f"{verb}:{member.workload}",
            "subject": self.machine(member.workload),
            "site": self.inputs.plan.target,
            "workload": member.workload,
            "phase": self.phase,
            "on_failure": member.on_failure,
        }
        return Step(verb=verb, **{**values, **rest})

    def steps(
        self,
        wave: int,
        member: Member,
        disks: str,
        *,
        before_nics: tuple[str, ...] = (),
        title: str = "Register the copy",
        where: str = "the sandbox",
        **register: Any,
    ) -> Iterator[Step]:
        """All of it. ``disks`` is the step that its disks come from, ``before_nics`` what its adapters wait
        for, ``register`` more arguments for registering it."""
        name = member.workload
        landing = self.landings[name]
        yield self.step(
            "register",
            member,
            wave=wave,
            title=title,
            after=(disks,),
            needs=(disks,),
            args={"host_pool": landing.host_pool, "folder": landing.folder, **register},
        )
        yield self.step(
            "set-size",
            member,
            wave=wave,
            title="Set cores and memory",
            after=(f"register:{name}",),
            needs=(f"register:{name}",),
            args={"cores": landing.cores, "memory_mib": landing.memory_mib},
        )
        yield self.step(
            "attach-nics",
            member,
            wave=wave,
            title=f"Attach adapters to {where}",
            after=(f"set-size:{name}", *before_nics),
            needs=(f"register:{name}",),
            args={"nics": [self._nic_args(nic) for nic in landing.nics]},
        )
        told = self._injected(landing)
        if told:
            # What stays off has nobody waiting for it, so its addresses do not hold the run up.
            off = {"on_failure": "go-on"} if self.inputs.compiler >= 4 and not member.power_on else {}
            yield self.step(
                "set-addresses",
                member,
                **off,
                wave=wave,
                title="Set its addresses",
                after=(f"attach-nics:{name}",),
                needs=(f"attach-nics:{name}",),
                args={"nics": [_address_args(nic) for nic in told]},
            )

    def ids(self, name: str) -> tuple[str, ...]:
        """The ids of :meth:`steps`."""
        steps = [f"{verb}:{name}" for verb in ("register", "set-size", "attach-nics")]
        if self._injected(self.landings[name]):
            steps.append(f"set-addresses:{name}")
        return tuple(steps)

    def _injected(self, landing: Landing) -> tuple[LandingNic, ...]:
        """The adapters whose guest must be told of other addresses, or to ask DHCP from now on."""
        workload = self.workloads[landing.workload]
        if self.inputs.compiler < 4:
            return tuple(
                nic for nic in landing.nics
                if (nic.addresses if not nic.dhcp else
                    self.inputs.compiler >= 2 and nic.connected and not nic.was_dhcp)
            )  # fmt: skip
        if landing.workload in self.off and not workload.guest_agent:
            return ()
        return tuple(nic for nic in landing.nics if gets_new_settings(workload, nic))

    def _nic_args(self, nic: LandingNic) -> dict[str, object]:
        args: dict[str, object] = {"nic": nic.nic, "network": self.network(nic), "mac": nic.mac}
        if not nic.connected:
            args["connected"] = False
        elif nic.dhcp and nic.addresses:
            args["reserve"] = [str(address) for address in nic.addresses]
        return args


def _address_args(nic: LandingNic) -> dict[str, object]:
    return {
        "nic": nic.nic,
        "addresses": [] if nic.dhcp else [str(address) for address in nic.addresses],
        "gateways": list(nic.gateways),
        "dns": list(nic.dns),
        "suffix": nic.suffix,
        "dhcp": nic.dhcp,
    }
