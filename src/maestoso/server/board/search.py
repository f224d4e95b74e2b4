"""Finding anything that the records know by some words: for the palette."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from itertools import islice
from urllib.parse import quote

import orjson

from maestoso.core.people.scope import EVERYTHING, Reach
from maestoso.server.board.shapes import Hit, SearchResult
from maestoso.server.board.stored import board_text
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.plans.services import newest_versions
from maestoso.server.protection.services import rows_and_groups
from maestoso.server.runs.listing import find_runs
from maestoso.server.runs.models import Run
from maestoso.server.scripts.models import Script

MOST_OF_A_KIND = 6


def find_anything(text: str, now: datetime, reach: Reach = EVERYTHING) -> SearchResult:
    """What holds every word of ``text`` and is within reach, of each kind the first few. Nothing for no
    words."""
    words = text.casefold().split()
    if not words:
        return SearchResult(hits=())
    kinds = (
        _plans(reach), _runs(text, reach), _workloads(reach), _groups(reach), _sites(reach), _scripts(),
        _findings(now, reach),
    )  # fmt: skip
    return SearchResult(
        hits=tuple(hit for hits in kinds for hit in islice(_with_words(hits, words), MOST_OF_A_KIND))
    )


def _with_words(hits: Iterable[tuple[Hit, str]], words: list[str]) -> Iterator[Hit]:
    for hit, beside in hits:
        said = f"{hit.title} {hit.hint} {beside}".casefold()
        if all(word in said for word in words):
            yield hit


def _plans(reach: Reach) -> Iterator[tuple[Hit, str]]:
    for version in newest_versions():
        plan = version.core()
        if not reach.has("plan", plan.code):
            continue
        yield (
            Hit(kind="plan", title=plan.name, hint=f"plan {plan.code}", to=f"/plans/{quote(plan.code)}"),
            plan.owner,
        )


def _runs(text: str, reach: Reach) -> Iterator[tuple[Hit, str]]:
    """By their numbers ("run 7"), or by what the list of runs finds."""
    numbers = [int(word) for word in text.split() if word.isascii() and word.isdigit() and len(word) < 10]
    by_number = list(Run.objects.filter(pk__in=numbers, last_seq__gt=0))
    for run in (*by_number, *find_runs({"find": text}, reach)[:MOST_OF_A_KIND]):
        if not reach.has_run(run.plan_code, run.source, run.target):
            continue
        hint = f"{run.kind} run, {run.outcome or 'under way'}"
        # What the list found may stand in its notes.
        beside = "" if run in by_number else text
        yield Hit(kind="run", title=f"Run {run.pk}: {run.plan_name}", hint=hint, to=f"/runs/{run.pk}"), beside


def _workloads(reach: Reach) -> Iterator[tuple[Hit, str]]:
    """A member of a plan is shown in it and in the estate."""
    plans: dict[str, tuple[str, str]] = {}
    for version in newest_versions():
        plan = version.core()
        for name in plan.workloads() if reach.has("plan", plan.code) else ():
            plans.setdefault(name, (plan.code, plan.name))
    for name, row in estate().rows.items():
        if not reach.has("workload", name):
            continue
        beside = " ".join((*row.addresses, *row.macs, row.owner))
        hint = ", ".join((f"workload at {row.site}", *row.addresses))
        if name in plans:
            code, called = plans[name]
            to = f"/plans/{quote(code)}?select={quote(name)}"
            yield Hit(kind="workload", title=name, hint=f"workload in {called}", to=to), beside
        yield Hit(kind="workload", title=name, hint=hint, to=f"/estate?open={quote(name)}"), beside


def _groups(reach: Reach) -> Iterator[tuple[Hit, str]]:
    for _, group in rows_and_groups():
        if not reach.has("group", group.code):
            continue
        hint = f"consistency group {group.code}, {group.source} → {group.target}"
        yield Hit(kind="group", title=group.name, hint=hint, to=f"/protection/{quote(group.code)}"), ""


def _sites(reach: Reach) -> Iterator[tuple[Hit, str]]:
    for site in (one for one in Site.objects.all() if reach.has("site", one.code)):
        yield Hit(kind="site", title=site.name, hint=f"site {site.code}", to="/estate/sites"), ""
        doors = estate().ground.sites[site.code].front_doors
        for door in (one for one in doors if reach.has("workload", one.workload)):
            hint = f"front door of {site.name}, {door.address}, leads to {door.workload}"
            yield Hit(kind="site", title=door.name, hint=hint, to="/estate/sites"), ""


def _scripts() -> Iterator[tuple[Hit, str]]:
    for name, note in Script.objects.values_list("name", "note"):
        yield Hit(kind="script", title=name, hint="script", to=f"/scripts?open={quote(name)}"), note


def _findings(now: datetime, reach: Reach) -> Iterator[tuple[Hit, str]]:
    """As the board has them: of every plan, each sentence once."""
    seen: set[str] = set()
    for plan in orjson.loads(board_text(now, reach))["plans"]:
        for finding in plan["findings"]:
            if finding["sentence"] not in seen:
                seen.add(finding["sentence"])
                hint = f"finding, {plan['name']}"
                to = f"/plans/{quote(plan['code'])}"
                yield Hit(kind="finding", title=finding["sentence"], hint=hint, to=to), finding["subject"]
