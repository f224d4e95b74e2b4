"""Second signatures over HTTP: what needs them, asking, answering."""

from __future__ import annotations

import json
from typing import cast

from django.contrib.auth.models import User
from drf_spectacular.utils import extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import Refused
from maestoso.core.people.roles import APPROVE, to_start
from maestoso.core.planning.diff import changes
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import able, require
from maestoso.server.access.models import ApiToken
from maestoso.server.approvals import services
from maestoso.server.approvals.deeds import details, read_deed
from maestoso.server.approvals.models import ApprovalRequest
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import read, reply, shape
from maestoso.server.plans.services import find_plan
from maestoso.server.plans.shapes import PlanSave
from maestoso.server.readiness import shapes
from maestoso.server.readiness.choices import read_choices
from maestoso.server.readiness.surroundings import context

CLOCK = SystemClock()


class RulesView(APIView):
    """What needs second signatures."""

    @extend_schema(operation_id="approvalRules", responses=shape(shapes.ApprovalRules))
    def get(self, request: Request) -> Response:
        """The rules, of every plan and of those within reach."""
        seen = seen_by(request)
        rules = tuple(rule for rule in services.rules() if not rule.plan or seen.has("plan", rule.plan))
        return reply(shapes.ApprovalRules(rules=rules))

    @extend_schema(
        operation_id="saveApprovalRules", request=shape(shapes.ApprovalRules, sent=True),
        responses=shape(shapes.ApprovalRules),
    )  # fmt: skip
    def put(self, request: Request) -> Response:
        """Say what needs second signatures."""
        sent = read(shapes.ApprovalRules, request)
        return reply(shapes.ApprovalRules(rules=services.save_rules(sent.rules, request.user.get_username())))


class ApprovalsView(APIView):
    """Requests for second signatures."""

    @extend_schema(operation_id="approvals", responses=shape(shapes.ApprovalView)(many=True))
    def get(self, request: Request) -> Response:
        """The newest requests, what is open first."""
        return reply([_view(row, request) for row in services.recent(seen_by(request))])

    @extend_schema(
        operation_id="askApproval", request=shape(shapes.ApprovalAsked, sent=True),
        responses={201: shape(shapes.ApprovalView)},
    )  # fmt: skip
    def post(self, request: Request) -> Response:
        """Ask for the signatures that a start needs."""
        sent, now = read(shapes.ApprovalAsked, request), CLOCK.now()
        kind = sent.options.kind
        require(request, to_start(kind), "plan", sent.plan)
        row = find_plan(sent.plan)
        rule = services.wanted_for(row.code, kind)
        if rule is None:
            raise Refused(f"A {kind} run of {row.code} needs no approval.", "Start it.")
        version = row.version()
        plan = version.core()
        if kind != "re-protect":
            # What could not be started is not asked for.
            read_choices(context(plan, version.number, now), sent.options, now)
        made = services.ask(
            rule, plan=row.code, plan_name=plan.name, version=version.number, options=to_data(sent.options),
            reason=sent.reason.strip(), by=cast(User, request.user), at=now,
        )  # fmt: skip
        return reply(_view(made, request), 201)


class DeedsView(APIView):
    """Requests for second signatures beside those of starts."""

    @extend_schema(
        operation_id="askApprovalOfDeed", request=shape(shapes.DeedAsked, sent=True),
        responses={201: shape(shapes.ApprovalView)},
    )  # fmt: skip
    def post(self, request: Request) -> Response:
        """Ask for the signatures that something needs which was refused without them."""
        sent = read(shapes.DeedAsked, request)
        rule, deed, words, plan = read_deed(request, sent.method, sent.path, sent.body, sent.based_on)
        if rule is None:
            raise Refused(f"To {words or 'do that'} needs no approval.", "Do it.")
        made = services.ask_for_deed(
            rule,
            deed,
            words,
            details=_details(deed, plan),
            plan=plan,
            reason=sent.reason.strip(),
            by=cast(User, request.user),
            at=CLOCK.now(),
        )
        return reply(_view(made, request), 201)


class ApprovalView(APIView):
    """One request."""

    @extend_schema(operation_id="approval", responses=shape(shapes.ApprovalView))
    def get(self, request: Request, pk: int) -> Response:
        """How it stands."""
        return reply(_view(services.find(pk), request))

    @extend_schema(operation_id="withdrawApproval", request=None, responses={200: shape(shapes.ApprovalView)})
    def delete(self, request: Request, pk: int) -> Response:
        """Withdraw one's own request."""
        row = services.withdraw(pk, by=request.user.get_username())
        return reply(_view(row, request))


class AnswerView(APIView):
    """Answering a request."""

    @extend_schema(
        operation_id="answerApproval", request=shape(shapes.ApprovalSaid, sent=True),
        responses=shape(shapes.ApprovalView),
    )  # fmt: skip
    def post(self, request: Request, pk: int) -> Response:
        """Grant it, or refuse it with a reason."""
        if isinstance(request.auth, ApiToken):
            raise Refused("A program cannot give a signature.", "Sign in yourself.", code="cannot-approve")
        sent = read(shapes.ApprovalSaid, request)
        row = services.answer(
            pk, granted=sent.granted, text=sent.text, by=cast(User, request.user), at=CLOCK.now()
        )
        return reply(_view(row, request))


def _view(row: ApprovalRequest, request: Request) -> shapes.ApprovalView:
    now = CLOCK.now()
    state = services.state(row, now)
    return shapes.ApprovalView(
        id=row.pk, plan=row.plan, plan_name=row.plan_name, plan_version=row.plan_version, kind=row.kind,
        options=None if row.deed else from_data(shapes.RunOptions, row.options),
        deed=_deed(row) if row.deed else None,
        reason=row.reason, asked_by=row.asked_by,
        asked_at=row.asked_at, ends_at=services.ends_at(row), needed=row.needed,
        state=state,
        answers=tuple(
            shapes.AnswerView(by=one.by, at=one.at, granted=one.granted, text=one.text)
            for one in row.answers.all()
        ),
        approvers=tuple(able(APPROVE, but=row.asked_by)) if state == "open" else (),
        why_not=services.why_not(row, cast(User, request.user), now), run=row.run,
    )  # fmt: skip


def _deed(row: ApprovalRequest) -> shapes.DeedView:
    deed = from_data(services.Deed, row.deed)
    return shapes.DeedView(
        method=deed.method, path=deed.path, body=deed.body, based_on=deed.based_on, details=tuple(row.details)
    )


def _details(deed: services.Deed, plan: str) -> tuple[str, ...]:
    """Of a version of a plan what it changes is said, of everything else what is sent. Raises BadValue."""
    if deed.method != "PUT" or not deed.path.startswith("plans/"):
        return details(deed)
    sent = from_data(PlanSave, json.loads(deed.body or "null"), at="body")
    return changes(find_plan(plan).version().core(), sent.plan)
