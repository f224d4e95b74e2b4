"""The run book: a plan as people would carry it out by hand on the day when everything else is down."""

from __future__ import annotations

from dataclasses import dataclass

from maestoso.core.model.cue import Cue
from maestoso.core.model.landing import Landing
from maestoso.core.model.plan import Member, Wave
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.readiness.context import Context

READY = {
    "heartbeat": "its guest has a heartbeat",
    "checks": "all its services answer",
    "powered-on": "it is powered on",
    "at-once": "its wave opens",
}
OPENS = {"ready": "is ready", "powered-on": "is powered on"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Adapter:
    """One adapter live: addresses of before and after, on which network."""

    name: str
    before: str
    network: str
    after: str
    gateway: str
    dns: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """A workload to bring up (``cue`` is None), or a cue in its place."""

    number: int
    workload: str = ""
    cue: Cue | None = None
    waits: str = ""
    ready: str = ""
    size: str = ""
    place: str = ""
    disks: str = ""
    group: str = ""
    adapters: tuple[Adapter, ...] = ()
    checks: tuple[str, ...] = ()
    left_off: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class BookWave:
    """A wave and what happens in it, in order."""

    number: int
    name: str
    opens: str
    lines: tuple[Line, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Book:
    """``down`` is the order of closing down at the source; ``owners`` who to call for what."""

    before: tuple[Line, ...]
    waves: tuple[BookWave, ...]
    after: tuple[Line, ...]
    down: tuple[tuple[str, str], ...]
    owners: tuple[tuple[str, tuple[str, ...]], ...]
    scripts: tuple[ScriptText, ...]


def run_book(ctx: Context) -> Book:
    """The book of a plan in its world, with the landings of a live run."""
    return _Binding(ctx).book()


class _Binding:
    def __init__(self, ctx: Context) -> None:
        self.ctx = ctx
        live = ctx.landed["live"].landings if ctx.landed else ()
        self.landings = {landing.workload: landing for landing in live}
        self.known = {workload.name: workload for _, _, workload in ctx.known_members}
        self.number = 0

    def book(self) -> Book:
        plan = self.ctx.plan
        before = self._cues(plan.cues, "before")
        waves = tuple(self._wave(index, wave) for index, wave in enumerate(plan.waves))
        after = self._cues(plan.cues, "after")
        members = [member for _, member in plan.members()]
        owners: dict[str, list[str]] = {}
        for member in members:
            known = self.known.get(member.workload)
            if known is not None and known.owner:
                owners.setdefault(known.owner, []).append(member.workload)
        called = {cue.script.script for _, _, cue in plan.placed_cues() if cue.script is not None}
        return Book(
            before=before,
            waves=waves,
            after=after,
            down=tuple((member.workload, _down(member)) for member in reversed(members)),
            owners=tuple((owner, tuple(names)) for owner, names in sorted(owners.items())),
            scripts=tuple(self.ctx.scripts[name] for name in sorted(called) if name in self.ctx.scripts),
        )

    def _next(self) -> int:
        self.number += 1
        return self.number

    def _cues(self, cues: tuple[Cue, ...], at: str) -> tuple[Line, ...]:
        return tuple(Line(number=self._next(), cue=cue) for cue in cues if cue.at == at)

    def _wave(self, index: int, wave: Wave) -> BookWave:
        lines = list(self._cues(wave.cues, "before"))
        for member in wave.members:
            lines += [*self._cues(member.cues, "before"), self._line(member)]
            lines += self._cues(member.cues, "after")
        lines += self._cues(wave.cues, "after")
        at_once = index == 0 or wave.opens == "at-once"
        opens = "at once" if at_once else f"when wave {index} {OPENS[wave.opens]}"
        return BookWave(number=index + 1, name=wave.name, opens=opens, lines=tuple(lines))

    def _line(self, member: Member) -> Line:
        name = member.workload
        landing, known, group = self.landings.get(name), self.known.get(name), self.ctx.group_of(name)
        waits = [f"after {' and '.join(member.depends_on)}"] if member.depends_on else []
        waits += [f"{member.delay_s} s later"] if member.delay_s else []
        return Line(
            number=self._next(),
            workload=name,
            waits=", ".join(waits),
            ready=READY[member.ready],
            size=f"{landing.cores} cores, {landing.memory_mib / 1024:g} GiB" if landing else "",
            place=landing.host_pool + (f" in {landing.folder}" if landing.folder else "") if landing else "",
            disks=_disks(landing) if landing else "",
            group=group.name if group else "in no group",
            adapters=_adapters(landing) if landing else (),
            checks=tuple(f"{s.name}: {s.protocol} {s.port}" for s in known.offers) if known else (),
            left_off=not member.power_on,
        )


def _disks(landing: Landing) -> str:
    return ", ".join(f"{disk.disk} {disk.size_gib} GiB on {disk.storage_pool}" for disk in landing.disks)


def _adapters(landing: Landing) -> tuple[Adapter, ...]:
    return tuple(
        Adapter(
            name=nic.nic,
            before=", ".join(map(str, nic.before)) or "none",
            network=nic.network if nic.connected else "not connected",
            after=", ".join(map(str, nic.addresses)) or ("by DHCP" if nic.dhcp else "none"),
            gateway=", ".join(nic.gateways),
            dns=", ".join(nic.dns),
        )
        for nic in landing.nics
    )


def _down(member: Member) -> str:
    cut = "then cut its power" if member.force_off else "never cut its power"
    return f"by its guest within {member.shutdown_limit_s} s, {cut}"
