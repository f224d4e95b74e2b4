"""Asking for second signatures, answering, and using what was granted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.models import User

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.people.approvals import (
    DEEDS,
    MOST_APPROVALS,
    MOST_HOURS,
    OF_A_PLAN,
    SHORTEST_EMERGENCY,
    Answer,
    ApprovalRule,
    Signer,
    State,
    rule_for,
    state_of,
    why_not_answer,
)
from maestoso.core.people.roles import APPROVE, one_of
from maestoso.core.people.scope import Reach
from maestoso.core.planning.inputs import KINDS
from maestoso.server.access.may import able
from maestoso.server.approvals.models import ApprovalAnswer, ApprovalRequest, Rule
from maestoso.server.audit.record import recorded

LONGEST_TEXT = 500
MOST_RULES = 500


class NeedsApproval(Refused):
    """A start wants second signatures that it does not have. Remedy: ask for them."""

    code = "needs-approval"


class DeedNeedsApproval(Refused):
    """Something wants second signatures that it does not have. Remedy: ask for them with what is sent."""

    code = "deed-needs-approval"


@dataclass(frozen=True, slots=True, kw_only=True)
class Deed:
    """A request to the API that is asked for: ``path`` is behind ``/api/v1/``, ``body`` is JSON as text with
    its keys in order, ``based_on`` the header If-Match where there is one."""

    method: str
    path: str
    body: str
    based_on: str = ""


@dataclass(frozen=True, slots=True)
class Granted:
    """What a run starts with: the request, and who granted it when."""

    row: ApprovalRequest
    answers: tuple[ApprovalAnswer, ...]


def rules() -> tuple[ApprovalRule, ...]:
    """All rules."""
    return tuple(
        ApprovalRule(plan=row.plan, kind=row.kind, approvals=row.approvals, hours=row.hours)
        for row in Rule.objects.all()
    )


@recorded()
def save_rules(wanted: Sequence[ApprovalRule], by: str) -> tuple[ApprovalRule, ...]:
    """These rules and no others. Raises BadValue; Refused where nobody could change them any more."""
    if len(wanted) > MOST_RULES:
        raise BadValue(f"There are {len(wanted)} rules.", f"Give at most {MOST_RULES}.", field="rules")
    seen = set()
    for at, rule in enumerate(wanted):
        field = f"rules.{at}"
        if rule.kind not in (*KINDS, *DEEDS):
            kinds = ", ".join((*KINDS, *DEEDS))
            raise BadValue(f"kind is {rule.kind[:20]!r}.", f"Give one of {kinds}.", field=f"{field}.kind")
        if rule.plan and rule.kind in DEEDS and rule.kind not in OF_A_PLAN:
            raise BadValue(
                f"To {DEEDS[rule.kind]} is no matter of one plan.", "Name no plan.", field=f"{field}.plan"
            )
        if not 0 <= rule.approvals <= MOST_APPROVALS:
            raise BadValue(
                f"approvals is {rule.approvals}.", f"Give 0 to {MOST_APPROVALS}.", field=f"{field}.approvals"
            )
        if not 1 <= rule.hours <= MOST_HOURS:
            raise BadValue(f"hours is {rule.hours}.", f"Give 1 to {MOST_HOURS}.", field=f"{field}.hours")
        if len(rule.plan) > 12 or (rule.plan, rule.kind) in seen:
            raise BadValue(
                f"{rule.plan[:12] or 'Every plan'} has two rules for {rule.kind}.", "Keep one.", field=field
            )
        seen.add((rule.plan, rule.kind))
    signers = able(APPROVE, but=by)
    most = max((rule.approvals for rule in wanted if rule.kind == "people"), default=0)
    if most > len(signers):
        raise Refused(
            f"{len(signers)} {'person' if len(signers) == 1 else 'people'} beside you could approve that, "
            f"and {most} would have to.",
            "Give somebody the role approver first: this rule could not be changed any more.", field="rules",
        )  # fmt: skip
    for row in Rule.objects.select_for_update():
        if (row.plan, row.kind) not in seen:
            row.delete()
    for rule in wanted:
        Rule.objects.update_or_create(
            plan=rule.plan, kind=rule.kind, defaults={"approvals": rule.approvals, "hours": rule.hours}
        )
    return rules()


def wanted_for(plan: str, kind: str) -> ApprovalRule | None:
    """The rule that a start must keep; None where it needs nobody's signature."""
    return rule_for(rules(), plan, kind)


