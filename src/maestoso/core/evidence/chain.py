"""The hash chain: every event carries the SHA-256 of the one before it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable

from maestoso.core.codec import to_data
from maestoso.core.runs.events import Event

ROOT = "0" * 64


def link(before: str, event: Event) -> str:
    """The hash of ``event`` behind ``before``, as 64 hex digits.

    Hashed is the previous hash, a line feed, and the event as JSON with sorted keys and no spaces.
    """
    text = json.dumps(to_data(event), sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(f"{before}\n{text}".encode()).hexdigest()


def first_broken(log: Iterable[tuple[Event, str]]) -> int | None:
    """Number of the first event whose stored hash does not follow from those before; None if all do."""
    before = ROOT
    for event, stored in log:
        if link(before, event) != stored:
            return event.seq
        before = stored
    return None
