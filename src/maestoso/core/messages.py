"""What is told to whom and when: topics, what is new, quiet hours, and when a message is tried again.

A *matter* is something that stands on the board or in a run. It is told of when it begins, and some are told
of again when they are over.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta, tzinfo
from ipaddress import ip_interface

from maestoso.core.errors import BadValue
from maestoso.core.people.roles import ANSWER, APPROVE, CHANGE_SETTINGS

NEEDS, RUNS, APPROVALS, SITES, COPIES, PLANS, DRILLS, ITSELF = (
    "needs", "runs", "approvals", "sites", "copies", "plans", "drills", "itself",
)  # fmt: skip
TOPICS: dict[str, str] = {
    NEEDS: "a run needs somebody: a failed step, a hold, a verdict, a decision",
    RUNS: "runs begin and end",
    APPROVALS: "something waits for a second signature",
    SITES: "a site or a link is lost, or back; a copy ran twice",
    COPIES: "groups fall behind or fail; workloads that nobody protects",
    PLANS: "a plan cannot run, its proof is old, or it is away from home",
    DRILLS: "drills come, are due, were missed, or failed",
    ITSELF: "Maestoso itself: engine, workers, backups, standby, room",
}
"""Code and words of what people choose among."""
_OF_CODES: dict[str, str] = {
    "run-needs": NEEDS, "run-put-aside": NEEDS,
    "run-started": RUNS, "run-ended": RUNS, "emergency-unreviewed": RUNS,
    "approval": APPROVALS,
    "site-lost": SITES, "link-cut": SITES, "ran-twice": SITES, "agent-forgot": SITES,
    "inventory-drift": SITES, "outage-declared": SITES,
    "group-trouble": COPIES, "needed-unprotected": COPIES, "unprotected": COPIES,
    "plan-blocked": PLANS, "proof-stale": PLANS, "proof-test-overdue": PLANS, "proof-never-tested": PLANS,
    "without-protection": PLANS, "away-from-home": PLANS, "without-purpose": PLANS,
    "drill-due": DRILLS, "drill-missed": DRILLS, "drill-ahead": DRILLS,
    "drill-failed": DRILLS,
    "reign-past": ITSELF, "lease-over": ITSELF, "witness-silent": ITSELF, "engine-silent": ITSELF,
    "workers-silent": ITSELF, "backup-late": ITSELF,
    "no-standby": ITSELF, "little-room": ITSELF, "try": ITSELF,
}  # fmt: skip
ENDS_TOLD = frozenset(
    {
        "site-lost", "link-cut", "engine-silent", "workers-silent", "no-standby", "lease-over",
        "witness-silent", "plan-blocked", "group-trouble", "outage-declared",
    }
)  # fmt: skip
"""Codes of what is told of again when it is over."""
SETTLES_AFTER = {
    "site-lost": timedelta(seconds=20),
    "link-cut": timedelta(seconds=20),
    "witness-silent": timedelta(seconds=20),
}
"""How long a matter must have been so before anybody is told: a line that stumbles wakes nobody."""
_USUAL = {
    ANSWER: (NEEDS, RUNS, SITES, DRILLS), APPROVE: (APPROVALS,), CHANGE_SETTINGS: (ITSELF, SITES),
}  # fmt: skip
TRIED_AGAIN_S = (10, 30, 120, 600, 1800, 3600)
"""Seconds until a message is tried again, by how often it was; then the last, until it is given up."""
JITTER = 0.2
GIVEN_UP_AFTER = timedelta(hours=24)
_LIKE_AN_ADDRESS = re.compile(r"(?<![\w.:])[0-9A-Fa-f.:]{3,45}(?:/\d{1,3})?(?!\w)")


def usual(permissions: Iterable[str]) -> tuple[str, ...]:
    """Topics of somebody who has chosen none: what they may do something about."""
    return tuple(sorted({topic for one in permissions for topic in _USUAL.get(one, ())}))


def topic_of(code: str) -> str:
    """The topic of a kind of matter."""
    return _OF_CODES[code]


@dataclass(frozen=True, slots=True, kw_only=True)
class Matter:
    """Something that people may be told of: ``code`` and ``about`` say which, whatever the words are now.

    ``who`` are the only ones that can do something about it, by name; empty where that is not so.
    ``to`` is the path of its page. ``told`` are people who are told whatever they chose: of a run, those that
    whoever started it named.
    """

    code: str
    about: str
    title: str
    sentence: str
    to: str
    urgent: bool = False
    who: tuple[str, ...] = ()
    told: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """The same as long as it is the same matter."""
        return f"{self.code}:{self.about}"[:200]


def news(known: Iterable[str], now: Iterable[Matter]) -> tuple[list[Matter], list[str]]:
    """Of what is so now, what was not known before; and the keys of what is known and is over."""
    by_key = {matter.key: matter for matter in now}
    before = set(known)
    begun = [matter for key, matter in by_key.items() if key not in before]
    return begun, sorted(before - by_key.keys())


def wants(matter: Matter, name: str, topics: Iterable[str]) -> bool:
    """Whether somebody who chose these topics is told of it."""
    return name in matter.told or name in matter.who or topic_of(matter.code) in topics


@dataclass(frozen=True, slots=True, kw_only=True)
class QuietHours:
    """From and to, on the clock of the organisation; over midnight where ``to`` is not later."""

    begins: time
    ends: time

    def until(self, now: datetime, zone: tzinfo) -> datetime | None:
        """When they end that are now; None outside of them."""
        local = now.astimezone(zone)
        for day in (local.date() - timedelta(days=1), local.date()):
            begin = datetime.combine(day, self.begins, zone)
            last = day if self.ends > self.begins else day + timedelta(days=1)
            end = datetime.combine(last, self.ends, zone)
            if begin <= local < end:
                return end
        return None


def read_time(text: str, field: str) -> time:
    """Of ``22:00``. Raises BadValue."""
    match = re.fullmatch(r"([01]\d|2[0-3]):([0-5]\d)", text)
    if match is None:
        raise BadValue(f"{field} is {text[:20]!r}.", "Write it such as 22:00.", field=field)
    return time(int(match[1]), int(match[2]))


def read_quiet_hours(begins: str, ends: str) -> QuietHours | None:
    """Of ``22:00`` and ``06:30``; None where both are empty. Raises BadValue."""
    if not begins and not ends:
        return None
    found = read_time(begins, "quiet_from"), read_time(ends, "quiet_to")
    if found[0] == found[1]:
        raise BadValue("The quiet hours begin when they end.", "Leave both empty for none.", field="quiet_to")
    return QuietHours(begins=found[0], ends=found[1])


def waits_until(
    matter: Matter, name: str, quiet: QuietHours | None, daily: time | None, now: datetime, zone: tzinfo
) -> datetime | None:
    """Until when a message is kept back; None for at once, as for what nobody else can answer.

    What is not urgent waits for the moment of the day that somebody chose for it.
    """
    if matter.who == (name,):
        return None
    if daily is not None and not matter.urgent:
        local = now.astimezone(zone)
        today = datetime.combine(local.date(), daily, zone)
        return today if today > local else datetime.combine(local.date() + timedelta(days=1), daily, zone)
    return quiet.until(now, zone) if quiet is not None else None


def again_in_s(tries: int, chance: float) -> float:
    """Seconds until the next try after so many; ``chance`` (0 to 1) spreads what failed together."""
    wait = TRIED_AGAIN_S[min(tries, len(TRIED_AGAIN_S)) - 1]
    return wait * (1 + JITTER * (2 * chance - 1))


@dataclass(frozen=True, slots=True, kw_only=True)
class EscalationStep:
    """Who is told (people, or ``role:`` and a role) when nobody has looked for so many minutes."""

    after_minutes: int
    who: tuple[str, ...]


MOST_STEPS, LONGEST_MINUTES = 5, 1440


def check_steps(steps: Sequence[EscalationStep]) -> None:
    """Raises BadValue for what cannot be gone through in order."""
    if len(steps) > MOST_STEPS:
        raise BadValue(f"There are {len(steps)} steps.", f"Give at most {MOST_STEPS}.", field="steps")
    before = 0
    for number, step in enumerate(steps, start=1):
        if not before < step.after_minutes <= LONGEST_MINUTES:
            raise BadValue(
                f"Step {number} comes after {step.after_minutes} min.",
                f"Each comes later than the one before: give {before + 1} to {LONGEST_MINUTES}.",
                field="steps",
            )  # fmt: skip
        if not step.who:
            raise BadValue(f"Step {number} tells nobody.", "Name people, or role:operator.", field="steps")
        before = step.after_minutes


def steps_due(steps: Sequence[EscalationStep], waited: timedelta) -> int:
    """How many of the steps should have been taken, of something that nobody has looked at for so long."""
    return sum(1 for step in steps if waited >= timedelta(minutes=step.after_minutes))


def without_addresses(text: str) -> str:
    """The text without addresses of the estate."""

    def one(match: re.Match[str]) -> str:
        bare = match[0].rstrip(".:")
        try:
            ip_interface(bare)
        except ValueError:
            return match[0]
        return f"(an address){match[0][len(bare) :]}"

    return _LIKE_AN_ADDRESS.sub(one, text)


def filled(template: str, words: Mapping[str, str]) -> str:
    """A template of JSON with ``{title}`` and the like filled in, escaped as JSON wants it.

    Raises BadValue for a name that there is not, and for what is no JSON then.
    """

    def one(match: re.Match[str]) -> str:
        if match[1] not in words:
            raise BadValue(
                f"The template names {{{match[1][:30]}}}.",
                f"There are {', '.join('{' + name + '}' for name in words)}.", field="template",
            )  # fmt: skip
        return json.dumps(words[match[1]])[1:-1]

    text = re.sub(r"\{([a-z_]+)\}", one, template)
    try:
        json.loads(text)
    except ValueError as error:
        raise BadValue(
            f"The template is no JSON: {error}.", 'Write such as {"text": "{title}: {sentence} {link}"}.',
            field="template",
        ) from error  # fmt: skip
    return text
