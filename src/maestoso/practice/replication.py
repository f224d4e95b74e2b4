"""How a practice site copies groups from other sites: a fluid model in steps, told the time like the world.

Every group has bytes written at its source and bytes that are here; the difference waits for its weighted
share of the link. Cycles mark moments on a grid; a mark becomes a recovery point when everything that was
written before it has come across, unless the cycle failed. Small steps are on a grid of ``STEP_S``; long
silent stretches (the history of the last days, or a site that was off) are taken in coarser ones.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any

import numpy as np

from maestoso.core.codec import from_data, to_data
from maestoso.core.model.estate import Link
from maestoso.core.model.protection import ChangeRate, CopyState, Group, LinkState, RecoveryPoint
from maestoso.core.replication.change import Burst, ChangeProfile, chance, rate
from maestoso.core.replication.cost import COMPRESSED_TO
from maestoso.core.replication.retention import ladders, retained
from maestoso.core.replication.sharing import share
from maestoso.core.replication.throttle import room_bps
from maestoso.practice.spec import Replica, Trouble

STEP_S = 5
HISTORY_S = 14 * 86400
LAG_EVERY_S = 300
LAGS_KEPT = 288
HOUR_S = 3600
SERIES_EVERY_S = 600
REASONS = (
    "the snapshot at the source timed out",
    "the storage at the source was busy",
    "the changed-block map was not readable",
)
AWAY = "does not answer"


@dataclass(slots=True, kw_only=True)
class Copying:
    """One group on its way. ``written`` and ``sent`` count bytes since the first copy was whole."""

    group: Group
    profile: ChangeProfile
    seed_bytes: float
    key: str = ""  # the fingerprint of what the copies are encrypted with
    digest: str = ""  # of the definition, as it was given
    pace: float = 1.0
    seeded: float = 0.0
    written: float = 0.0
    sent: float = 0.0
    rate_bps: float = 0.0
    paused_because: str = ""
    promoted_at: float = 0.0  # since when the copies are writable; 0 while they are only copies
    promoted_point: str = ""
    promoted_apart: dict[str, str] = field(default_factory=dict)  # members that came from other points
    held: dict[str, dict[str, float]] = field(default_factory=dict)  # what the source said, by point
    marks: deque[tuple[int, float, float]] = field(default_factory=deque)  # at, written then, written before
    last_mark: float = 0.0
    points: list[RecoveryPoint] = field(default_factory=list)
    cycles: deque[tuple[int, str]] = field(default_factory=deque)  # at, why it failed
    worst_lag: float = 0.0
    lags: deque[float] = field(default_factory=lambda: deque(maxlen=LAGS_KEPT))

    def whole(self) -> bool:
        """Whether the first copy is here."""
        return self.seeded >= self.seed_bytes


class Replication:
    """Everything that is copied to one site."""

    def __init__(
        self, site: str, replicas: tuple[Replica, ...], links: tuple[Link, ...], now: float, past: bool = True
    ) -> None:
        self.site = site
        self.links = {
            link.one if link.other == site else link.other: link
            for link in links
            if site in (link.one, link.other)
        }
        self.copying: dict[str, Copying] = {}
        self.troubles: list[Trouble] = []
        self.away: dict[str, str] = {}
        self.frozen = False  # a store that replays what a snapshot already holds
        self.now = now - HISTORY_S
        for replica in replicas:
            made = Copying(group=replica.group, profile=replica.profile, seed_bytes=0.0)
            self.copying[replica.group.code] = made
        if past and replicas:
            self.advance(now)
        else:
            self.now = now

    # --- what it is told ---

    def protect(
        self, replica: Replica, size_bytes: float, pace: float, key: str = "", digest: str = ""
    ) -> None:
        """Begin to copy a group, or carry out its changed definition; new members are copied first."""
        known = self.copying.get(replica.group.code)
        if known is None:
            seeded = size_bytes if replica.group.policy.initial == "seed" else 0.0
            self.copying[replica.group.code] = Copying(
                group=replica.group, profile=replica.profile, seed_bytes=size_bytes, seeded=seeded, pace=pace,
                key=key, digest=digest,
            )  # fmt: skip
            return
        more = set(replica.group.members) - set(known.group.members)
        if more and known.group.members:
            known.seed_bytes, known.seeded = size_bytes * len(more) / len(replica.group.members), 0.0
        known.group, known.pace, known.key, known.digest = replica.group, pace, key, digest
        known.profile = replace(replica.profile, bursts=known.profile.bursts)

    def unprotect(self, group: str) -> bool:
        """Give the copies up. False where there were none."""
        return self.copying.pop(group, None) is not None

    def trouble(self, trouble: Trouble) -> None:
        """Misbehave from now on."""
        if trouble.effect == "burst" and trouble.subject in self.copying:
            known = self.copying[trouble.subject]
            start = datetime.fromtimestamp(self.now, UTC)
            burst = Burst(start=start, length_s=trouble.length_s, factor=trouble.factor)
            known.profile = replace(known.profile, bursts=(*known.profile.bursts, burst))
        else:
            self.troubles.append(trouble)

    def add_point(self, group: str, now: float, contents: dict[str, float]) -> RecoveryPoint:
        """The point that a sync on demand leaves; ``contents`` are of members that were off by then."""
        known = self.copying[group]
        known.sent, known.marks = known.written, deque()
        point = self._point(known, now, known.written - known.last_mark, identity=f"{group}@{now:.3f}")
        known.last_mark = known.written
        known.points.append(point)
        if contents:
            known.held[point.id] = contents
        return point

    def contents(self, group: str, point: str, apart: Mapping[str, str] | None = None) -> dict[str, float]:
        """The moment of the last write that a point holds, by member; those ``apart`` from other points."""
        if apart:
            others = {name: self.contents(group, other)[name] for name, other in apart.items()}
            return {**self.contents(group, point), **others}
        known = self.copying.get(group)
        if known is None:
            return {}
        at = point.removeprefix(f"{group}@")
        moment = float(at) if at.replace(".", "", 1).isdigit() else 0.0
        return {name: known.held.get(point, {}).get(name, moment) for name in known.group.members}

    def promoted_contents(self, group: str) -> dict[str, float]:
        """What the copies of a promoted group held when they were promoted."""
        known = self.copying.get(group)
        return self.contents(group, known.promoted_point, known.promoted_apart) if known else {}

    def promote(self, group: str, point: str, now: float, apart: Mapping[str, str]) -> None:
        """Nothing is copied from now on: the copies are written to here."""
        known = self.copying.get(group)
        if known is not None:
            known.promoted_at, known.promoted_point, known.rate_bps = now, point, 0.0
            known.promoted_apart = dict(apart)
            known.marks.clear()

    def demote(self, group: str, now: float) -> bool:
        """Copies again, equal to the newest point; what the source wrote meanwhile is still to come."""
        known = self.copying.get(group)
        if known is None or not known.promoted_at:
            return False
        known.promoted_at, known.promoted_point, known.promoted_apart = 0.0, "", {}
        return True

    def drop_points(self, group: str) -> bool:
        """Let all points of a group go, and what was to come. False where there were none."""
        known = self.copying.get(group)
        if known is None or not known.points:
            return False
        known.points, known.held = [], {known.promoted_point: known.held.get(known.promoted_point, {})}
        return True

    def changed_since(self, group: str, now: float) -> float:
        """Bytes that the copies of a group were written since they were promoted."""
        known = self.copying[group]
        return rate(group, known.profile, known.promoted_at) * max(now - known.promoted_at, 0.0) * known.pace

    def pin(self, group: str, point: str, label: str) -> bool:
        """Name a point so that it stays, or (empty label) let it go. False where it is not held."""
        known = self.copying.get(group)
        for index, held in enumerate(known.points if known else ()):
            if held.id == point and known is not None:
                known.points[index] = replace(held, label=label)
                return True
        return False

    # --- what it says ---

    def states(self) -> tuple[CopyState, ...]:
        """How every group stands."""
        return tuple(self._state(known) for known in self.copying.values())

    def link_states(self) -> tuple[LinkState, ...]:
        """How every link that copies come over stands."""
        sources = dict.fromkeys([*self.links, *(known.group.source for known in self.copying.values())])
        return tuple(
            LinkState(
                source=source, room_bps=self._room(source, self.now), cut_because=self._stalled(source),
                used_bps=sum(k.rate_bps for k in self.copying.values() if k.group.source == source),
            )
            for source in sources
        )  # fmt: skip

    def _state(self, known: Copying) -> CopyState:
        group, weight = known.group, known.group.policy.weight
        beside = sum(
            k.group.policy.weight
            for k in self.copying.values()
            if k.group.source == group.source and k.rate_bps > 0 and k is not known
        )
        return CopyState(
            group=group.code, source=group.source, digest=known.digest or group.digest(),
            newest=known.points[-1] if known.points else None,
            seeded_bytes=int(known.seeded), seed_bytes=int(known.seed_bytes),
            paused_because=known.paused_because, stalled_because=self._stalled(group.source),
            backlog_bytes=int(known.written - known.sent), change_bps=self._change(known, self.now),
            rate_bps=known.rate_bps, pace=1.0 if known.whole() else known.pace,
            room_bps=self._room(group.source, self.now) * weight / (weight + beside),
            cycles=len(known.cycles), failed=self._failed(known),
            promoted=bool(known.promoted_at), kept_points=len(known.points),
            kept_bytes=sum(point.changed_bytes for point in known.points),
            encrypted_with=known.key if group.policy.encrypted else "",
        )  # fmt: skip

    def lags(self) -> dict[str, tuple[float, ...]]:
        """The worst lag of every group in each ``LAG_EVERY_S`` of the last day, oldest first."""
        return {code: tuple(known.lags) for code, known in self.copying.items()}

    def _failed(self, known: Copying) -> dict[str, int]:
        found: dict[str, int] = {}
        for _, why in known.cycles:
            if why:
                found[why] = found.get(why, 0) + 1
        return found

    def series(self, group: str, now: float) -> tuple[ChangeRate, ...]:
        """Change rates of a group over two weeks, every ten minutes, oldest first."""
        known = self.copying[group]
        last = int(now) // SERIES_EVERY_S * SERIES_EVERY_S
        return tuple(
            ChangeRate(at=datetime.fromtimestamp(at, UTC), rate_bps=round(rate(group, known.profile, at)))
            for at in range(last - HISTORY_S, last + 1, SERIES_EVERY_S)
        )

    # --- time ---

    def advance(self, now: float) -> None:
        """Let time pass until ``now``, in whole steps of the grid."""
        if self.frozen:
            return
        coarse = False
        for begin, end in self._steps(self.now, now):
            self._step(begin, end)
            self.now = end
            coarse = end - begin > STEP_S
            if not coarse and end // 60 > begin // 60:
                self._thin()
        if coarse:
            self._thin()

    def _steps(self, begin: float, end: float) -> Iterator[tuple[float, float]]:
        """Steps from ``begin`` to the grid moment at or before ``end``: coarse for what is long ago."""
        recent = max((k.group.policy.keep_all_s for k in self.copying.values()), default=HOUR_S) + HOUR_S
        at = begin
        while True:
            left = end - at
            size = STEP_S if left <= 600 else 60 if left <= recent else 300 if left <= 86400 else HOUR_S
            following = (at // size + 1) * size
            if following > end:
                return
            yield at, following
            at = following

    def _step(self, begin: float, end: float) -> None:
        span, middle = end - begin, (begin + end) / 2
        by_source: dict[str, list[Copying]] = {}
        for known in self.copying.values():
            before = known.written
            if known.whole() and not known.promoted_at:
                known.written += self._change(known, middle) * span
            self._mark(known, begin, end, before)
            by_source.setdefault(known.group.source, []).append(known)
        for source, group in by_source.items():
            demand = np.array([self._demand(known, end) for known in group])
            weight = np.array([float(known.group.policy.weight) for known in group])
            granted, _ = share(demand, weight, self._room(source, middle) * span)
            for known, amount in zip(group, granted.tolist(), strict=True):
                self._receive(known, amount, span)
        for known in self.copying.values():
            self._settle(known, begin, end)

    def _change(self, known: Copying, at: float) -> float:
        factor = COMPRESSED_TO if known.group.policy.compression else 1.0
        return rate(known.group.code, known.profile, at) * factor

    def _demand(self, known: Copying, now: float) -> float:
        if known.paused_because or known.promoted_at or self._stalled(known.group.source):
            return 0.0
        if not known.whole():
            begins = known.group.policy.initial_at
            waits = known.group.policy.initial == "at" and begins is not None and begins.timestamp() > now
            return 0.0 if waits else (known.seed_bytes - known.seeded) / known.pace
        until = known.written if known.group.policy.mode == "continuous" else known.last_mark
        return max(until - known.sent, 0.0)

    def _receive(self, known: Copying, amount: float, span: float) -> None:
        known.rate_bps = amount / span
        if known.whole():
            known.sent += amount
            return
        known.seeded = min(known.seeded + amount * known.pace, known.seed_bytes)
        if known.whole():
            known.written = known.sent = known.last_mark = 0.0

    def _mark(self, known: Copying, begin: float, end: float, before: float) -> None:
        """Cycles that began in (begin, end]: each fails, or marks how much had been written by then."""
        step = known.group.policy.interval_s
        first, last = int(begin // step + 1) * step, int(end // step) * step
        if first > last or known.paused_because or known.promoted_at or not known.whole():
            return
        # Of a coarse step only the first cycle can outlive retention, and the last says how far it came.
        times = range(first, last + 1, step) if end - begin <= 60 else dict.fromkeys((first, last))
        for at in times:
            why = self._why_failed(known, at)
            known.cycles.append((at, why))
            if not why and (known.group.policy.mode == "continuous" or len(known.marks) < 2):
                share_of = (at - begin) / (end - begin)
                level = before + (known.written - before) * share_of
                known.marks.append((at, level, known.last_mark))
                known.last_mark = level

    def _why_failed(self, known: Copying, at: int) -> str:
        stalled = self._stalled(known.group.source)
        if stalled:
            return stalled
        code = known.group.code
        for trouble in self.troubles:
            if trouble.effect == "failing" and trouble.subject == code:
                return trouble.reason or REASONS[0]
        if chance(code, "cycle", at) < known.profile.failed_share:
            return REASONS[int(chance(code, "reason", at) * 100) % 2]
        return ""

    def _settle(self, known: Copying, begin: float, end: float) -> None:
        while known.marks and known.marks[0][1] <= known.sent + 1e-6 * max(known.sent, 1.0):
            at, level, before = known.marks.popleft()
            known.points.append(self._point(known, at, level - before))
        while known.cycles and known.cycles[0][0] <= end - HOUR_S:
            known.cycles.popleft()
        if known.points and end - begin <= LAG_EVERY_S:
            # A coarse step ends when a cycle has just come in; just before, an interval had passed.
            since = known.group.policy.interval_s if end - begin > STEP_S else 0
            known.worst_lag = max(known.worst_lag, end - known.points[-1].at.timestamp(), since)
        if end // LAG_EVERY_S > begin // LAG_EVERY_S and known.worst_lag:
            known.lags.append(round(known.worst_lag, 1))
            known.worst_lag = 0.0

    def _thin(self) -> None:
        for known in self.copying.values():
            at = np.array([int(point.at.timestamp()) for point in known.points], dtype=np.int64)
            pinned = np.array([bool(point.label) for point in known.points], dtype=np.bool_)
            rules = ladders([known.group.policy])
            stays = retained(np.zeros(len(at), dtype=np.int64), at, int(self.now), rules, pinned)
            if not stays.all():
                pairs = zip(known.points, stays.tolist(), strict=True)
                known.points = [point for point, keep in pairs if keep]

    def _point(self, known: Copying, at: float, changed: float, identity: str = "") -> RecoveryPoint:
        policy, code = known.group.policy, known.group.code
        every = policy.app_consistent_every_s
        consistent = every > 0 and not identity and at % every < policy.interval_s
        return RecoveryPoint(
            id=identity or f"{code}@{int(at)}",
            group=code,
            at=datetime.fromtimestamp(at, UTC),
            kind="application-consistent" if consistent else "crash-consistent",
            changed_bytes=int(max(changed, 0)),
        )

    def _room(self, source: str, at: float) -> float:
        link = self.links.get(source)
        if link is None:
            return 0.0
        slow = [t.factor for t in self.troubles if t.effect == "slow" and t.subject == source]
        return room_bps(link, at) / max(slow, default=1.0)

    def _stalled(self, source: str) -> str:
        if source in self.away:
            return f"{source} {self.away[source]}"
        if source not in self.links:
            return f"there is no link from {source} to {self.site}"
        for trouble in self.troubles:
            if trouble.effect == "cut" and trouble.subject == source:
                return f"the link from {source} to {self.site} is cut"
        return ""

    # --- keeping ---

    def keep(self) -> dict[str, Any]:
        """All of it as data, for :meth:`restore`."""
        return {
            "now": self.now, "away": self.away, "troubles": to_data(self.troubles),
            "links": to_data(list(self.links.values())),
            "copying": [
                {
                    "replica": to_data(Replica(group=k.group, profile=k.profile)), "seed_bytes": k.seed_bytes,
                    "key": k.key, "digest": k.digest, "pace": k.pace, "seeded": k.seeded,
                    "written": k.written, "sent": k.sent,
                    "paused_because": k.paused_because, "marks": list(k.marks), "last_mark": k.last_mark,
                    "points": [[p.id, p.at.timestamp(), p.kind, p.changed_bytes, p.label] for p in k.points],
                    "cycles": list(k.cycles), "lags": list(k.lags),
                    "worst_lag": k.worst_lag, "promoted_at": k.promoted_at,
                    "promoted_point": k.promoted_point, "promoted_apart": k.promoted_apart,
                    "held": k.held,
                }
                for k in self.copying.values()
            ],
        }  # fmt: skip

    def restore(self, data: dict[str, Any]) -> None:
        """Be what :meth:`keep` described."""
        self.now, self.away = data["now"], dict(data["away"])
        self.troubles = [from_data(Trouble, item) for item in data["troubles"]]
        links = [from_data(Link, item) for item in data["links"]]
        self.links = _inbound(self.site, links)
        self.copying = {}
        for item in data["copying"]:
            replica = from_data(Replica, item["replica"])
            made = Copying(
                group=replica.group, profile=replica.profile, seed_bytes=item["seed_bytes"],
                key=item.get("key", ""), digest=item.get("digest", ""), pace=item["pace"],
                seeded=item["seeded"], written=item["written"], sent=item["sent"],
                paused_because=item["paused_because"],
                worst_lag=item["worst_lag"], last_mark=item["last_mark"],
                # A snapshot of before there were live runs has none of these.
                promoted_at=item.get("promoted_at", 0.0), promoted_point=item.get("promoted_point", ""),
                promoted_apart=item.get("promoted_apart", {}), held=item.get("held", {}),
            )  # fmt: skip
            made.points += [
                RecoveryPoint(
                    id=identity, group=replica.group.code, at=datetime.fromtimestamp(at, UTC), kind=kind,
                    changed_bytes=changed, label=label,
                )
                for identity, at, kind, changed, label in item["points"]
            ]  # fmt: skip
            made.marks.extend((int(at), level, before) for at, level, before in item["marks"])
            made.cycles.extend((int(at), why) for at, why in item["cycles"])
            made.lags.extend(item["lags"])
            self.copying[replica.group.code] = made


def _inbound(site: str, links: Iterable[Link]) -> dict[str, Link]:
    """Links that end at ``site``, by the site at their other end."""
    touching = [link for link in links if site in (link.one, link.other)]
    return {link.one if link.other == site else link.other: link for link in touching}
