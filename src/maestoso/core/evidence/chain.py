"""The hash chain: every event carries the SHA-256 of the one before it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable
from typing import Any

from maestoso.core.codec import to_data
from maestoso.core.runs.events import Event

ROOT = "0" * 64


def written(event: Event) -> str:
    """The one way to write an event down: JSON with sorted keys and no spaces, on one line."""
    return line_of(to_data(event))


def line_of(told: Any) -> str:
    """An event that is data already, as it is written."""
    return json.dumps(told, sort_keys=True, separators=(",", ":"), ensure_ascii=False)


def link(before: str, event: Event) -> str:
    """The hash of ``event`` behind ``before``, as 64 hex digits."""
    return link_text(before, written(event))


def link_text(before: str, text: str) -> str:
    """The SHA-256 of the previous hash, a line feed, and the event as it is :func:`written`, in UTF-8."""
    return hashlib.sha256(f"{before}\n{text}".encode()).hexdigest()


def links(texts: Iterable[str]) -> list[str]:
    """The hash behind every line of a log."""
    found, before = [], ROOT
    for text in texts:
        before = link_text(before, text)
        found.append(before)
    return found


def first_broken(log: Iterable[tuple[Event, str]]) -> int | None:
    """Number of the first event whose stored hash does not follow from those before; None if all do."""
    before = ROOT
    for event, stored in log:
        if link(before, event) != stored:
            return event.seq
        before = stored
    return None
