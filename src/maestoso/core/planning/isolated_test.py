"""Plan to step graph for an isolated test.

The order is: networks and copies are prepared all at once, isolation is proved twice (the networks when
they exist, the copies before any of them has power), then waves come up, a person judges, and everything
is taken away again. Production is not touched by any step.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import ip_address
from typing import Any

from maestoso.core.model.landing import LandingNic
from maestoso.core.model.plan import Member
from maestoso.core.planning.bring_up import BringUp
from maestoso.core.planning.door_steps import closed_id, closes
from maestoso.core.planning.graph import Step, StepGraph
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.landing_steps import LandingSteps

PROVE_NETWORKS = "prove-isolation:networks"
PROVE_COPIES = "prove-isolation:copies"
READ_ADAPTERS = "read-adapters:copies"
VERDICT = "verdict"
LEAK_CHECK = "leak-check"


def copy_name(workload: str, mark: str) -> str:
    """The name that the test copy of ``workload`` is registered under at the target."""
    return f"{workload}--{mark}"


def compile_test(inputs: RunInputs, whole: bool = True) -> StepGraph:
    """The graph of a test, ``whole`` or up to its verdict.

    Raises CycleFound when members wait for each other in a circle.
    """
    steps = _TestSteps(inputs)
    return StepGraph((*steps.to_the_verdict(), *(steps.cleanup() if whole else ())))


def routers(nic: LandingNic) -> Iterator[str]:
    """The addresses (CIDR) of the gateways that an adapter sends to, as their own networks have them."""
    for gateway in nic.gateways:
        at = ip_address(gateway)
        for address in nic.addresses:
            if at in address.network:
                yield f"{at}/{address.network.prefixlen}"
                break


class _TestSteps:
    def __init__(self, inputs: RunInputs) -> None:
        self.inputs = inputs
        self.site = inputs.plan.target
        self.group_of = {name: group for group in inputs.groups for name in group.members}
        self.members = {member.workload: member for _, member in inputs.plan.members()}
        self.bring_up = BringUp(inputs, (PROVE_COPIES,), self._copy_name, self._landed)
        self.landing = LandingSteps(inputs, "prepare", self._copy_name, self._network)
        # The networks that this test makes, and in whose likeness.
        isolated = [nic for one in inputs.landings for nic in one.nics if nic.isolated]
        self.sandboxes = dict(sorted((self._network(nic), nic.like) for nic in isolated))
        self.routers = {
            network: sorted({at for nic in isolated if self._network(nic) == network for at in routers(nic)})
            for network in self.sandboxes
        }

    def _sandbox(self, network: str) -> dict[str, Any]:
        told: dict[str, Any] = {"mark": self.inputs.mark, "like": self.sandboxes[network]}
        if self.inputs.compiler >= 5:
            told["routers"] = self.routers[network]
        return told

    def _copy_name(self, name: str) -> str:
        return copy_name(name, self.inputs.mark)

    def _network(self, nic: LandingNic) -> str:
        """The network of a copy's adapter. Each test makes its own, so that two tests never share one."""
        return f"{nic.network}-{self.inputs.mark}" if nic.isolated else nic.network

    def to_the_verdict(self) -> Iterator[Step]:
        """What brings the copies up, and the question whether they are well."""
        yield from self._preparation()
        yield from self.bring_up.steps
        yield from self._reading()
        yield Step(
            id=VERDICT,
            verb="verdict",
            subject=self.inputs.plan.code,
            phase="judge",
            title="Verdict",
            after=tuple(step.id for step in self._reading()) or self._all_up(),
            person=True,
            skippable=False,
        )

    def _reading(self) -> Iterator[Step]:
        """Once all is up, what every adapter really has: it stays in the log when the copies are gone."""
        if self.inputs.compiler >= 2:
            yield self._site_step(
                "read-adapters",
                "copies",
                phase="judge",
                title="Read what every adapter has",
                after=self._all_up(),
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
                args=self._sandbox(network),
            )
        yield self._site_step(
            "prove-isolation",
            "networks",
            phase="prepare",
            title="Prove that the sandbox is isolated",
            after=tuple(f"make-sandbox:{network}" for network in self.sandboxes),
            skippable=False,
            on_failure="stop",
            args=self._to_prove(),
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
            args=self._to_prove(),
        )

    def _to_prove(self) -> dict[str, Any]:
        told: dict[str, Any] = {"mark": self.inputs.mark, "networks": self._landing_networks()}
        doors = sorted({one.after for one in self.inputs.all_opened()})
        return {**told, "doors": doors} if doors else told

    def _landing_networks(self) -> list[str]:
        nics = (nic for landing in self.inputs.landings for nic in landing.nics if nic.connected)
        return sorted({self._network(nic) for nic in nics})

    def _copy(self, wave: int, member: Member) -> Iterator[Step]:
        """The copy of one member, up to but not including its power."""
        name = member.workload
        group = self.group_of[name]
        point = group.point_of(name)
        yield self.landing.step(
            "clone-point",
            member,
            wave=wave,
            title="Clone its disks",
            slot="clones",
            after=(f"sync:{group.code}",) if self.inputs.sync_first else (),
            args={
                "workload": name,
                "group": group.code,
                "mark": self.inputs.mark,
                "point": point.id if point else None,
            },
        )
        yield from self.landing.steps(wave, member, f"clone-point:{name}", before_nics=(PROVE_NETWORKS,))

    def _all_up(self) -> tuple[str, ...]:
        """Once these are resolved, everything is: those that get no power are whole, too."""
        still = (self._copy_steps(name)[-1] for name, member in self.members.items() if not member.power_on)
        return (*self.bring_up.last, *still)

    def _landed(self, name: str) -> tuple[str, ...]:
        """The copy is whole, and all copies are proved isolated."""
        return (self._copy_steps(name)[-1], PROVE_COPIES)

    def _copy_steps(self, name: str) -> tuple[str, ...]:
        return (f"clone-point:{name}", *self.landing.ids(name))

    def cleanup(self) -> Iterator[Step]:
        """Each copy goes as soon as its own steps have settled; a wait in flight ends with its power."""
        common: dict[str, Any] = {"phase": "cleanup", "on_failure": "ask", "skippable": False}
        for index, member in self.inputs.plan.members():
            name = member.workload
            here = {**common, "wave": index}
            off: tuple[str, ...] = ()
            if member.power_on:
                yield self.landing.step(
                    "power-off",
                    member,
                    **here,
                    title="Power off the copy",
                    slot="power",
                    after=(VERDICT, f"power-on:{name}"),
                    undoes=(f"power-on:{name}",),
                )
                off = (f"power-off:{name}",)
            yield self.landing.step(
                "unregister",
                member,
                **here,
                title="Unregister the copy",
                after=(VERDICT, *off, *self._copy_steps(name)),
                undoes=(f"register:{name}",),
            )
            yield self.landing.step(
                "discard-clone",
                member,
                **here,
                title="Discard its disks",
                slot="clones",
                after=(f"unregister:{name}",),
                undoes=(f"clone-point:{name}",),
            )
        for cue in self.bring_up.cues_of("doors"):
            title = "Close the front doors of the test"
            yield closes(cue, self.inputs, VERDICT, title, phase="cleanup", on_failure="ask")
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
                *self.bring_up.ids,
                *map(closed_id, self.bring_up.cues_of("doors")),
                *syncs,
                VERDICT,
            ),
            args={"mark": self.inputs.mark},
        )
