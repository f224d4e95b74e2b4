"""What the practice lab can break, by names that people know; each becomes a fault, a trouble or a switch."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal

from maestoso.practice.spec import Fault, Switch, Trouble

About = Literal["site", "workload", "group", "link", "pool", "script"]
Broken = Fault | Trouble | Switch


@dataclass(frozen=True, slots=True, kw_only=True)
class Preset:
    """One way to misbehave. ``about`` is what its subject is; exactly one of the last four is there. A
    ``verb`` of the protocol breaks it at once, also at a real site whose agent has that verb."""

    key: str
    title: str
    sentence: str
    about: About
    fault: Fault | None = None
    trouble: Trouble | None = None
    switch: Switch | None = None
    verb: str = ""

    def broken(self, subject: str, times: int | None, factor: float | None = None) -> Broken:
        """What a site is told. ``times`` None: until all is put right; ``factor``: how slow, how much."""
        if self.fault is not None:
            aimed = replace(self.fault, subject=subject or "*", times=times)
            return replace(aimed, factor=factor) if factor else aimed
        if self.trouble is not None:
            aimed_at = replace(self.trouble, subject=subject)
            return replace(aimed_at, factor=factor) if factor else aimed_at
        if self.switch is None:
            raise AssertionError(f"{self.key} breaks nothing")
        return replace(self.switch, subject=subject)


def _fail(verb: str, code: str, reason: str) -> Fault:
    return Fault(verb=verb, effect="fail", code=code, reason=reason)


PRESETS: tuple[Preset, ...] = (
    Preset(
        key="site-down",
        title="The whole site is down",
        sentence="No answer, and no power for its machines; when it is back, they start by themselves.",
        about="site",
        switch=Switch(effect="dark"),
    ),
    Preset(
        key="site-slow",
        title="The site is slow",
        sentence="Every operation takes four times as long.",
        about="site",
        fault=Fault(verb="*", effect="slow"),
    ),
    Preset(
        key="clock-skew",
        title="Its clock is wrong",
        sentence="Its clock is a minute ahead of everybody's.",
        about="site",
        switch=Switch(effect="skew", amount=60.0),
    ),
    Preset(
        key="old-agent",
        title="Its agent is of an older release",
        sentence="It speaks protocol 1.0 and does not say which services answer.",
        about="site",
        switch=Switch(effect="old-agent"),
    ),
    Preset(
        key="forgets",
        title="Its agent is restored from an older state",
        sentence="It knows no operation that it was ever asked for; its machines stay as they are.",
        about="site",
        switch=Switch(effect="forgets"),
    ),
    Preset(
        key="host-lost",
        title="A host dies, its machines restart elsewhere",
        sentence="A part of the machines of a pool lose their power and come up again on other hosts.",
        about="pool",
        switch=Switch(effect="host-lost", amount=1.0),
    ),
    Preset(
        key="host-lost-for-good",
        title="A host dies, its machines stay down",
        sentence="A part of the machines of a pool lose their power for good.",
        about="pool",
        switch=Switch(effect="host-lost", amount=0.0),
    ),
    Preset(
        key="link-cut",
        title="The link is cut",
        sentence="Nothing is copied from the other site.",
        about="link",
        trouble=Trouble(effect="cut", subject=""),
    ),
    Preset(
        key="link-slow",
        title="The link is slow, or loses much",
        sentence="It carries an eighth of what it did.",
        about="link",
        trouble=Trouble(effect="slow", subject=""),
    ),
    Preset(
        key="burst",
        title="A burst of changes",
        sentence="For a quarter of an hour a group is rewritten, as when somebody encrypts it.",
        about="group",
        trouble=Trouble(effect="burst", subject=""),
    ),
    Preset(
        key="cycles-fail",
        title="Copy cycles fail",
        sentence="No cycle of a group comes through.",
        about="group",
        trouble=Trouble(effect="failing", subject=""),
    ),
    Preset(
        key="machine-killed",
        title="A machine is killed",
        sentence="What runs it is killed in the middle of its work, as when its host dies. It stays down.",
        about="workload",
        verb="kill-machine",
    ),
    Preset(
        key="boot-hangs",
        title="A boot hangs",
        sentence="The machine has power, but its guest never gives a heartbeat.",
        about="workload",
        fault=Fault(verb="power-on", effect="boot-hangs"),
    ),
    Preset(
        key="no-heartbeat",
        title="The guest never answers",
        sentence="No heartbeat comes within the time that is allowed for it.",
        about="workload",
        fault=Fault(verb="await-heartbeat", effect="hang"),
    ),
    Preset(
        key="wrong-answer",
        title="A service answers wrongly",
        sentence="Its check fails.",
        about="workload",
        fault=_fail("probe-service", "wrong-answer", "It answered, but not as it should."),
    ),
    Preset(
        key="shutdown-ignored",
        title="A guest ignores its shutdown",
        sentence="It keeps running until its power is cut, where that is allowed.",
        about="workload",
        fault=Fault(verb="shut-down", effect="ignored"),
    ),
    Preset(
        key="addresses-refused",
        title="Addresses are refused",
        sentence="The guest does not take the addresses that it is given.",
        about="workload",
        fault=_fail("set-addresses", "refused-by-guest", "The guest did not take its new addresses."),
    ),
    Preset(
        key="storage-full",
        title="Storage is full",
        sentence="Copies cannot be cloned.",
        about="workload",
        fault=_fail("clone-point", "no-space", "The storage pool has no space left."),
    ),
    Preset(
        key="promote-refused",
        title="Promoting is refused",
        sentence="The copies of a group are not made writable.",
        about="group",
        fault=_fail("promote", "storage-busy", "The storage would not make the copies writable."),
    ),
    Preset(
        key="script-fails",
        title="A script fails",
        sentence="It ends with exit code 1.",
        about="script",
        fault=Fault(verb="run-script", effect="exits", reason="made to fail in the practice lab"),
    ),
    Preset(
        key="script-hangs",
        title="A script never ends",
        sentence="It runs until its time limit.",
        about="script",
        fault=Fault(verb="run-script", effect="hang"),
    ),
    Preset(
        key="door-refused",
        title="A front door does not open",
        sentence="The next address is not published.",
        about="site",
        fault=_fail("publish-address", "edge-refused", "The router at the edge did not take the address."),
    ),
    Preset(
        key="leak",
        title="The sandbox leaks",
        sentence="The next sandbox is made with a route to production.",
        about="site",
        fault=Fault(verb="make-sandbox", effect="leak"),
    ),
)
BY_KEY: Mapping[str, Preset] = {preset.key: preset for preset in PRESETS}
