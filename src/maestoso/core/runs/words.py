"""What an event says to a person, in one sentence."""

from __future__ import annotations

from maestoso.core.planning.graph import StepGraph
from maestoso.core.runs.events import ENGINE, Event

_VERDICTS = {"passed": "passed", "failed": "failed", "inconclusive": "was inconclusive"}


def _named(graph: StepGraph, step_id: str) -> str:
    step = graph[step_id]
    if step.workload is None:
        return step.title
    return f"{step.workload}: {step.title[0].lower()}{step.title[1:]}"


def sentence(event: Event, graph: StepGraph) -> str:
    """The event in words; the moment and the step stand beside it and are not repeated."""
    data = event.data
    who = "The engine" if event.by == ENGINE else event.by
    what = _named(graph, data["step"]) if data.get("step", "") in graph else ""
    match event.kind:
        case "run.started":
            text = f"{who} started the test."
        case "step.asked":
            again = f", try {data['attempt']}" if data["attempt"] > 1 else ""
            text = f"{what}, asked of the site{again}."
        case "step.done":
            text = f"{what}, done."
        case "step.failed":
            text = f"{what}, failed. {data['reason']}"
        case "step.skipped":
            text = f"{what}, skipped by {who.lower() if event.by == ENGINE else who}. {data['reason']}"
        case "step.retried":
            text = f"{who} asked to try again: {what}."
        case "step.waits":
            text = f"{what} waits for a person."
        case "hold.answered":
            text = f"{who} answered: {what}. {data.get('text', '')}".strip()
        case "verdict.given":
            text = f"{who}: the test {_VERDICTS[data['verdict']]}. {data.get('notes', '')}".strip()
        case "run.held":
            text = f"The run is held. {data['reason']}"
        case "run.resumed":
            text = f"{who} let the run go on."
        case "run.aborted":
            text = f"{who} aborted the run; it is being cleaned up. {data['reason']}"
        case "site.lost":
            text = f"{data['site']} does not answer; its steps wait. {data['reason']}"
        case "site.back":
            text = f"{data['site']} answers again; the run goes on."
        case "run.finished":
            left = data.get("remains") or []
            text = (
                f"Finished. Left behind: {', '.join(left)}." if left else "Finished. Nothing is left behind."
            )
    return text
