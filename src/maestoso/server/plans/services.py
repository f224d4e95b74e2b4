"""What can be done with plans."""

from __future__ import annotations

import re
from datetime import datetime
from typing import Any
from urllib.parse import quote

from django.db.models import F, QuerySet

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.model.plan import Plan
from maestoso.core.planning.diff import changes
from maestoso.core.planning.merge import merge
from maestoso.core.planning.parts import expand_parts
from maestoso.core.planning.suggest import Suggestion, suggest, suggest_changes
from maestoso.core.planning.templates import BY_KEY, from_template
from maestoso.core.readiness import cue_rules, name_rules, part_rules, plan_rules
from maestoso.core.readiness.context import Context
from maestoso.server.access.roles import known_roles
from maestoso.server.audit.record import recorded
from maestoso.server.estate import retired, usage
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.models import PlanRow, PlanVersion
from maestoso.server.plans.shapes import SuggestAsked, VersionView

LONGEST_SUMMARY = 400


PLAN_CODE = re.compile(r"[A-Z][A-Z0-9-]{1,11}")


def find_plan(code: str) -> PlanRow:
    """The plan of that code. Raises NotFound."""
    row = PlanRow.objects.filter(code=code).first()
    if row is None:
        known = ", ".join(PlanRow.objects.values_list("code", flat=True))
        raise NotFound(
            f"There is no plan {code!r}.", f"Known plans: {known}." if known else "There are no plans yet."
        )
    return row


def newest_versions() -> QuerySet[PlanVersion]:
    """The newest version of every plan."""
    newest = PlanVersion.objects.filter(number=F("plan__current"))
    return newest.select_related("plan").order_by("plan_id")


@recorded()
def make_plan(plan: Plan, *, author: str, at: datetime, summary: str = "First version") -> PlanVersion:
    """Make a plan with its first version. Raises BadValue, NotFound or Refused for one that cannot be."""
    if not PLAN_CODE.fullmatch(plan.code):
        raise BadValue(
            f"{plan.code[:40]!r} is no code for a plan.",
            "Give 2 to 12 capital letters, digits and dashes, such as BOOK.",
            field="body.plan.code",
        )
    if plan.source == plan.target:
        raise BadValue(
            f"The plan goes from {plan.source} to itself.", "Choose another site.", field="body.plan.target"
        )
    for field in ("source", "target"):
        if not Site.objects.filter(code=getattr(plan, field)).exists():
            raise BadValue(
                f"There is no site {getattr(plan, field)[:40]!r}.",
                "Register it first.",
                field=f"body.plan.{field}",
            )
    _refuse_what_can_never_run(plan, at)
    if PlanRow.objects.filter(code=plan.code).exists():
        raise Refused(f"There is a plan {plan.code} already.", "Choose another code.", field="code")
    row = PlanRow.objects.create(code=plan.code)
    return _add_version(row, plan, author=author, at=at, summary=summary)


@recorded()
def save_plan(
    code: str, plan: Plan, *, based_on: int, author: str, at: datetime, summary: str = ""
) -> PlanVersion:
    """Save ``plan`` as a new version on top of version ``based_on``.

    Raises Stale, saying what changed, when somebody saved in between; Refused for a dependency cycle, which
    could never run; BadValue where code or direction differ from the plan's.
    """
    if len(summary) > LONGEST_SUMMARY:
        raise BadValue(
            f"The summary has {len(summary)} characters.",
            f"Give at most {LONGEST_SUMMARY}.",
            field="body.summary",
        )
    found = find_plan(code)
    row = PlanRow.objects.select_for_update().get(pk=found.pk)
    newest = row.version()
    if newest.number != based_on:
        raise _stale(row, newest, based_on, plan)
    before = newest.core()
    for field in ("code", "source", "target"):
        if getattr(plan, field) != getattr(before, field):
            raise BadValue(
                f"{field} is {getattr(plan, field)!r}; this plan's is {getattr(before, field)!r}.",
                "It cannot be changed; make another plan.",
                field=f"body.plan.{field}",
            )
    _refuse_what_can_never_run(plan, at)
    said = changes(before, plan)
    if not said:
        raise Refused("Nothing was changed, so there is no new version to save.")
    return _add_version(row, plan, author=author, at=at, summary=summary or "; ".join(said)[:LONGEST_SUMMARY])


