"""Template filters: the words of reports."""

from __future__ import annotations

from datetime import datetime
from zoneinfo import ZoneInfo

from django import template

from maestoso.core.runs.watching import Outage, Probes
from maestoso.core.wording import lasting, on_clock

register = template.Library()
register.filter("lasting", lasting)
register.filter("on_clock", on_clock)


@register.filter
def at(moment: datetime | None, zone: ZoneInfo) -> str:
    """A moment with its zone: '12 Nov 2026, 03:14:07'."""
    return "–" if moment is None else moment.astimezone(zone).strftime("%-d %b %Y, %H:%M:%S")


@register.filter
def minus(one: float, other: float) -> float:
    """The difference."""
    return one - other


@register.filter
def lasted(outage: Outage) -> str:
    """How long a service was away."""
    if outage.to_s is None:
        return "left off by intent" if outage.left_off else "had not answered again when the run ended"
    times = f", {outage.spells} times" if outage.spells > 1 else ""
    return f"{lasting(outage.to_s - outage.from_s - outage.up_s)}{times}"


@register.filter
def seen(one: Probes) -> str:
    """What probes saw of a service."""
    if not one.seen:
        return "its site made no probes"
    if one.up_s is None:
        return "it never answered"
    if not one.breaks:
        return "no break"
    if one.breaks == 1:
        return f"one break of {lasting(one.away_s)}"
    return f"{one.breaks} breaks, {lasting(one.away_s)} in all, the longest {lasting(one.longest_s)}"
