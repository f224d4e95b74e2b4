"""The run book as a page to print and as PDF."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

from django.template import Context as Values
from django.template import Engine

from maestoso.core.readiness.run_book import run_book
from maestoso.server.common.print import fonts_here, pdf_of, rendered
from maestoso.server.estate.models import Site
from maestoso.server.organisation.services import organisation
from maestoso.server.plans.services import find_plan
from maestoso.server.readiness.judgement import assess_recovery
from maestoso.server.readiness.surroundings import context
from maestoso.server.runs.traps import traps_of_plan

_engine = Engine(dirs=[str(Path(__file__).parent / "templates")], autoescape=True)


def page(code: str, now: datetime, *, faces: bool = False) -> str:
    """The run book of the newest version as HTML, complete in itself; ``faces`` names the fonts here."""
    row = find_plan(code)
    version = row.version()
    ctx = context(version.core(), version.number, now)
    judged = assess_recovery(ctx)
    ends = (ctx.plan.source, ctx.plan.target)
    sites = {site.code: site for site in Site.objects.filter(code__in=ends)}
    zone = ZoneInfo(sites[ctx.plan.target].time_zone)
    values: dict[str, Any] = {
        "organisation": organisation().organisation,
        "plan": ctx.plan,
        "version": version,
        "saved": version.saved_at.astimezone(zone),
        "now": now.astimezone(zone),
        "zone": zone.key,
        "source": sites[ctx.plan.source],
        "target": sites[ctx.plan.target],
        "notes": rendered(ctx.plan.notes),
        "forecast": judged.forecast,
        "findings": [one for one in judged.findings if one.live_severity in ("blocks", "warns")],
        "book": run_book(ctx),
        "groups": [one for one in ctx.groups if one.code in ctx.planned_groups],
        "traps": traps_of_plan(ctx),
        "rendered": rendered,
        "faces": fonts_here() if faces else [],
    }
    values["instructions"] = {
        cue.id: rendered(cue.hold.instruction) for _, _, cue in ctx.plan.placed_cues() if cue.hold is not None
    }
    # Moments are given in the zone of the target already, and are not to be turned into another one.
    return _engine.get_template("run_book.html").render(Values(values, use_tz=False))


def pdf(code: str, now: datetime, tell: Callable[[int], None]) -> bytes:
    """The same as PDF, tagged and with its text as text; nothing but the fonts of this machine is fetched.

    ``tell`` hears the number of every page.
    """
    return pdf_of(page(code, now, faces=True), tell)
