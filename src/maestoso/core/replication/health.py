"""How a group stands, in sentences made from what the site says of its copying."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from maestoso.core.model.protection import CopyState, Group
from maestoso.core.replication.cost import in_rate, in_size
from maestoso.core.replication.sharing import drain_s

Condition = Literal[
    "healthy", "lagging", "failing", "paused", "stalled", "seeding", "unknown", "waiting", "moving",
    "unprotected", "in clear", "refused",
]  # fmt: skip
FAILING_SHARE = 0.05
FEWEST_FAILED = 2


@dataclass(frozen=True, slots=True, kw_only=True)
class Health:
    """``lag_s`` is None without a point; ``drain_s`` None where the backlog never drains.

    ``cause`` is what is behind it when that is not the group's own (a site, a link), so that many groups can
    share one sentence.
    """

    condition: Condition
    sentence: str
    lag_s: float | None
    failed_share: float
    drain_s: float | None
    cause: str = ""


def health(
    group: Group, state: CopyState | None, now: datetime, lost_because: str = "", stage: str = "protected",
    refused: str = "",
) -> Health:  # fmt: skip
    """The health of ``group`` in its ``stage``. ``lost_because``: why the site with the copies says nothing;
    ``refused``: what it said when it was told last how to copy it, and would not.

    A group that is failing over, or was, has no copying by intent; that is no trouble of its copying.
    """
    moving = _on_its_way(group, stage)
    if moving is not None:
        return moving
    if lost_because:
        cause = f"{group.target} does not answer"
        return _made("unknown", f"Nothing is known: {cause}. {lost_because}", None, None, None, cause)
    if refused and (state is None or state.digest != group.digest()):
        goes_on = "Meanwhile it is copied as it was defined before." if state and state.newest else (
            "Nothing is copied."
        )  # fmt: skip
        return _made("refused", f"{refused} {goes_on}", None, state, None)
    if stage == "re-protecting" and (state is None or state.source != group.source):
        found = f"What differs between {group.source} and {group.target} is being found."
        return _made("seeding", found, None, None, None)
    if state is None or state.digest == "":
        return _made("waiting", f"{group.target} has not begun to copy it yet.", None, state, None)
    if stage == "seeding" and state.digest != group.digest():
        said = (
            f"{group.target} says that it copies it as it was defined otherwise ({state.digest[:16]}, not"
            f" {group.digest()}). It is told again every minute; where that does not help, its agent does not"
            " repeat the digest that it was given."
        )
        return _made("waiting", said, None, state, None)
    if group.policy.encrypted and state.digest == group.digest() and not state.encrypted_with:
        said = f"Its copies are not encrypted: {group.target} has no key for them."
        return _made("in clear", said, None, state, None)
    lag = (now - state.newest.at).total_seconds() if state.newest else None
    drain = drain_s(state.backlog_bytes, state.change_bps, state.room_bps)
    if state.paused_because:
        last = f" Its newest point is {in_time(lag)} old." if lag is not None else ""
        said = f"Paused: {state.paused_because.rstrip('.')}.{last} Changes wait at {group.source}."
        return _made("paused", said, lag, state, drain)
    if state.stalled_because:
        said = f"Nothing is copied: {state.stalled_because}. {_backlog(state, None)}"
        return _made("stalled", said.strip(), lag, state, None, state.stalled_because)
    if state.seeded_bytes < state.seed_bytes:
        return _made("seeding", _seeding(state), lag, state, None)
    if lag is None or state.newest is None:
        return _made(
            "waiting", "The copy is there; its first point comes with the next cycle.", lag, state, drain
        )
    failing = sum(state.failed.values()) >= FEWEST_FAILED and _share(state) >= FAILING_SHARE
    if failing:
        reasons = " and ".join(f"{reason} ({count})" for reason, count in _worst(state.failed))
        said = (
            f"{_share(state):.0%} of the copy cycles of the last hour failed: {reasons}. "
            f"The last good point is {in_time(lag)} old, the objective {in_time(group.policy.rpo_s)}."
        )
        return _made("failing", said, lag, state, drain)
    if lag > group.policy.rpo_s:
        said = f"Its newest point is {in_time(lag)} old, over the objective of {in_time(group.policy.rpo_s)}."
        return _made("lagging", f"{said} {_backlog(state, drain)}".strip(), lag, state, drain)
    said = f"Its newest point is {in_time(lag)} old, within the objective of {in_time(group.policy.rpo_s)}."
    return _made("healthy", said, lag, state, drain)


def _on_its_way(group: Group, stage: str) -> Health | None:
    if stage == "failing over":
        said = f"A run is moving it from {group.source} to {group.target}; nothing is copied until it ends."
    elif stage == "running uncommitted":
        said = f"It runs at {group.target}. Nothing is copied until that is committed or rolled back."
    elif stage == "running committed":
        said = f"It runs at {group.source}, and nothing copies it to {group.target}. Re-protect it."
        return _made("unprotected", said, None, None, None)
    else:
        return None
    return _made("moving", said, None, None, None)


def _made(
    condition: Condition, sentence: str, lag: float | None, state: CopyState | None, drain: float | None,
    cause: str = "",
) -> Health:  # fmt: skip
    share = _share(state) if state else 0.0
    return Health(
        condition=condition, sentence=sentence, lag_s=lag, failed_share=share, drain_s=drain, cause=cause
    )


def _share(state: CopyState) -> float:
    return sum(state.failed.values()) / state.cycles if state.cycles else 0.0


def _worst(failed: dict[str, int]) -> list[tuple[str, int]]:
    return sorted(failed.items(), key=lambda item: -item[1])[:2]


def _seeding(state: CopyState) -> str:
    left = state.seed_bytes - state.seeded_bytes
    done = f"{in_size(state.seeded_bytes)} of {in_size(state.seed_bytes)}"
    if state.rate_bps <= 0:
        return f"The first copy waits: {done} are there."
    rate, left_s = in_rate(state.rate_bps), in_time(left / (state.rate_bps * state.pace))
    faster = f" (a practice site makes it {state.pace:g} times as fast)" if state.pace != 1 else ""
    return f"The first copy is under way: {done} at {rate}{faster}, {left_s} left."


def _backlog(state: CopyState, drain: float | None) -> str:
    if state.backlog_bytes < 2**20:
        return ""
    waiting = f"{in_size(state.backlog_bytes)} wait"
    if state.stalled_because:
        return f"{waiting}."
    if drain is None:
        return f"{waiting}, and grow faster than the link takes them."
    return f"{waiting}; at {in_rate(state.room_bps)} they are across in {in_time(drain)}."


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """One thing behind the trouble of several groups, said once."""

    cause: str
    groups: tuple[str, ...]
    sentence: str


def causes(found: Iterable[tuple[Group, Health]]) -> tuple[Cause, ...]:
    """What several groups share, most groups first."""
    by_cause: dict[str, list[str]] = {}
    for group, judged in found:
        if judged.cause:
            by_cause.setdefault(judged.cause, []).append(group.name)
    made = [
        Cause(cause=cause, groups=tuple(names), sentence=_of(cause, names))
        for cause, names in by_cause.items()
    ]
    return tuple(sorted(made, key=lambda one: -len(one.groups)))


def _of(cause: str, names: Sequence[str]) -> str:
    shown = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
    many = f"{len(names)} groups are" if len(names) > 1 else "one group is"
    return f"{cause[0].upper()}{cause[1:]}: {many} not copied because of it ({shown})."


def in_time(seconds: float) -> str:
    """Seconds as people say them."""
    if seconds < 100:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.0f} h" if seconds < 172_800 else f"{seconds / 86400:.0f} days"
