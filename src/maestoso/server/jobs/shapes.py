"""What is said of jobs over HTTP."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Literal

State = Literal["waiting", "working", "done", "failed", "cancelled"]


@dataclass(frozen=True, slots=True, kw_only=True)
class JobView:
    """A job. ``done`` of ``total`` are pages, runs, workloads or what its kind counts; ``total`` is 0 where
    that is not known. ``left_s`` and ``per_s`` go by how it went so far. ``problem`` is why it failed.
    ``attempt`` is above 1 where a worker died in it. ``file`` and ``size`` (bytes) are of what it made.
    """

    id: int
    kind: str
    about: str
    state: State
    cancelling: bool
    asked_at: datetime
    began_at: datetime | None
    ended_at: datetime | None
    attempt: int
    done: int
    total: int
    per_s: float | None
    left_s: float | None
    file: str
    size: int
    problem: str