@recorded()
def ask(
    rule: ApprovalRule, *, plan: str, plan_name: str, version: int, options: dict[str, Any], reason: str,
    by: User, at: datetime,
) -> ApprovalRequest:  # fmt: skip
    """Ask for the signatures that a start needs; an older request of one's own for the plan is withdrawn."""
    _check_reason(reason)
    own = ApprovalRequest.objects.filter(plan=plan, asked_by=by.username, closed="", deed__isnull=True)
    for older in own:
        older.closed = "withdrawn"
        older.save()
    return ApprovalRequest.objects.create(
        plan=plan, plan_name=plan_name, plan_version=version, kind=rule.kind, options=options, reason=reason,
        asked_by=by.username, asker_mail=by.email, asked_at=at, needed=rule.approvals, hours=rule.hours,
    )  # fmt: skip


@recorded()
def ask_for_deed(
    rule: ApprovalRule, deed: Deed, words: str, *, details: Sequence[str], plan: str, reason: str, by: User,
    at: datetime,
) -> ApprovalRequest:  # fmt: skip
    """Ask for the signatures that a deed needs; an older request of one's own for the same is withdrawn.

    ``details`` say what it changes as the records are now: later they may be others.
    """
    _check_reason(reason)
    for older in ApprovalRequest.objects.filter(asked_by=by.username, closed="", kind=rule.kind):
        if older.deed and (older.deed["method"], older.deed["path"]) == (deed.method, deed.path):
            older.closed = "withdrawn"
            older.save()
    return ApprovalRequest.objects.create(
        plan=plan, plan_name=words[:200], plan_version=0, kind=rule.kind, options={}, deed=to_data(deed),
        details=list(details),
        reason=reason, asked_by=by.username, asker_mail=by.email, asked_at=at, needed=rule.approvals,
        hours=rule.hours,
    )  # fmt: skip


def _check_reason(reason: str) -> None:
    if len(reason) > LONGEST_TEXT:
        raise BadValue(
            "The reason is too long.", f"Give up to {LONGEST_TEXT} characters.", field="body.reason"
        )


def use_for_deed(pk: int, deed: Deed, by: str, now: datetime) -> None:
    """Use what was granted for a deed that begins; :func:`give_back` where it is not done. Raises
    NotFound, DeedNeedsApproval."""
    row = find(pk)
    if row.deed is None or row.asked_by != by or from_data(Deed, row.deed) != deed:
        raise DeedNeedsApproval(
            f"Request {pk} is about something else than this.",
            "What was approved is done from the page of the request; ask anew for anything else.",
        )
    how = state(row, now)
    if how != "granted" or not ApprovalRequest.objects.filter(pk=pk, closed="").update(closed="used"):
        raise DeedNeedsApproval(f"Request {pk} is {how}.", "See how it stands, or ask anew.")


def give_back(pk: int) -> None:
    """What was approved could not be done; the approval is good for another try."""
    ApprovalRequest.objects.filter(pk=pk, closed="used").update(closed="")


def refuse_deed(words: str, rule: ApprovalRule, by: str) -> DeedNeedsApproval:
    """What is said of a deed without the signatures that it needs."""
    many = "an approval" if rule.approvals == 1 else f"{rule.approvals} approvals"
    return DeedNeedsApproval(f"To {words} needs {many}.", f"Ask for it. {_whom_to_ask(by)}")


def find(pk: int) -> ApprovalRequest:
    """A request with its answers. Raises NotFound."""
    row = ApprovalRequest.objects.prefetch_related("answers").filter(pk=pk).first()
    if row is None:
        raise NotFound(f"There is no request {pk}.", "See the page Approvals.")
    return row


def recent(reach: Reach, most: int = 50) -> list[ApprovalRequest]:
    """The newest requests that are within reach, what is open first."""
    rows = ApprovalRequest.objects.prefetch_related("answers")
    if not reach.everything:
        rows = rows.filter(plan__in=reach.plans)
    return sorted(rows[:most], key=lambda row: bool(row.closed))


def state(row: ApprovalRequest, now: datetime) -> State:
    """How a request stands."""
    return state_of(row.needed, _answers(row), row.asked_at, row.hours, row.closed, now)


def ends_at(row: ApprovalRequest) -> datetime:
    """Until when it can be answered and used."""
    return row.asked_at + timedelta(hours=row.hours)


