"""What an event says to a person, in one sentence."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.planning.graph import StepGraph
from maestoso.core.runs.events import ENGINE, Event

MOST_NAMED = 4
_VERDICTS = {"passed": "passed", "failed": "failed", "inconclusive": "was inconclusive"}


_KINDS = {
    "test": "test",
    "planned": "planned failover",
    "disaster": "disaster failover",
    "re-protect": "re-protect",
}
_ENDS = {
    "committed": "Finished. The failover is committed.",
    "rolled back": "Finished. The failover is rolled back; nothing of it is left at the target.",
    "protected": "Finished. Everything is protected in the other direction.",
}


def _named(graph: StepGraph, step_id: str) -> str:
    step = graph[step_id]
    if step.workload is None:
        return step.title
    return f"{step.workload}: {step.title[0].lower()}{step.title[1:]}"


def _full(text: str) -> str:
    """What a person typed, as a sentence that can stand behind another; empty stays empty."""
    text = text.strip()
    if not text:
        return ""
    first = text.split()[0].rstrip(",.:;!?")
    # A name such as broker-01 is written as it is.
    begun = f"{text[0].upper()}{text[1:]}" if first.isalpha() else text
    return f" {begun}" + ("" if text[-1] in ".!?" else ".")


def _all(graph: StepGraph, steps: Sequence[str]) -> str:
    """Steps by their titles, or how many they are."""
    return (
        "; ".join(graph[name].title for name in steps) if len(steps) <= MOST_NAMED else f"{len(steps)} steps"
    )


def _seen(away: Sequence[Sequence[str]], back: Sequence[Sequence[str]]) -> str:
    """What probes from outside noticed."""
    told = []
    for services, verb in ((away, "do not answer"), (back, "answer")):
        if services:
            named = ", ".join(f"{service} of {workload}" for workload, service in services[:MOST_NAMED])
            more = len(services) - MOST_NAMED
            told.append(f"Seen from outside, these {verb}: {named}{f' and {more} more' if more > 0 else ''}.")
    return " ".join(told) or "Seen from outside, every service answers."


def _changed(result: Mapping[str, Any]) -> str:
    """What a step made of names; nothing where it is about something else."""
    told = [
        f" {one['name']} leads to {', '.join(one['after']) or 'nothing'}, and led to "
        f"{', '.join(one['before']) or 'nothing'}."
        for one in result.get("names", ())[:MOST_NAMED]
    ]
    more = len(result.get("names", ())) - MOST_NAMED
    return "".join(told) + (f" {more} more names changed." if more > 0 else "")


def _signed(data: Mapping[str, Any]) -> str:
    """Who approved a start, or why it was an emergency; nothing where it needed nobody."""
    if data.get("emergency"):
        return f" As an emergency, without the approvals that it needs:{_full(data['emergency'])}"
    names = [one["by"] for one in data.get("approvals") or ()]
    return f" Approved by {' and '.join(names)}." if names else ""


def sentence(event: Event, graph: StepGraph) -> str:
    """The event in words; the moment and the step stand beside it and are not repeated."""
    data = event.data
    who = "The engine" if event.by == ENGINE else event.by
    what = _named(graph, data["step"]) if data.get("step", "") in graph else ""
    verb = graph[data["step"]].verb if what else ""
    match event.kind:
        case "run.started":
            text = f"{who} started the {_KINDS[data['inputs']['kind']]}.{_signed(data)}"
        case "step.asked":
            again = f", try {data['attempt']}" if data["attempt"] > 1 else ""
            whom = "name servers" if graph[data["step"]].site == NAME_SERVERS else "site"
            text = f"{what}, asked of the {whom}{again}."
        case "step.done":
            told = _full(graph[data["step"]].args.get("text", "")) if verb == "notify" else ""
            text = (
                f"Everybody was told:{told}" if told else f"{what}, done.{_changed(data.get('result') or {})}"
            )
        case "step.failed":
            text = f"{what}, failed.{_full(data['reason'])}"
        case "step.skipped":
            text = f"{what}, skipped by {who.lower() if event.by == ENGINE else who}.{_full(data['reason'])}"
        case "step.retried":
            text = f"{who} asked to try again: {what}."
        case "step.waits":
            text = f"{what} waits for a person."
        case "hold.answered":
            said = _full(data.get("text", ""))
            text = f"{what}:{said}" if event.by == ENGINE else f"{who} answered: {what}.{said}"
        case "hold.agreed":
            text = f"{who} agreed: {what}. It waits for somebody else as well.{_full(data.get('text', ''))}"
        case "hold.refused":
            text = f"{who}: {what} is not right; it goes on waiting.{_full(data['text'])}"
        case "verdict.given":
            text = f"{who}: the test {_VERDICTS[data['verdict']]}.{_full(data.get('notes', ''))}"
        case "decision.given":
            done = "committed the failover" if data["decision"] == "commit" else "rolled the failover back"
            text = f"{who} {done}.{_full(data.get('notes', ''))}"
        case "point.changed":
            at = str(data["point"]["at"])[:19].replace("T", " ")
            text = f"{who} lets {data['group']} come up again from its point of {at} UTC."
        case "run.held":
            text = f"The run is held.{_full(data['reason'])}"
        case "run.resumed":
            text = f"{who} resumed the run."
        case "run.aborted":
            text = f"{who} aborted the run; what it did is taken back.{_full(data['reason'])}"
        case "site.lost":
            text = f"{data['site']} does not answer; its steps wait.{_full(data['reason'])}"
        case "site.back":
            text = f"{data['site']} answers again; the run goes on."
        case "site.forgot":
            named = _all(graph, data["steps"])
            text = f"{data['site']} has lost its memory of what it was asked for and is asked again: {named}."
        case "site.busy":
            named = _all(graph, data["steps"])
            text = f"{data['site']} takes in later what it is asked for: {named}.{_full(data['reason'])}"
        case "site.deaf":
            named = _all(graph, data["steps"])
            text = f"{data['site']} is heard, but does not take in what it is asked for again and again: "
            text += f"{named}.{_full(data['reason'])}"
        case "services.seen":
            text = _seen(data["away"], data["back"])
        case "run.finished":
            left = data.get("remains") or []
            if data["outcome"] in _ENDS:
                return _ENDS[data["outcome"]]
            text = (
                f"Finished. Left behind: {', '.join(left)}." if left else "Finished. Nothing is left behind."
            )
    return text