@recorded()
def retire_plan(code: str, *, by: str, at: datetime) -> None:
    """Take a plan away with its versions; its runs keep what they ran. Raises Refused while one goes on."""
    row = find_plan(code)
    usage.refuse_if_used(row.code, usage.of_plan(row.code), "Let it end, or abort it.")
    for other in PlanRow.objects.exclude(pk=row.pk):
        if any(part.plan == row.code for part in other.version().core().parts):
            raise Refused(
                f"{row.code} is a part of {other.code}.", "Remove it from that plan.", code="in-use"
            )
    versions = [
        {
            "number": one.number, "body": one.body, "summary": one.summary, "author": one.author,
            "saved_at": one.saved_at.isoformat(),
        }
        for one in row.versions.all()
    ]  # fmt: skip
    retired.keep(
        "plan",
        f"{row.version().core().name} ({row.code})",
        {"code": row.code, "versions": versions},
        by=by,
        at=at,
    )
    row.delete()


@retired.way_back("plan")
def _bring_back(body: dict[str, Any], by: str, at: datetime) -> str:
    """With all its versions, as it was."""
    code = body["code"]
    if PlanRow.objects.filter(code=code).exists():
        raise Refused(f"There is a plan {code} already.", "Retire that one first.")
    row = PlanRow.objects.create(code=code, current=body["versions"][-1]["number"])
    for one in body["versions"]:
        PlanVersion.objects.create(plan=row, **{**one, "saved_at": datetime.fromisoformat(one["saved_at"])})
    return f"/plans/{quote(code)}"


def suggested(asked: SuggestAsked) -> Suggestion:
    """Waves and dependencies for workloads, or what a plan lacks. Raises NotFound for an unknown workload."""
    known = estate().workloads
    if asked.plan is not None:
        pieces = suggest_changes(asked.plan, known)
        return Suggestion(waves=tuple(wave.name for wave in asked.plan.waves), pieces=pieces)
    for name in asked.workloads:
        if name not in known:
            raise NotFound(f"There is no workload {name[:60]!r}.", "Choose one on the page Estate.")
    chosen = [known[name] for name in dict.fromkeys(asked.workloads)]
    if not asked.template:
        return suggest(chosen)
    if asked.template not in BY_KEY:
        raise NotFound(f"There is no template {asked.template[:60]!r}.", f"Known: {', '.join(BY_KEY)}.")
    return from_template(BY_KEY[asked.template], chosen)


def version_view(code: str, number: int, against: int | None = None) -> VersionView:
    """A version of a plan and what changed from it to another, the newest by default. Raises NotFound."""
    row = find_plan(code)
    found = {version.number: version for version in row.versions.filter(number__in=(number, against or 0))}
    for wanted in (number, against):
        if wanted is not None and wanted not in found:
            raise NotFound(f"{row.code} has no version {wanted}.", f"Its versions are 1 to {row.current}.")
    plan, other = found[number].core(), found[against] if against is not None else row.version()
    return VersionView(number=number, against=other.number, plan=plan, changes=changes(plan, other.core()))


def _refuse_what_can_never_run(plan: Plan, at: datetime) -> None:
    """A cycle, a member twice or an impossible delay is refused; other findings are warnings of a draft."""
    known = estate()
    plans = {row.plan.code: row.core() for row in newest_versions() if row.plan.code != plan.code}
    laid = expand_parts(plan, plans.get)
    bare = Context(
        plan=laid.plan, version=0, now=at, workloads=known.workloads, ground=known.ground, laid=laid,
        crosswalk=None, groups=(), newest={}, roles=frozenset(known_roles()),
    )  # fmt: skip
    for rule in (
        plan_rules.dependency_cycle,
        plan_rules.member_twice,
        plan_rules.member_unknown,
        plan_rules.delay_out_of_range,
        plan_rules.out_of_range,
        cue_rules.cue_twice,
        cue_rules.cue_malformed,
        name_rules.name_malformed,
        part_rules.parts_hold,
    ):
        # Some of these rules warn as well, and a draft that one is warned of can be saved.
        for finding in (one for one in rule(bare) if one.severity == "blocks"):
            raise Refused(finding.sentence, finding.mend, code=finding.code, field="body.plan")


def _stale(row: PlanRow, newest: PlanVersion, based_on: int, mine: Plan) -> Stale:
    base = row.versions.filter(number=based_on).first()
    if base is None:
        return Stale(
            f"{row.code} has no version {based_on}; the newest is {newest.number}.",
            "Load the plan again.",
        )
    said = changes(base.core(), newest.core())
    error = Stale(
        f"{newest.author} saved version {newest.number} in between: {'; '.join(said)}.",
        "Your draft is kept. Take these changes into it, look, and save again.",
    )
    error.more = {
        "current": newest.number,
        "changes": list(said),
        "merged": to_data(merge(base.core(), mine, newest.core())),
    }
    return error


def _add_version(row: PlanRow, plan: Plan, *, author: str, at: datetime, summary: str) -> PlanVersion:
    row.current += 1
    row.save()
    return PlanVersion.objects.create(
        plan=row, number=row.current, body=to_data(plan), summary=summary, author=author, saved_at=at
    )
