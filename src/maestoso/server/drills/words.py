"""Rules of recurrence as people say them."""

from __future__ import annotations

from maestoso.core.drills.schedule import Drill, local

_DAYS = {
    "MO": "Monday", "TU": "Tuesday", "WE": "Wednesday", "TH": "Thursday", "FR": "Friday", "SA": "Saturday",
    "SU": "Sunday",
}  # fmt: skip
_ORDER = {"1": "first", "2": "second", "3": "third", "4": "fourth", "-1": "last"}
_UNITS = {"DAILY": "day", "WEEKLY": "week", "MONTHLY": "month", "YEARLY": "year"}


def in_words(drill: Drill) -> str:
    """'On the first Tuesday of every month at 20:00'; what cannot be said so stays a rule."""
    begins = local(drill.starts, "starts")
    clock = f"at {begins:%H:%M} ({drill.time_zone})"
    parts = dict(
        one.split("=", 1) for one in drill.rule.upper().removeprefix("RRULE:").split(";") if "=" in one
    )
    if not parts:
        return f"Once, on {begins.day} {begins:%B %Y} {clock}"
    unit, days = _UNITS.get(parts.pop("FREQ", "")), parts.pop("BYDAY", "")
    every = int(parts.pop("INTERVAL", "1"))
    times, until = parts.pop("COUNT", ""), parts.pop("UNTIL", "")
    if unit is None or parts or (days and unit not in ("week", "month")):
        return f"By the rule {drill.rule} {clock}"
    span = f"every {unit}" if every == 1 else f"every {every} {unit}s"
    text = f"{span[0].upper()}{span[1:]}"
    if days:
        named = [_day(one) for one in days.split(",")]
        if "" in named:
            return f"By the rule {drill.rule} {clock}"
        on = " and ".join(named)
        text = f"On the {on} of {span}" if unit == "month" else f"{text} on {on}"
    text += f" {clock}"
    text += f", {times} times" if times else ""
    return f"{text}, until {until[:4]}-{until[4:6]}-{until[6:8]}" if until else text


def _day(text: str) -> str:
    """'1TU' is the first Tuesday; empty for what has no such name."""
    name, place = _DAYS.get(text[-2:]), text[:-2].removeprefix("+")
    if name is None or (place and place not in _ORDER):
        return ""
    return f"{_ORDER[place]} {name}" if place else name
