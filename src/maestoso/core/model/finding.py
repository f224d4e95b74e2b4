"""One thing that preflight or the readiness board noticed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Severity = Literal["blocks", "warns", "note"]
SEVERITIES: tuple[Severity, ...] = ("blocks", "warns", "note")


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """``subject`` is what the sentence is about (a workload, a group, a wave); ``mend`` says what to do.

    ``part`` is the adapter or disk of the subject, where it is about one; ``others`` are as much to blame.
    """

    code: str
    severity: Severity
    subject: str
    sentence: str
    mend: str
    part: str = ""
    others: tuple[str, ...] = ()


def blocks(code: str, subject: str, sentence: str, mend: str, part: str = "") -> Finding:
    """A finding with which a run must not start."""
    return Finding(code=code, severity="blocks", subject=subject, sentence=sentence, mend=mend, part=part)


def warns(code: str, subject: str, sentence: str, mend: str, part: str = "") -> Finding:
    """A finding that a run may start in spite of."""
    return Finding(code=code, severity="warns", subject=subject, sentence=sentence, mend=mend, part=part)


def note(code: str, subject: str, sentence: str, mend: str, part: str = "") -> Finding:
    """Something that is good to know."""
    return Finding(code=code, severity="note", subject=subject, sentence=sentence, mend=mend, part=part)


def sort_key(finding: Finding) -> tuple[int, str, str]:
    """Worst first, then by code and subject, so that lists are stable."""
    return SEVERITIES.index(finding.severity), finding.code, finding.subject
