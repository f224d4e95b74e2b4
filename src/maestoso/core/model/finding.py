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
    ``fix`` is what one press would do to the plan, empty where no change of the plan mends it. ``severity``
    is that for a test; ``live`` says what it is for planned and disaster failovers.
    """

    code: str
    severity: Severity
    subject: str
    sentence: str
    mend: str
    part: str = ""
    others: tuple[str, ...] = ()
    fix: str = ""
    live: Literal["same", "blocks", "warns", "note", "none"] = "same"

    @property
    def live_severity(self) -> str:
        """What it is for planned and disaster failovers: a severity, or none where it does not matter."""
        return self.severity if self.live == "same" else self.live


def blocks(
    code: str, subject: str, sentence: str, mend: str, part: str = "", others: tuple[str, ...] = ()
) -> Finding:
    """A finding with which a run must not start."""
    return _finding(code, "blocks", subject, sentence, mend, part, others)


def warns(
    code: str, subject: str, sentence: str, mend: str, part: str = "", others: tuple[str, ...] = ()
) -> Finding:
    """A finding that a run may start in spite of."""
    return _finding(code, "warns", subject, sentence, mend, part, others)


def note(code: str, subject: str, sentence: str, mend: str, part: str = "") -> Finding:
    """Something that is good to know."""
    return _finding(code, "note", subject, sentence, mend, part, ())


def _finding(
    code: str, severity: Severity, subject: str, sentence: str, mend: str, part: str, others: tuple[str, ...]
) -> Finding:
    return Finding(
        code=code, severity=severity, subject=subject, sentence=sentence, mend=mend, part=part, others=others
    )


def sort_key(finding: Finding) -> tuple[int, str, str]:
    """Worst first, then by code and subject, so that lists are stable."""
    return SEVERITIES.index(finding.severity), finding.code, finding.subject
