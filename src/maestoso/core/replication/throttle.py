"""What a link has for copies at a moment, with its throttle windows."""

from __future__ import annotations

from datetime import UTC, datetime

from maestoso.core.errors import BadValue
from maestoso.core.model.estate import Link, ThrottleWindow

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
MINUTES_A_DAY = 1440


def minute_of(text: str, field: str = "window") -> int:
    """``HH:MM`` as minutes since midnight; ``24:00`` is the end of a day. Raises BadValue."""
    parts = text.split(":")
    if len(parts) == 2 and all(part.isdigit() and len(part) == 2 for part in parts):
        minutes = int(parts[0]) * 60 + int(parts[1])
        if int(parts[1]) < 60 and minutes <= MINUTES_A_DAY:
            return minutes
    raise BadValue(
        f"{field} is {text!r}, which is no time of day.", "Give a time such as 08:30.", field=field
    )


def share_at(windows: tuple[ThrottleWindow, ...], at_s: float) -> float:
    """The share of the link that copies may use; where windows overlap, the smallest counts.

    A window that ends before it begins runs over midnight and belongs to the day it begins on.
    """
    moment = datetime.fromtimestamp(at_s, UTC)
    now = moment.hour * 60 + moment.minute
    today, yesterday = DAYS[moment.weekday()], DAYS[moment.weekday() - 1]
    found = 1.0
    for window in windows:
        begin, end = minute_of(window.begins), minute_of(window.ends)
        if begin <= end:
            inside = today in window.days and begin <= now < end
        else:
            inside = (today in window.days and now >= begin) or (yesterday in window.days and now < end)
        if inside:
            found = min(found, window.share)
    return found


def room_bps(link: Link, at_s: float) -> float:
    """Bytes a second for copies: the bandwidth, less what is lost and what the windows take away."""
    return link.bandwidth_bps / 8 * (1.0 - min(max(link.loss, 0.0), 1.0)) * share_at(link.windows, at_s)


def narrowest_bps(link: Link) -> float:
    """Bytes a second in the narrowest window."""
    least = min((window.share for window in link.windows), default=1.0)
    return link.bandwidth_bps / 8 * (1.0 - min(max(link.loss, 0.0), 1.0)) * least
