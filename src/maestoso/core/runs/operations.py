"""What a site is asked to do, what it answers, and what the answer means for the log."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from maestoso.core.codec import from_data
from maestoso.core.model.protection import Group
from maestoso.core.planning.graph import Step
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState

OperationStatus = Literal["accepted", "running", "done", "failed"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Operation:
    """What a site is asked to do. ``key`` names it for ever: a repeated key is answered from memory."""

    key: str
    run: str
    verb: str
    subject: str
    args: Mapping[str, Any]
    pace: float = 1.0


@dataclass(frozen=True, slots=True, kw_only=True)
class OperationState:
    """What a site says of one operation. ``code`` and ``reason`` are set when it failed.

    ``took_s``: machine seconds from taking it in to its end, by the site's own clock; None where it does not
    say. ``before_s``: how long what it waits for, as a boot, had been under way before it was taken in.
    """

    key: str
    status: OperationStatus
    result: Mapping[str, Any] = field(default_factory=dict)
    code: str = ""
    reason: str = ""
    took_s: float | None = None
    before_s: float = 0.0

    @property
    def settled(self) -> bool:
        """Whether it will not change any more."""
        return self.status in ("done", "failed")


def operation_for(state: RunState, run: str, step_id: str) -> Operation:
    """The operation of the present attempt of a step; the same for the same log.

    Waiting once more for a boot that hangs is of no use, so trying a heartbeat again restarts the machine.
    """
    step = state.graph[step_id]
    args = dict(step.args)
    if step.verb == "clone-point" and state.inputs.sync_first:
        args["point"] = state.steps[f"sync:{args['group']}"].result.get("point") or args["point"]
    if step.verb == "promote":
        group = str(step.args["group"])
        chosen = state.points.get(group)
        if chosen:
            # Another point for the group, chosen later, is for all of its members.
            args.pop("apart", None)
        args["point"] = chosen.id if chosen else _copied_last(state, group) or args["point"]
        args["contents"] = _contents(state, args["workloads"])
    if step_id.startswith("final-sync:"):
        members = next(copy.members for copy in state.inputs.groups if copy.code == args["group"])
        args["contents"] = _contents(state, members)
    if step.verb == "reverse-copying":
        args["digest"] = from_data(Group, args["group"]).digest()
        changed = state.steps[f"changes-since:{step.subject}"].result
        args["changed_bytes"] = changed.get("changed_bytes", 0)
        args["since"] = changed.get("since")
    if step.verb == "put-names-back":
        published = state.steps[step_id.replace("names-back:", "names:", 1)].result
        args["names"] = published.get("names") or args["names"]
    if step.verb == "await-heartbeat" and state.steps[step_id].attempt > 1:
        args["restart"] = True
    return Operation(
        key=f"{run}:{step_id}:{state.steps[step_id].attempt}",
        run=run,
        verb=step.verb,
        subject=step.subject,
        args=args,
        pace=state.inputs.pace,
    )


def _copied_last(state: RunState, group: str) -> str | None:
    """The point that the last copy from a fenced source left, where there was one."""
    last = state.steps.get(f"final-sync:{group}")
    return last.result.get("point") if last is not None and last.status == "done" else None


def _contents(state: RunState, workloads: Iterable[str]) -> dict[str, Any]:
    """What the source said the disks of its fenced copies hold, by workload."""
    fences = {name: state.steps.get(f"fence:{name}") for name in workloads}
    return {
        name: fence.result["contents"]
        for name, fence in fences.items()
        if fence is not None and fence.status == "done" and "contents" in fence.result
    }


LONGEST_OUTPUT = 2000
LONGEST_S = 365 * 86400.0
"""What takes longer than a year was measured by a clock that is wrong."""


def demanded(step: Step, kind: str) -> tuple[str, ...]:
    """What a site must say of a step that is done, in a run of this kind.

    A planned move loses nothing: the other copy is compared with what the disks of a fenced one hold.
    """
    if step.verb != "fence":
        return ()
    return ("was_running", "contents") if kind == "planned" else ("was_running",)


def outcome(step: Step, answer: OperationState, kind: str) -> Draft:
    """What a settled operation of ``step`` means for the log of a run of this kind.

    The plan says which exit codes are success. What is done without what was demanded has failed.
    """
    lacks = [name for name in demanded(step, kind) if answer.status == "done" and name not in answer.result]
    if lacks:
        answer = replace(
            answer, status="failed", code="answer-incomplete",
            reason=f"The agent of {step.site} says that it is done, and not what it must say of it: "
            f"{' and '.join(lacks)}. Without that the copies cannot be trusted; have the agent mended.",
        )  # fmt: skip
    script = answer.status == "done" and step.verb == "run-script"
    draft = _of_script(step, answer) if script else _of_operation(step.id, answer)
    took_s, before_s = answer.took_s, answer.before_s
    if took_s is None or not (0 <= took_s < LONGEST_S and 0 <= before_s < LONGEST_S):
        return draft
    before = {"before_s": before_s} if before_s else {}
    return replace(draft, data={**draft.data, "took_s": took_s, **before})


def _of_script(step: Step, answer: OperationState) -> Draft:
    code, said = answer.result.get("exit_code"), str(answer.result.get("output", ""))[-LONGEST_OUTPUT:]
    if code in step.args["ok_codes"]:
        return Draft(kind="step.done", data={"step": step.id, "result": {"exit_code": code, "output": said}})
    wanted = ", ".join(map(str, step.args["ok_codes"]))
    reason = f"{step.args['script']} ended with exit code {code}; {wanted} would be success."
    if said.strip():
        reason += f" It said: {said.strip()}"
    return Draft(kind="step.failed", data={"step": step.id, "code": "exit-code", "reason": reason})


def _of_operation(step: str, answer: OperationState) -> Draft:
    if answer.status == "done":
        return Draft(kind="step.done", data={"step": step, "result": dict(answer.result)})
    return Draft(kind="step.failed", data={"step": step, "code": answer.code, "reason": answer.reason})
