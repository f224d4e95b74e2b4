"""Plan to step graph for a planned failover and for a disaster.

Planned: copy while running, close the source down in the reverse of the boot order, fence it, copy the rest,
promote, land, bring up, decide. No target machine gets power before its source is confirmed off and fenced.
Disaster: the same, but the source is only tried: one step asks whether it answers, and without it everything
about the source is passed over; a person acknowledges what cannot be confirmed. Behind the decision stand
two branches, commit and roll back; the one that is not taken is cancelled.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import chain
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.landing.arrived import arrived
from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.model.plan import Member
from maestoso.core.planning.bring_up import BringUp
from maestoso.core.planning.door_steps import closed_id, closes, closing, opening
from maestoso.core.planning.graph import TO_READY, Step, StepGraph
from maestoso.core.planning.inputs import GroupCopy, LiveChoices, RunInputs
from maestoso.core.planning.landing_steps import LandingSteps

ASK_SOURCE = "ask-site:source"
ACKNOWLEDGE = "acknowledge"
DECISION = "decision"
CLOSE_DOORS = "withdraw-address:run"
SOURCE_LIMIT_S = 8.0
"""How long a disaster waits for a source that does not answer, by the clock on the wall."""
SYNC_LIMIT_S = 600.0
"""Machine seconds that a disaster gives the last copy from a source that answers."""


def compile_failover(inputs: RunInputs, whole: bool = True) -> StepGraph:
    """The graph of a live run, ``whole`` or up to its decision.

    Raises CycleFound when members wait for each other in a circle.
    """
    if inputs.live is None:
        raise AssertionError("a live run has its choices")
    made = _Failover(inputs, inputs.live)
    steps: Iterator[Step] = chain(made.to_the_decision(), made.behind_it() if whole else ())
    if inputs.live.go_on:
        steps = (_passed_over(step) for step in steps)
    return StepGraph(steps)


def _passed_over(step: Step) -> Step:
    forward = step.phase in TO_READY and not step.person and step.verb != "promote"
    return replace(step, on_failure="go-on") if forward else step


class _Failover:
    def __init__(self, inputs: RunInputs, live: LiveChoices) -> None:
        self.inputs = inputs
        self.live = live
        self.disaster = inputs.kind == "disaster"
        self.plan = inputs.plan
        self.source, self.target = self.plan.source, self.plan.target
        self.members = {member.workload: member for _, member in self.plan.members()}
        self.wave_of = {member.workload: wave for wave, member in self.plan.members()}
        self.workloads = {workload.name: workload for workload in inputs.workloads}
        self.group_of = {name: group for group in inputs.groups for name in group.members}
        self.landing = LandingSteps(inputs, "hand-over", lambda name: name)
        fences = tuple(f"fence:{name}" for name in self.members)
        begins = (ACKNOWLEDGE,) if self.disaster else fences
        self.bring_up = BringUp(inputs, begins, lambda name: name, self._landed)
        self.doors = inputs.all_opened()

    def to_the_decision(self) -> Iterator[Step]:
        """What moves the workloads, and the question whether they stay."""
        yield from self._prepare()
        yield from self._close_down()
        yield from self._hand_over()
        yield from self.bring_up.steps
        yield from self._judge()

    def behind_it(self) -> Iterator[Step]:
        """Both branches; the one that is not taken is cancelled."""
        yield from self._commit()
        yield from self._roll_back()

    # --- on the way to the decision ---

    def _prepare(self) -> Iterator[Step]:
        if self.disaster and self.live.close_down:
            yield Step(
                id=ASK_SOURCE,
                verb="ask-site",
                subject=self.source,
                site=self.source,
                phase="prepare",
                title=f"Ask whether {self.source} answers",
                on_failure="go-on",
                limit_s=SOURCE_LIMIT_S,
            )
        if self.inputs.sync_first and not self.disaster:
            for group in self.inputs.groups:
                yield self._group_step(
                    "sync",
                    group,
                    phase="prepare",
                    title=f"Copy latest changes of {group.code}",
                    slot="copies",
                )
        for pool in self.live.wake:
            yield Step(
                id=f"wake-host:{pool}",
                verb="wake-host",
                subject=pool,
                site=self.target,
                phase="prepare",
                title=f"Wake the standby hosts of {pool}",
            )

    def _close_down(self) -> Iterator[Step]:
        """In the reverse of the boot order: who waits for a workload goes down before it."""
        if self.disaster and not self.live.close_down:
            return
        begins = (ASK_SOURCE,) if self.disaster else self._syncs()
        if self.doors:
            yield self._run_step(
                "withdraw-address",
                self.source,
                phase="close-down",
                title="Close the front doors at the source",
                after=begins,
                needs=(ASK_SOURCE,) if self.disaster else (),
                on_failure="go-on" if self.disaster else "ask",
                limit_s=self._limit_s(60.0),
                args=closing(self.doors, ""),
            )
            # Nobody comes any more when the first service goes down.
            begins = (CLOSE_DOORS,)
        users: dict[str, list[str]] = {}
        for name, member in self.members.items():
            for used in member.depends_on:
                users.setdefault(used, []).append(f"shut-down:{name}")
        for number, wave in reversed(list(enumerate(self.plan.waves))):
            yield Step(
                id=f"close-wave:{number + 1}",
                verb="close-wave",
                subject=wave.name,
                phase="close-down",
                wave=number,
                title=f"Close wave {number + 1}, {wave.name}",
                after=self._closed(number + 1) or begins,
                skippable=False,
            )
        for wave_index, member in self.plan.members():
            name, by_plan = member.workload, self.live.force_after_s is None
            limit_s = member.shutdown_limit_s if by_plan else float(self.live.force_after_s or 0)
            yield self._source_step(
                "shut-down",
                member,
                phase="close-down",
                title="Shut down at the source",
                slot="power",
                after=tuple(dict.fromkeys((f"close-wave:{wave_index + 1}", *users.get(name, ())))),
                needs=(ASK_SOURCE,) if self.disaster else (),
                limit_s=self._limit_s(limit_s + 60.0),
                args={"limit_s": limit_s, "force": member.force_off or not by_plan},
            )

    def _closed(self, number: int) -> tuple[str, ...]:
        """The steps after which wave ``number`` (counted from 0) and all behind it are down."""
        if number >= len(self.plan.waves):
            return ()
        members = self.plan.waves[number].members
        return (f"close-wave:{number + 1}", *(f"shut-down:{member.workload}" for member in members))

    def _syncs(self) -> tuple[str, ...]:
        return tuple(f"sync:{group.code}" for group in self.inputs.groups) if self.inputs.sync_first else ()

    def _hand_over(self) -> Iterator[Step]:
        """Fenced, then copied whole, then promoted: in this order the copies are equal to their source."""
        if not self.disaster or self.live.close_down:
            for _, member in self.plan.members():
                name = member.workload
                yield self._source_step(
                    "fence",
                    member,
                    phase="hand-over",
                    title="Confirm it off and fence it",
                    after=(f"shut-down:{name}",),
                    needs=(ASK_SOURCE,) if self.disaster else (),
                    skippable=self.disaster,
                    limit_s=self._limit_s(60.0),
                    args={"cut": False},
                )
            for group in self.inputs.groups:
                fences = tuple(f"fence:{name}" for name in group.members)
                yield self._group_step(
                    "sync",
                    group,
                    id=f"final-sync:{group.code}",
                    phase="hand-over",
                    title=f"Copy what is left of {group.code}",
                    slot="copies",
                    after=fences,
                    needs=fences,
                    skippable=self.disaster,
                    limit_s=self._limit_s(SYNC_LIMIT_S),
                    on_failure="go-on" if self.disaster else "ask",
                )
        if self.disaster:
            yield self._acknowledge()
        for group in self.inputs.groups:
            before = self._handed_over(group)
            yield self._group_step(
                "promote",
                group,
                phase="hand-over",
                title=f"Make the copies of {group.code} writable",
                slot="clones",
                after=before,
                skippable=self.disaster,
                args={
                    "group": group.code,
                    "mark": self.inputs.mark,
                    "point": group.point.id if group.point else None,
                    "workloads": list(group.members),
                    "equal": not self.disaster,
                    **({"apart": {name: one.id for name, one in group.apart.items()}} if group.apart else {}),
                },
            )
        for wave, member in self.plan.members():
            group = self.group_of[member.workload]
            yield from self.landing.steps(
                wave,
                member,
                f"promote:{group.code}",
                before_nics=tuple(f"wake-host:{pool}" for pool in self.live.wake),
                title="Register it at the target",
                where="their networks",
                group=group.code,
                workload=member.workload,
                mark=self.inputs.mark,
            )

    def _handed_over(self, group: GroupCopy) -> tuple[str, ...]:
        if self.disaster and not self.live.close_down:
            return ()
        return (f"final-sync:{group.code}", *(f"fence:{name}" for name in group.members))

    def _acknowledge(self) -> Step:
        fences = tuple(f"fence:{name}" for name in self.members) if self.live.close_down else ()
        return Step(
            id=ACKNOWLEDGE,
            verb="acknowledge",
            subject=self.plan.code,
            phase="hand-over",
            title="Acknowledge what cannot be confirmed off",
            after=fences,
            answers=fences,
            person=True,
            skippable=False,
        )

    def _landed(self, name: str) -> tuple[str, ...]:
        """Promoted and landed. Promoting stands here itself: from another point, it is done once more."""
        return (f"promote:{self.group_of[name].code}", self.landing.ids(name)[-1])

    def _judge(self) -> Iterator[Step]:
        still = (self.landing.ids(name)[-1] for name, member in self.members.items() if not member.power_on)
        yield self._run_step(
            "read-adapters",
            self.target,
            phase="judge",
            title="Read what every adapter has",
            # All of them, not only the last: those of a group come up once more when its point is changed.
            after=(*self.bring_up.ids, *still),
            on_failure="go-on",
        )
        yield Step(
            id=DECISION,
            verb="decision",
            subject=self.plan.code,
            phase="judge",
            title="Commit or roll back",
            after=("read-adapters:run",),
            person=True,
            skippable=False,
        )

    # --- behind the decision ---

    def _commit(self) -> Iterator[Step]:
        landings = {landing.workload: landing for landing in self.inputs.landings}
        yield self._run_step(
            "adopt",
            self.target,
            phase="commit",
            title=f"{self.target} takes the workloads as its own",
            after=(DECISION,),
            args={
                "workloads": [to_data(arrived(self.workloads[name], landings[name])) for name in self.members]
            },
        )
        yield self._run_step(
            "give-up",
            self.source,
            phase="commit",
            title=f"{self.source} gives its copies up",
            after=(DECISION,),
            # A source that did not answer is told when it does: the fences that are kept for it come first.
            needs=(ASK_SOURCE,) if self.disaster and self.live.close_down else (),
            on_failure="go-on" if self.disaster else "ask",
            limit_s=self._limit_s(60.0),
            args={
                "workloads": list(self.members),
                **({"doors": [one.name for one in self.doors]} if self.doors else {}),
            },
        )
        for group in self.inputs.groups:
            yield self._group_step(
                "let-points-go",
                group,
                phase="commit",
                title=f"Discard the older points of {group.code}",
                after=("adopt:run",),
            )

    def _roll_back(self) -> Iterator[Step]:
        """The target goes off and forgets; then the source is free again and comes up in its order."""
        common: dict[str, Any] = {"phase": "roll-back", "on_failure": "ask"}
        for wave, member in self.plan.members():
            name = member.workload
            off: tuple[str, ...] = ()
            if member.power_on:
                yield self.landing.step(
                    "power-off",
                    member,
                    **common,
                    wave=wave,
                    title="Power off at the target",
                    slot="power",
                    after=(DECISION, f"power-on:{name}"),
                    undoes=(f"power-on:{name}",),
                    skippable=False,
                )
                off = (f"power-off:{name}",)
            yield self.landing.step(
                "unregister",
                member,
                **common,
                wave=wave,
                title="Unregister at the target",
                after=(DECISION, *off, *self.landing.ids(name)),
                undoes=(f"register:{name}",),
                skippable=False,
            )
        for group in self.inputs.groups:
            yield self._group_step(
                "demote",
                group,
                **common,
                title=f"Discard what the copies of {group.code} changed",
                after=(f"promote:{group.code}", *(f"unregister:{name}" for name in group.members)),
                undoes=(f"promote:{group.code}",),
                skippable=False,
                args={"group": group.code, "mark": self.inputs.mark},
            )
        if not self.disaster or self.live.close_down:
            yield from self._source_again(common)
        yield from self._names_back(common)
        yield from self._doors_back(common)
        yield Step(
            id="leak-check",
            verb="leak-check",
            subject=self.inputs.mark,
            site=self.target,
            **common,
            title=f"Check that nothing of the run is left at {self.target}",
            skippable=False,
            after=(
                DECISION,
                *(f"unregister:{name}" for name in self.members),
                *(f"demote:{group.code}" for group in self.inputs.groups),
                *self.bring_up.ids,
                *map(closed_id, self.bring_up.cues_of("doors")),
            ),
            args={"mark": self.inputs.mark},
        )

    def _doors_back(self, common: dict[str, Any]) -> Iterator[Step]:
        """They close at the target at once, and open at the source when what they lead to is up there."""
        cues, title = self.bring_up.cues_of("doors"), "Close the front doors at the target"
        yield from (closes(cue, self.inputs, DECISION, title, **common) for cue in cues)
        if self.doors and (not self.disaster or self.live.close_down):
            up = tuple(self._again(member) for member in self.members.values())
            yield Step(
                id="doors-back",
                verb="publish-address",
                subject="run",
                site=self.source,
                **common,
                title="Open the front doors at the source again",
                # The same address must not lead to two sites at once.
                after=(CLOSE_DOORS, *map(closed_id, cues), *up),
                undoes=(CLOSE_DOORS,),
                args=opening(self.doors, "", lambda name: name, "before"),
            )

    def _names_back(self, common: dict[str, Any]) -> Iterator[Step]:
        """Names lead back once what they lead to is up again; where nothing starts at the source, at once."""
        started = not self.disaster or self.live.close_down
        up = tuple(self._again(member) for member in self.members.values()) if started else ()
        for cue in self.bring_up.cues_of("names"):
            yield Step(
                id=f"names-back:{cue.id}",
                verb="put-names-back",
                subject=cue.title,
                site=NAME_SERVERS,
                **common,
                title=f"Put the names back: {cue.title}",
                after=(DECISION, cue.step, *up),
                undoes=(cue.step,),
                args={
                    "names": [to_data(one) for one in self.inputs.names.get(cue.id, ())],
                    "within_s": cue.names.limit_s if cue.names else 0,
                },
            )

    def _source_again(self, common: dict[str, Any]) -> Iterator[Step]:
        for number, wave in enumerate(self.plan.waves):
            before = self.plan.waves[number - 1].members if number else ()
            yield Step(
                id=f"again-wave:{number + 1}",
                verb="again-wave",
                subject=wave.name,
                phase="roll-back",
                wave=number,
                title=f"Wave {number + 1}, {wave.name}, at the source",
                after=(
                    *((f"again-wave:{number}",) if number else (DECISION,)),
                    *(self._again(member) for member in before),
                ),
                skippable=False,
            )
        for number, member in self.plan.members():
            name = member.workload
            group = self.group_of[name]
            yield self._source_step(
                "lift-fence",
                member,
                **common,
                title="Lift the fence at the source",
                after=(f"demote:{group.code}", f"fence:{name}", f"final-sync:{group.code}"),
                undoes=(f"fence:{name}",),
            )
            waits = [self._again(self.members[o]) for o in member.depends_on if o in self.members]
            yield self._source_step(
                "power-on",
                member,
                **common,
                id=f"start-again:{name}",
                title="Power on at the source",
                slot="power",
                after=(f"lift-fence:{name}", f"shut-down:{name}", f"again-wave:{number + 1}", *waits),
                undoes=(f"shut-down:{name}",),
                args={"unless_on": True},
            )
            if self.workloads[name].guest_agent:
                yield self._source_step(
                    "await-heartbeat",
                    member,
                    **common,
                    id=f"up-again:{name}",
                    title="Guest heartbeat at the source",
                    after=(f"start-again:{name}",),
                    needs=(f"start-again:{name}",),
                    args={"timeout_s": member.ready_timeout_s},
                )

            answers = member.power_on and self.inputs.compiler >= 4
            for service in self.workloads[name].offers if answers else ():
                yield self._source_step(
                    "probe-service",
                    member,
                    **common,
                    id=f"answers-again:{name}:{service.name}",
                    title=f"{service.name} answers at the source",
                    after=(self._again(member),),
                    needs=(f"start-again:{name}",),
                    args={
                        "service": service.name, "protocol": service.protocol, "port": service.port,
                        "timeout_s": member.ready_timeout_s,
                    },
                )  # fmt: skip

    def _again(self, member: Member) -> str:
        """The step after which a workload runs at the source again."""
        up = self.workloads[member.workload].guest_agent
        return f"{'up-again' if up else 'start-again'}:{member.workload}"

    # --- kinds of steps ---

    def _limit_s(self, machine_s: float) -> float:
        """A disaster waits for no step at the source longer than this; a planned run waits."""
        return machine_s / self.inputs.pace + SOURCE_LIMIT_S if self.disaster else 0.0

    def _source_step(self, verb: str, member: Member, **rest: Any) -> Step:
        values: dict[str, Any] = {
            "id": f"{verb}:{member.workload}",
            "subject": member.workload,
            "site": self.source,
            "workload": member.workload,
            "wave": self.wave_of[member.workload],
            "on_failure": "go-on" if self.disaster else "ask",
        }
        return Step(verb=verb, **{**values, **rest})

    def _group_step(self, verb: str, group: GroupCopy, **rest: Any) -> Step:
        values: dict[str, Any] = {
            "id": f"{verb}:{group.code}",
            "subject": group.code,
            "site": self.target,
            "args": {"group": group.code},
        }
        return Step(verb=verb, **{**values, **rest})

    def _run_step(self, verb: str, site: str, **rest: Any) -> Step:
        args = {"mark": self.inputs.mark, **rest.pop("args", {})}
        return Step(id=f"{verb}:run", verb=verb, subject="run", site=site, args=args, **rest)
