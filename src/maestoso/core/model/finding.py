"""One thing that preflight or the readiness board noticed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Severity = Literal["blocks", "warns", "note"]
SEVERITIES: tuple[Severity, ...] = ("blocks", "warns", "note")


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """``subject`` is what the sentence is about (a workload, a group, a wave); ``mend`` says what to do."""

    code: str
    severity: Severity
    subject: str
    sentence: str
    mend: str


def sort_key(finding: Finding) -> tuple[int, str, str]:
    """Worst first, then by code and subject, so that lists are stable."""
    return SEVERITIES.index(finding.severity), finding.code, finding.subject
