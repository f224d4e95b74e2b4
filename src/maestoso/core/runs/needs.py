"""What a run needs a person for, most urgent first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from typing import Literal

from maestoso.core.people.roles import in_words
from maestoso.core.planning.failover import ACKNOWLEDGE, DECISION
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.decide import hold_ends, window_ends
from maestoso.core.runs.state import RunState
from maestoso.core.runs.steps import StepState


@dataclass(frozen=True, slots=True, kw_only=True)
class Need:
    """``step`` is what the answer is about; empty when it is about the whole run.

    ``who`` may answer, anybody where it is empty; at ``ends_at`` ``then`` happens without an answer.
    ``again`` is what trying a failed step again means. ``since`` is when it began to wait. Of a hold,
    ``not_right`` is what can be done if it is not right (the answer is offered where it says so), ``refused``
    who said so last, and why; ``answers`` different people must answer, ``agreed`` have. ``final`` says of
    answers that cannot be taken back what they do.
    """

    kind: Literal["failure", "acknowledge", "hold", "verdict", "decision", "held"]
    step: str
    title: str
    text: str
    skippable: bool = False
    who: tuple[str, ...] = ()
    ends_at: datetime | None = None
    then: str = ""
    again: str = "Try again"
    since: datetime | None = None
    not_right: str = ""
    refused: str = ""
    answers: int = 1
    agreed: tuple[str, ...] = ()
    final: Mapping[str, str] = field(default_factory=dict)


def needs(state: RunState) -> tuple[Need, ...]:
    """Failures, then holds, then the verdict, then a run that somebody held."""
    found = []
    for name in sorted(state.failed):
        step, failure = state.graph[name], state.steps[name]
        about = f"{step.workload}: {step.title}" if step.workload else step.title
        found.append(
            Need(
                kind="failure",
                step=name,
                title=f"{about} failed",
                text=failure.reason,
                skippable=step.skippable,
                again="Restart it" if step.verb == "await-heartbeat" else "Try again",
                since=failure.failed_at,
            )
        )
    for name in sorted(state.persons):
        step = state.graph[name]
        if name == VERDICT:
            up = sum(1 for _, member in state.inputs.plan.members() if member.power_on)
            run = _counted(up, "copy runs", "copies run")
            text = f"{run} isolated at {state.inputs.plan.target}. Look at them, then judge."
            title = "The test waits for your verdict"
            found.append(
                Need(kind="verdict", step=name, title=title, text=text, since=state.steps[name].asked_at)
            )
        elif name == DECISION:
            found.append(_decision(state))
        elif name == ACKNOWLEDGE:
            found.append(_acknowledge(state))
        else:
            found.append(
                Need(
                    kind="hold",
                    step=name,
                    title=step.title,
                    text=str(step.args.get("instruction", "")),
                    who=in_words(step.args.get("who", ())),
                    ends_at=hold_ends(state, name),
                    then=str(step.args.get("then", "")),
                    since=state.steps[name].asked_at,
                    not_right=str(step.args.get("not_right", "")),
                    refused=_refused(state.steps[name]),
                    answers=int(step.args.get("answers", 1)),
                    agreed=state.steps[name].agreed,
                )
            )
    if state.held_because is not None:
        found.append(
            Need(kind="held", step="", title="The run is held", text=state.held_because, since=state.held_at)
        )
    return tuple(found)


def unconfirmed(state: RunState) -> tuple[str, ...]:
    """Workloads whose copies at the source were not confirmed off and fenced."""
    names = (member.workload for _, member in state.inputs.plan.members())
    fences = {name: state.steps.get(f"fence:{name}") for name in names}
    return tuple(name for name, fence in fences.items() if fence is None or fence.status != "done")


def _refused(step: StepState) -> str:
    return f"{step.refused_by}: {step.reason}" if step.refused_by else ""


def _counted(count: int, one: str, more: str) -> str:
    return f"{count} {one if count == 1 else more}"


def _acknowledge(state: RunState) -> Need:
    names = unconfirmed(state)
    listed = ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")
    source, still = state.inputs.plan.source, "runs" if len(names) == 1 else "run"
    return Need(
        kind="acknowledge",
        step=ACKNOWLEDGE,
        title=f"{_counted(len(names), 'source copy is', 'source copies are')} not confirmed off",
        since=state.steps[ACKNOWLEDGE].asked_at,
        text=(
            f"Nobody can say whether {listed} still {still} at {source}. If so, and somebody reaches them, "
            f"there are two live copies. A fence for each is kept and delivered when {source} answers."
        ),
    )


def _decision(state: RunState) -> Need:
    plan, live = state.inputs.plan, state.inputs.live
    up = sum(1 for _, member in plan.members() if member.power_on)
    after = {"re-protect": " and begins to copy it back", "end-protection": " and ends its protection"}
    ends = after.get(live.at_commit, "") if live else ""
    return Need(
        kind="decision",
        step=DECISION,
        title="Commit, or roll back?",
        text=(
            f"{_counted(up, 'workload runs', 'workloads run')} at {plan.target}. "
            f"Commit makes that final{ends}: the older points are discarded. "
            f"Roll back discards what they changed since, and brings {plan.source} up again."
        ),
        ends_at=window_ends(state),
        then=live.then if live else "",
        since=state.steps[DECISION].asked_at,
        final={
            "commit": (
                f"It stays at {plan.target}{ends}. "
                "The older points are discarded, and it cannot be rolled back."
            ),
            "roll-back": f"What was written at {plan.target} is discarded, and {plan.source} comes up again.",
        },
    )