def _answers(row: ApprovalRequest) -> tuple[Answer, ...]:
    return tuple(
        Answer(by=Signer(name=one.by, mail=one.mail), granted=one.granted) for one in row.answers.all()
    )


def why_not(row: ApprovalRequest, user: User, now: datetime) -> str:
    """Why somebody cannot answer a request now; empty where they can."""
    how = state(row, now)
    if how != "open":
        return f"It is {how}; there is nothing to answer any more."
    asker = Signer(name=row.asked_by, mail=row.asker_mail)
    return why_not_answer(asker, _answers(row), Signer(name=user.username, mail=user.email))


@recorded()
def answer(pk: int, *, granted: bool, text: str, by: User, at: datetime) -> ApprovalRequest:
    """Grant it, or refuse it with a reason. Raises NotFound, Refused, BadValue."""
    ApprovalRequest.objects.select_for_update().filter(pk=pk).first()
    row = find(pk)
    hindered = why_not(row, by, at)
    if hindered:
        raise Refused(hindered, "See how the request stands.", code="cannot-approve")
    said = text.strip()
    if not granted and not said:
        raise BadValue("Refusing wants a reason.", "Say what is against it.", field="body.text")
    if len(said) > LONGEST_TEXT:
        raise BadValue("The text is too long.", f"Give up to {LONGEST_TEXT} characters.", field="body.text")
    ApprovalAnswer.objects.create(
        request=row, by=by.username, mail=by.email, at=at, granted=granted, text=said
    )
    return find(pk)


@recorded()
def withdraw(pk: int, *, by: str) -> ApprovalRequest:
    """Who asked does not need it any more. Raises NotFound, Refused."""
    ApprovalRequest.objects.select_for_update().filter(pk=pk).first()
    row = find(pk)
    if row.asked_by != by:
        raise Refused(f"{row.asked_by} asked for it, not you.", "Ask them to withdraw it, or refuse it.")
    if row.closed:
        raise Refused(f"It is {row.closed} already.", "Ask anew.")
    row.closed = "withdrawn"
    row.save()
    return find(pk)


def granted(pk: int, plan: str, version: int, now: datetime) -> Granted:
    """A request that may be used to start a plan. Raises NotFound, NeedsApproval."""
    row = find(pk)
    how = state(row, now)
    if row.deed is not None or row.plan != plan:
        raise NeedsApproval(
            f"Request {pk} is about {row.plan or 'something else'}, not {plan}.", "Use that of this plan."
        )
    if how == "open":
        missing = row.needed - row.answers.count()
        raise NeedsApproval(
            f"{missing} of {row.needed} approvals {'is' if missing == 1 else 'are'} still to come.",
            _whom_to_ask(row.asked_by),
        )
    if how != "granted":
        raise NeedsApproval(f"Request {pk} is {how}.", "Ask anew.")
    if row.plan_version != version:
        raise NeedsApproval(
            f"Version {row.plan_version} of {plan} was approved; it is at version {version} now.", "Ask anew."
        )
    return Granted(row, tuple(row.answers.all()))


def use(one: Granted, run: int) -> None:
    """A run was started with it; in the transaction of the start. Raises NeedsApproval where it was used."""
    done = ApprovalRequest.objects.filter(pk=one.row.pk, closed="").update(closed="used", run=run)
    if not done:
        raise NeedsApproval(f"Request {one.row.pk} was used already.", "Ask anew.")


def refuse_unsigned(plan: str, kind_name: str, rule: ApprovalRule, by: str) -> NeedsApproval:
    """What is said of a start without the signatures that it needs."""
    many = "an approval" if rule.approvals == 1 else f"{rule.approvals} approvals"
    return NeedsApproval(
        f"A {kind_name} of {plan} needs {many}.", f"Ask for it on the start page. {_whom_to_ask(by)}"
    )


def check_emergency(text: str) -> str:
    """The reason of a start without signatures. Raises BadValue."""
    said = text.strip()
    if not SHORTEST_EMERGENCY <= len(said) <= LONGEST_TEXT:
        raise BadValue(
            "An emergency start wants a reason of a sentence at least.",
            f"Say in {SHORTEST_EMERGENCY} to {LONGEST_TEXT} characters why nobody could be asked.",
            field="body.emergency",
        )
    return said


def _whom_to_ask(by: str) -> str:
    names = able(APPROVE, but=by)
    return f"{one_of(names)} may give it." if names else "Nobody else may give it: ask an administrator."
