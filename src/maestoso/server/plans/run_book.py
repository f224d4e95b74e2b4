"""The run book as a page to print and as PDF."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit
from zoneinfo import ZoneInfo

from django.template import Context as Values
from django.template import Engine
from django.utils.safestring import mark_safe
from markdown_it import MarkdownIt

from maestoso.core.planning.run_book import run_book
from maestoso.core.readiness.assess import Options
from maestoso.core.readiness.protection_rules import groups_in_plan
from maestoso.server.config.options import ROOT
from maestoso.server.config.settings import OPTIONS
from maestoso.server.estate.models import Site
from maestoso.server.plans.judgement import judge
from maestoso.server.plans.services import context, find_plan

FONTS = ROOT / "web" / "node_modules" / "@fontsource"
FACES = (
    ("Serif", "source-serif-4/files/source-serif-4-latin-600-normal.woff2", 600),
    ("Serif", "source-serif-4/files/source-serif-4-latin-400-normal.woff2", 400),
    ("Sans", "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-400-normal.woff2", 400),
    ("Sans", "atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-700-normal.woff2", 700),
    ("Narrow", "atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-400-normal.woff2", 400),
)
# html: False leaves what looks like HTML as text; pictures would be fetched from wherever they are.
_markdown = MarkdownIt("commonmark", {"html": False, "breaks": True}).disable("image")
_engine = Engine(dirs=[str(Path(__file__).parent / "templates")], autoescape=True)


def page(code: str, now: datetime, *, faces: bool = False) -> str:
    """The run book of the newest version as HTML, complete in itself; ``faces`` names the fonts here."""
    row = find_plan(code)
    version = row.version()
    ctx = context(version.core(), version.number, now)
    judged = judge(ctx, Options(points={}))
    ends = (ctx.plan.source, ctx.plan.target)
    sites = {site.code: site for site in Site.objects.filter(code__in=ends)}
    zone = ZoneInfo(sites[ctx.plan.target].time_zone)
    values: dict[str, Any] = {
        "organisation": OPTIONS.organisation,
        "plan": ctx.plan,
        "version": version,
        "saved": version.saved_at.astimezone(zone),
        "now": now.astimezone(zone),
        "zone": zone.key,
        "source": sites[ctx.plan.source],
        "target": sites[ctx.plan.target],
        "notes": rendered(ctx.plan.notes),
        "forecast": judged.forecast,
        "findings": [finding for finding in judged.findings if finding.severity != "note"],
        "book": run_book(ctx),
        "groups": [one for one in ctx.groups if one.code in groups_in_plan(ctx)],
        "rendered": rendered,
        "faces": [(name, (FONTS / file).as_uri(), weight) for name, file, weight in FACES if faces],
    }
    values["instructions"] = {
        cue.id: rendered(cue.hold.instruction) for _, _, cue in ctx.plan.placed_cues() if cue.hold is not None
    }
    return _engine.get_template("run_book.html").render(Values(values))


def pdf(code: str, now: datetime) -> bytes:
    """The same as PDF, tagged and with its text as text; nothing but the fonts of this machine is fetched."""
    # Loading it takes half a second, which no other page should wait for.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    class OnlyFonts(URLFetcher):
        """Addresses in a plan must not make this machine fetch anything."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            path = Path(unquote(urlsplit(url).path))
            if not url.startswith("file:") or FONTS not in path.parents:
                raise ValueError(f"{url[:100]} is not fetched")
            return super().fetch(url, headers)

    made: bytes = HTML(string=page(code, now, faces=True), url_fetcher=OnlyFonts()).write_pdf(pdf_tags=True)
    return made


def rendered(text: str) -> str:
    """Markdown of people as HTML that holds nothing but what Markdown can say."""
    return mark_safe(_markdown.render(text)) if text.strip() else ""
