"""Times and kinds as reports say them."""

from __future__ import annotations

import re

KINDS = {
    "test": "isolated test",
    "planned": "planned failover",
    "disaster": "disaster failover",
    "re-protect": "re-protect",
}
PHASES = {
    "prepare": "preparing the landing",
    "close-down": "closing down the source",
    "hand-over": "handing over",
    "bring-up": "bringing up",
    "judge": "judging",
    "cleanup": "cleanup",
    "commit": "commit",
    "roll-back": "roll back",
}


def lasting(seconds: float | None) -> str:
    """Seconds as people say them: '40 s', '2 min 10 s', '14 min', '1 h 20 min', '6 days'."""
    if seconds is None:
        return "not reached"
    whole = round(seconds)
    if whole < 100:
        return f"{whole} s"
    if whole < 300:
        return f"{whole // 60} min {whole % 60} s" if whole % 60 else f"{whole // 60} min"
    minutes = round(whole / 60)
    if minutes < 120:
        return f"{minutes} min"
    hours = minutes // 60
    if hours < 48:
        return f"{hours} h {minutes % 60} min" if minutes % 60 else f"{hours} h"
    return f"{round(seconds / 86400)} days"


def on_clock(seconds: float | None) -> str:
    """Run seconds as a clock: '8:42', '1:02:03'; a dash for what has none."""
    if seconds is None:
        return "–"
    whole = int(abs(seconds))
    hours, minutes = whole // 3600, whole % 3600 // 60
    text = f"{hours}:{minutes:02}:{whole % 60:02}" if hours else f"{minutes}:{whole % 60:02}"
    return f"−{text}" if seconds < 0 and whole else text


def counted(number: int, one: str) -> str:
    """'1 workload', '3 workloads'."""
    return f"{number} {one}" if number == 1 else f"{number} {one}s"


_MARKS = re.compile(r"\*\*|`|(?m:^[ \t]*(?:#+|>|[-*]|\d+\.)[ \t]+)")


def plain(markdown: str) -> str:
    """Markdown as one line of text, for where it is not laid out."""
    return " ".join(_MARKS.sub("", markdown).split())
