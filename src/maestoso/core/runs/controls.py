"""What a person may tell a run, and when."""

from __future__ import annotations

from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs.events import Draft
from maestoso.core.runs.state import RunState

CONTROLS = ("hold", "resume", "abort", "retry", "skip", "answer", "verdict")
VERDICTS = ("passed", "failed", "inconclusive")


def control(
    state: RunState, kind: str, *, by: str, step: str = "", text: str = "", verdict: str = ""
) -> Draft:
    """The event that ``kind`` becomes. ``text`` is the reason, or the notes of a verdict.

    Raises Refused where the state of the run forbids it, BadValue and NotFound for what makes no sense.
    """
    if kind not in CONTROLS:
        raise BadValue(f"{kind!r} is not something a run can be told.", f"Use one of: {', '.join(CONTROLS)}.")
    if state.finished:
        raise Refused("This run has finished; nothing about it can be changed.", "Start another run.")
    if kind in ("retry", "skip", "answer") and step not in state.graph:
        raise NotFound(f"This run has no step {step!r}.", "Name a step of this run.", field="step")
    if kind == "answer":
        _may_answer(state, step, by)
    draft = {
        "hold": _hold,
        "resume": _resume,
        "abort": _abort,
        "retry": _retry,
        "skip": _skip,
        "answer": _answer,
        "verdict": _verdict,
    }[kind](state, step, text.strip(), verdict)
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
            f"{state.graph[step].title} cannot be skipped: without it the test would not be safe.",
            "Try it again, or abort the run.",
        )
    if not text:
        raise BadValue("Skipping a step wants a reason.", "Say why it is safe to go on.", field="text")
    return Draft(kind="step.skipped", data={"step": step, "reason": text})


def _may_answer(state: RunState, step: str, by: str) -> None:
    who = state.graph[step].args.get("who") or [by]
    if by not in who:
        raise Refused(
            f"{state.graph[step].title} is to be answered by {' or '.join(who)}; you are {by}.",
            "Ask one of them to answer it.",
            code="not-yours-to-answer",
        )


def _answer(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if step not in state.persons or state.graph[step].verb != "hold":
        raise Refused(f"{state.graph[step].title} does not wait for an answer now.")
    return Draft(kind="hold.answered", data={"step": step, "text": text})


def _verdict(state: RunState, step: str, text: str, verdict: str) -> Draft:
    if VERDICT not in state.persons:
        raise Refused("The test does not wait for a verdict now.", "Wait until all waves are up.")
    if verdict not in VERDICTS:
        raise BadValue(
            f"{verdict!r} is not a verdict.", f"Use one of: {', '.join(VERDICTS)}.", field="verdict"
        )
    return Draft(kind="verdict.given", data={"verdict": verdict, "notes": text})
