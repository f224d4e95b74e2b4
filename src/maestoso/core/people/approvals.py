"""Second signatures: how many a start or another deed needs, who may give one, and how a request stands."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

MOST_APPROVALS = 3
MOST_HOURS = 168
SHORTEST_EMERGENCY = 20
DEEDS = {
    "commit": "commit a failover",
    "publish": "save a version of a plan",
    "end-protection": "end the protection of a group",
    "retire": "retire or remove something",
    "people": "change people, roles, or what needs an approval",
}
"""What may want second signatures beside the starts of runs."""
OF_A_PLAN = frozenset({"commit", "publish"})
"""Deeds that a rule of one plan can be about."""
State = Literal["open", "granted", "refused", "withdrawn", "used", "ended"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ApprovalRule:
    """Runs of this kind, or deeds, want so many approvals, which hold for so many hours. No plan: of every
    plan."""

    plan: str
    kind: str
    approvals: int
    hours: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Signer:
    """Somebody who asks or answers; two accounts with one mail are one person."""

    name: str
    mail: str

    def is_same(self, other: Signer) -> bool:
        """Whether both are one person."""
        mail = self.mail.strip().lower()
        return self.name == other.name or (bool(mail) and mail == other.mail.strip().lower())


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """What somebody said to a request."""

    by: Signer
    granted: bool


def rule_for(rules: Iterable[ApprovalRule], plan: str, kind: str) -> ApprovalRule | None:
    """The rule of a start: that of the plan itself before that of every plan; None wants no signature."""
    found = {rule.plan: rule for rule in rules if rule.kind == kind and rule.plan in (plan, "")}
    rule = found.get(plan) or found.get("")
    return rule if rule is not None and rule.approvals > 0 else None


def state_of(
    needed: int, answers: Sequence[Answer], asked_at: datetime, hours: int, closed: str, now: datetime
) -> State:
    """How a request stands. ``closed`` is used or withdrawn once it is that; one refusal refuses."""
    if closed:
        return "used" if closed == "used" else "withdrawn"
    if any(not one.granted for one in answers):
        return "refused"
    if now >= asked_at + timedelta(hours=hours):
        return "ended"
    return "granted" if len(answers) >= needed else "open"


def why_not_answer(asker: Signer, answers: Sequence[Answer], by: Signer) -> str:
    """Why somebody may not answer a request; empty where they may."""
    if by.name == asker.name:
        return "You asked for it yourself; somebody else must answer."
    if by.is_same(asker):
        return (
            f"You and {asker.name} have the same mail address: a second signature is that of somebody else."
        )
    for one in answers:
        if by.name == one.by.name:
            return "You have answered it already."
        if by.is_same(one.by):
            return f"{one.by.name} has answered it already, and has the same mail address as you."
    return ""
