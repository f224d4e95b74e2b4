"""What a person may tell a run, and when."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.model.protection import RecoveryPoint
from maestoso.core.people.roles import among, in_words
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState

CONTROLS = (
    "hold", "resume", "abort", "retry", "skip", "answer", "not-right", "verdict", "commit", "roll-back",
    "change-point",
)  # fmt: skip
VERDICTS = ("passed", "failed", "inconclusive")


def control(
    state: RunState,
    kind: str,
    *,
    by: str,
    roles: Collection[str] = (),
    step: str = "",
    text: str = "",
    verdict: str = "",
    group: str = "",
    point: RecoveryPoint | None = None,
) -> Draft:
    """The event that ``kind`` becomes. ``roles`` are those of ``by``.

    ``text`` is the reason, or the notes of a verdict or decision; ``group`` comes up again from ``point``.
    Raises Refused where the state of the run forbids it, BadValue and NotFound for what makes no sense.
    """
    if kind not in CONTROLS:
        raise BadValue(f"{kind!r} is not something a run can be told.", f"Use one of: {', '.join(CONTROLS)}.")
    if state.finished:
        raise Refused("This run has finished; nothing about it can be changed.", "Start another run.")
    if kind in ("retry", "skip", "answer", "not-right") and step not in state.graph:
        raise NotFound(f"This run has no step {step!r}.", "Name a step of this run.", field="step")
    if kind in ("answer", "not-right"):
        _may_answer(state, step, by, roles)
    if kind == "answer":
        return replace(_answer(state, step, text.strip(), by), by=by)
    if kind == "change-point":
        return replace(_change_point(state, group, point), by=by)
    draft = {
        "hold": _hold,
        "resume": _resume,
        "abort": _abort,
        "retry": _retry,
        "skip": _skip,
        "not-right": _not_right,
        "verdict": _verdict,
        "commit": _decision,
        "roll-back": _decision,
    }[kind](state, step, text.strip(), verdict or kind)
    return Draft(kind=draft.kind, data=draft.data, by=by)


def _hold(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if state.held_because is not None:
        raise Refused("The run is held already.", "Resume it first.")
    return Draft(kind="run.held", data={"reason": text or "A person held the run."})


def _resume(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if state.held_because is None:
        raise Refused("The run is not held, so there is nothing to resume.")
    return Draft(kind="run.resumed", data={})


def _abort(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if state.aborted_because is not None:
        raise Refused("The run is being aborted already.", "Wait for its cleanup.")
    if state.verdict is not None:
        raise Refused("The test was judged and is being cleaned up; there is nothing left to abort.")
    if state.decision is not None:
        raise Refused(
            "This run was decided; there is nothing left to abort.",
            "What was committed is taken back by a failback.",
        )
    begun = (state.steps[step.id].attempt for step in state.graph.steps if step.verb == "reverse-copying")
    if any(begun):
        raise Refused(
            "A re-protect is not taken back: what it copied is needed anyway.",
            "Hold it, and resume it later.",
        )
    return Draft(kind="run.aborted", data={"reason": text or "A person aborted the run."})


def _retry(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if step not in state.failed:
        raise Refused(f"{state.graph[step].title} has not failed.", "Only a failed step can be tried again.")
    return Draft(kind="step.retried", data={"step": step})


def _skip(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if step not in state.failed:
        raise Refused(f"{state.graph[step].title} has not failed.", "Only a failed step can be skipped.")
    if not state.graph[step].skippable:
        raise Refused(
            f"{state.graph[step].title} cannot be skipped: without it the run would not be safe.",
            "Try it again, or abort the run.",
        )
    if not text:
        raise BadValue("Skipping a step wants a reason.", "Say why it is safe to go on.", field="text")
    return Draft(kind="step.skipped", data={"step": step, "reason": text})


def _may_answer(state: RunState, step: str, by: str, roles: Collection[str]) -> None:
    who = state.graph[step].args.get("who") or []
    if not among(by, roles, who):
        raise Refused(
            f"{state.graph[step].title} is to be answered by {' or '.join(in_words(who))}; you are {by}.",
            "Ask one of them to answer it.",
            code="not-yours-to-answer",
        )


def _answer(state: RunState, step: str, text: str, by: str) -> Draft:
    if step not in state.persons or state.graph[step].verb not in ("hold", "acknowledge"):
        raise Refused(f"{state.graph[step].title} does not wait for an answer now.")
    agreed = state.steps[step].agreed
    if by in agreed:
        raise Refused(
            f"You have answered {state.graph[step].title} already.", "Somebody else must answer it as well.",
            code="not-yours-to-answer",
        )  # fmt: skip
    enough = len(agreed) + 1 >= state.graph[step].args.get("answers", 1)
    return Draft(kind="hold.answered" if enough else "hold.agreed", data={"step": step, "text": text})


def _not_right(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if step not in state.persons or not state.graph[step].args.get("not_right"):
        raise Refused(
            f"{state.graph[step].title} does not wait for that answer.",
            "Where the plan does not offer it, hold the run, or abort it.",
        )
    if not text:
        raise BadValue("What is not right was not said.", "Say what is not as it should be.", field="text")
    return Draft(kind="hold.refused", data={"step": step, "text": text})


def _decision(state: RunState, step: str, text: str, kind: str) -> Draft:
    if DECISION not in state.persons:
        raise Refused(
            "There is nothing to decide now.",
            "Commit or roll back once everything is up; before that, abort the run to take it back.",
        )
    return Draft(kind="decision.given", data={"decision": kind, "notes": text})


def _change_point(state: RunState, group: str, point: RecoveryPoint | None) -> Draft:
    if state.inputs.kind != "disaster" or DECISION not in state.persons:
        raise Refused(
            "The point can be changed in a disaster, while it waits for commit or roll back.",
            "Wait until everything is up.",
        )
    if group not in {copy.code for copy in state.inputs.groups}:
        raise NotFound(f"This run has no group {group[:60]!r}.", "Name a group of this run.", field="group")
    if point is None:
        raise BadValue("No point was named.", "Name a recovery point of the group.", field="point")
    return Draft(kind="point.changed", data={"group": group, "point": to_data(point)})


def _verdict(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if VERDICT not in state.persons:
        raise Refused("The test does not wait for a verdict now.", "Wait until all waves are up.")
    if verdict not in VERDICTS:
        raise BadValue(
            f"{verdict!r} is not a verdict.", f"Use one of: {', '.join(VERDICTS)}.", field="verdict"
        )
    return Draft(kind="verdict.given", data={"verdict": verdict, "notes": text})
