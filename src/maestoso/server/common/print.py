"""Pages to print and as PDF: fonts that are here, Markdown without anything else, and nothing fetched."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from django.utils.safestring import mark_safe
from markdown_it import MarkdownIt

from maestoso.server.config.options import ROOT

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


def fonts_here() -> list[tuple[str, str, int]]:
    """Name, address and weight of every font, for a page that is printed on this machine."""
    return [(name, (FONTS / file).as_uri(), weight) for name, file, weight in FACES]


def rendered(text: str) -> str:
    """Markdown of people as HTML that holds nothing but what Markdown can say."""
    return mark_safe(_markdown.render(text)) if text.strip() else ""


def pdf_of(page: str) -> bytes:
    """A page as PDF, tagged and with its text as text; nothing but the fonts of this machine is fetched."""
    # Loading it takes half a second, which no other page should wait for.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    class OnlyFonts(URLFetcher):
        """Addresses in a text must not make this machine fetch anything."""

        def fetch(self, url: str, headers: Any = None) -> Any:
            path = Path(unquote(urlsplit(url).path))
            if url.startswith("data:image/png;base64,"):
                return super().fetch(url, headers)
            if not url.startswith("file:") or FONTS not in path.parents:
                raise ValueError(f"{url[:100]} is not fetched")
            return super().fetch(url, headers)

    made: bytes = HTML(string=page, url_fetcher=OnlyFonts()).write_pdf(pdf_tags=True)
    return made
