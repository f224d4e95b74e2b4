"""The list of runs: what it can be narrowed to, and the filters that people named."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from urllib.parse import parse_qsl

from django.apps import apps
from django.db.models import Prefetch, Q, QuerySet

from maestoso.core.errors import BadValue, NotFound
from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.server.audit.record import recorded
from maestoso.server.common.days import day
from maestoso.server.common.words import holding
from maestoso.server.runs.models import Run, SavedView

KINDS = ("test", "planned", "disaster", "re-protect")
OUTCOMES = (
    "under way", "passed", "failed", "inconclusive", "aborted", "committed", "rolled back", "protected",
)  # fmt: skip
FIELDS = ("plan", "kind", "outcome", "since", "until", "find")


def find_runs(asked: Mapping[str, str], reach: Reach = EVERYTHING) -> QuerySet[Run]:
    """Runs within reach that fit all that was asked, newest first. Raises BadValue naming the field."""
    # By its name: evidence knows runs, and runs do not know evidence.
    additions = apps.get_model("evidence", "Addition").objects
    rows = Run.objects.filter(last_seq__gt=0).select_related("seal")
    rows = rows.prefetch_related(Prefetch("additions", queryset=additions.only("pk", "run_id")))
    if not reach.everything:
        own = list(reach.own_sites)
        rows = rows.filter(Q(plan_code__in=reach.plans) | Q(source__in=own) | Q(target__in=own))
    if asked.get("plan"):
        rows = rows.filter(plan_code=asked["plan"])
    if asked.get("kind"):
        rows = rows.filter(kind=_one_of(asked["kind"], KINDS, "kind"))
    if asked.get("outcome"):
        outcome = _one_of(asked["outcome"], OUTCOMES, "outcome")
        rows = rows.filter(outcome="" if outcome == "under way" else outcome)
    if asked.get("since"):
        rows = rows.filter(started_at__gte=day(asked["since"], "since"))
    if asked.get("until"):
        rows = rows.filter(started_at__lt=day(asked["until"], "until") + timedelta(days=1))
    for word in holding(asked.get("find", ""), "plan_name", "notes", "started_by", "additions__text"):
        rows = rows.filter(word).distinct()
    return rows


@recorded()
def save_view(owner: str, name: str, query: str) -> None:
    """Name a filter, or give a name another one. Raises BadValue for one that cannot be read."""
    if not name.strip() or len(name) > 80:
        raise BadValue("The view has no name, or a long one.", "Give 1 to 80 characters.", field="body.name")
    asked = dict(parse_qsl(query.removeprefix("?")))
    unknown = [field for field in asked if field not in FIELDS]
    if unknown or len(query) > 500:
        said = f"a view knows no {unknown[0][:40]!r}" if unknown else "the view is too long"
        raise BadValue(f"{said[0].upper()}{said[1:]}.", f"Use {', '.join(FIELDS)}.", field="body.query")
    find_runs(asked)
    SavedView.objects.update_or_create(owner=owner, name=name.strip(), defaults={"query": query})


@recorded()
def forget_view(owner: str, name: str) -> None:
    """Remove a filter. Raises NotFound."""
    if not SavedView.objects.filter(owner=owner, name=name).delete()[0]:
        raise NotFound(f"You have no view {name[:40]!r}.", "See your views.")


def _one_of(value: str, choices: tuple[str, ...], field: str) -> str:
    if value not in choices:
        raise BadValue(f"{field} is {value[:40]!r}.", f"Give one of {', '.join(choices)}.", field=field)
    return value
