"""What a policy costs: bandwidth while copying, space for the points, and whether the link can carry it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from maestoso.core.model.protection import Policy
from maestoso.core.replication.retention import ladder_times

COMPRESSED_TO = 0.6
GIB = 2**30


@dataclass(frozen=True, slots=True, kw_only=True)
class PolicyCost:
    """``mean_bps`` and ``peak_bps`` bytes a second on the link; ``others_bps`` is what other groups take.

    ``room_bps`` is what the link has for copies in its narrowest window. ``points`` the moments kept (seconds
    since 1970), ``space_bytes`` what they need beside the copy itself of ``copy_bytes``; ``first_copy_s``
    how long the first copy takes on the room that others leave (None: it would never end).
    """

    mean_bps: float
    peak_bps: float
    others_bps: float
    room_bps: float
    fits: bool
    points: tuple[int, ...]
    space_bytes: int
    copy_bytes: int
    first_copy_s: float | None
    sentences: tuple[str, ...]


def policy_cost(
    policy: Policy, *, mean_bps: float, peak_bps: float, size_bytes: int, room_bps: float, others_bps: float,
    now: int,
) -> PolicyCost:  # fmt: skip
    """What ``policy`` would cost for changes of ``mean_bps`` and ``peak_bps`` bytes a second at the source.

    Space: each kept point holds what changed since the kept point before it, at most the whole copy.
    """
    factor = COMPRESSED_TO if policy.compression else 1.0
    mean, peak = mean_bps * factor, peak_bps * factor
    times = ladder_times(policy, now)
    spans = np.diff(times, prepend=times[0] if len(times) else 0).astype(np.float64)
    space = int(np.minimum(spans * mean, size_bytes).sum())
    spare = room_bps - others_bps
    first = size_bytes * factor / spare if spare > 0 else None
    if policy.initial == "seed":
        first = 0.0
    fits = peak <= spare
    return PolicyCost(
        mean_bps=mean, peak_bps=peak, others_bps=others_bps, room_bps=room_bps, fits=fits,
        points=tuple(int(at) for at in times), space_bytes=space, copy_bytes=size_bytes, first_copy_s=first,
        sentences=tuple(_said(policy, mean, peak, spare, len(times), space, fits)),
    )  # fmt: skip


def _said(
    policy: Policy, mean: float, peak: float, spare: float, points: int, space: int, fits: bool
) -> Iterator[str]:
    yield (
        f"It takes {in_rate(mean)} of the link on average and {in_rate(peak)} in its busiest hour; "
        f"the other groups leave {in_rate(max(spare, 0.0))}."
    )
    yield f"It keeps {points} points, which need about {in_size(space)} beside the copy itself."
    if not fits:
        yield (
            "The link cannot carry its busiest hour, so it would fall behind its objective then. "
            "Give it a longer objective, compress it, or widen the link."
        )
    elif policy.rpo_s < policy.interval_s:
        yield (
            f"A point every {policy.interval_s} s cannot meet an objective of {policy.rpo_s} s. "
            "Copy more often, or give it a longer objective."
        )
    else:
        yield f"The link carries it, so an objective of {policy.rpo_s} s can be met."


def in_rate(bps: float) -> str:
    """Bytes a second as people say link rates: in bits."""
    bits = bps * 8
    for size, unit in ((1e9, "Gbit/s"), (1e6, "Mbit/s"), (1e3, "kbit/s")):
        if bits >= size:
            return f"{bits / size:.3g} {unit}"
    return f"{bits:.0f} bit/s"


def in_size(count: float) -> str:
    """Bytes as people say them."""
    for size, unit in ((2**40, "TiB"), (2**30, "GiB"), (2**20, "MiB"), (2**10, "KiB")):
        if count >= size:
            return f"{count / size:.3g} {unit}"
    return f"{count:.0f} bytes"
