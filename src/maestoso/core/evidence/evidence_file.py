"""The evidence of one run as a file of lines that anybody can check.

The first line is a JSON object with ``format``, ``seal`` (a signed token) and ``key`` (the public key,
a JWK). Every line behind it is one event, written as it was hashed.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue, DomainError
from maestoso.core.evidence.chain import links
from maestoso.core.evidence.seal import RUN, SHORT, RunSeal, SealBroken, key_named_in, lengthened, opened
from maestoso.core.runs.events import Event

FORMAT = "maestoso-evidence/1"


@dataclass(frozen=True, slots=True, kw_only=True)
class Verification:
    """What came of checking. ``event`` is the first that was touched; ``key`` the thumbprint of the key that
    made the seal, ``trusted`` whether it is among those that were given (None: none were)."""

    holds: bool
    sentence: str
    event: int | None = None
    key: str = ""
    trusted: bool | None = None
    seal: RunSeal | None = None


def evidence_file(seal: str, key: Mapping[str, Any], events: Sequence[str]) -> str:
    """The file; ``events`` are the written events."""
    head = json.dumps({"format": FORMAT, "seal": seal, "key": dict(key)}, separators=(",", ":"))
    return "".join(f"{line}\n" for line in (head, *events))


def read_evidence(text: str) -> tuple[str, dict[str, Any], list[str]]:
    """Seal, key and event lines of a file. Raises BadValue for what is no evidence file."""
    head, *events = text.rstrip("\n").split("\n")
    try:
        first = json.loads(head)
        if first["format"] != FORMAT:
            raise BadValue(
                f"The format is {str(first['format'])[:40]!r}; this release reads {FORMAT}.",
                "Use a release that knows it.",
                field="format",
            )
        return str(first["seal"]), dict(first["key"]), events
    except (ValueError, KeyError, TypeError) as error:
        raise BadValue(
            "This is no evidence of a run: its first line has no format, seal and key.",
            "Give the file whose name ends in .evidence.jsonl.",
            field="file",
        ) from error


def verify(text: str, trusted: Mapping[str, Mapping[str, Any]] | None = None) -> Verification:
    """Check a file by itself; with ``trusted`` keys by thumbprint, also whose seal it is.

    Raises BadValue for what is no evidence file.
    """
    token, key, events = read_evidence(text)
    try:
        named = key_named_in(token)
        known = None if trusted is None else trusted.get(named)
        payload = opened(token, known if known is not None else key)
        if payload.get("format") != RUN:
            raise SealBroken(f"The seal is of the kind {str(payload.get('format'))[:40]!r}, not of a run.")
        seal = from_data(RunSeal, payload, at="seal")
        event, sentence = _touched(seal, events)
    except DomainError as error:
        return Verification(holds=False, sentence=error.sentence)
    ours = None if trusted is None else known is not None
    if sentence:
        return Verification(holds=False, sentence=sentence, event=event, key=named, trusted=ours, seal=seal)
    if ours is False:
        sentence = (
            "The events are those that were sealed, but the key that sealed them is none of those that are "
            "trusted here."
        )
        return Verification(holds=False, sentence=sentence, key=named, trusted=False, seal=seal)
    return Verification(
        holds=True,
        sentence=f"All {seal.events} events are as they were sealed when run {seal.number} ended.",
        key=named,
        trusted=ours,
        seal=seal,
    )


def _touched(seal: RunSeal, events: Sequence[str]) -> tuple[int | None, str]:
    """The first event that is not as it was sealed, and what is wrong; nothing where all hold."""
    hashes, sealed = links(events), lengthened(seal.links)
    for at, (one, wanted) in enumerate(zip(hashes, sealed, strict=False), 1):
        if one[: 2 * SHORT] != wanted:
            found = _number(events[at - 1])
            if found is not None and found > at:
                return at, f"Event {at} is missing: event {found} stands in its place."
            return at, f"Event {at} is not the one that was sealed: it was changed after the run."
    if len(events) < seal.events:
        return len(events) + 1, f"Events {len(events) + 1} to {seal.events} are missing at the end."
    if len(events) > seal.events:
        return seal.events + 1, f"Event {seal.events + 1} was added after the seal."
    if hashes[-1:] != [seal.head]:
        return seal.events, "The last hash is not the one that was sealed."
    return _clock(seal, events)


def _clock(seal: RunSeal, events: Sequence[str]) -> tuple[int | None, str]:
    """Whether the times can be true: none before the one in front of it, the ends as the seal says."""
    before: datetime | None = None
    for at, text in enumerate(events, 1):
        moment = from_data(Event, json.loads(text), at=f"event {at}").at
        if before is not None and moment < before:
            return at, f"Event {at} is dated before event {at - 1}: a clock was set back."
        if at == 1 and moment != seal.started_at:
            return 1, "The seal gives another start than event 1."
        before = moment
    if before != seal.ended_at:
        return seal.events, "The seal gives another end than the last event."
    return None, ""


def _number(text: str) -> int | None:
    try:
        found = json.loads(text)["seq"]
    except (ValueError, KeyError, TypeError):
        return None
    return found if isinstance(found, int) else None
