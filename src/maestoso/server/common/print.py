"""Pages to print and as PDF: fonts that are here, Markdown without anything else, and nothing fetched."""

from __future__ import annotations

import logging
import re
from collections.abc import Callable
from contextvars import ContextVar
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


class _Pages(logging.Handler):
    """Hears of every page that is laid out, and tells whoever asked for it."""

    def emit(self, record: logging.LogRecord) -> None:
        tell, match = _tell.get(), re.search(r"Page (\d+)", record.getMessage())
        if tell is not None and match:
            tell(int(match[1]))


_tell: ContextVar[Callable[[int], None] | None] = ContextVar("tell", default=None)
_progress = logging.getLogger("weasyprint.progress")
_progress.addHandler(_Pages())
_progress.setLevel(logging.INFO)
_progress.propagate = False


def pdf_of(page: str, tell: Callable[[int], None] | None = None) -> bytes:
    """A page as PDF, tagged and with its text as text; nothing but the fonts of this machine is fetched.

    ``tell`` hears the number of every page that is laid out.
    """
    mark = _tell.set(tell)
    try:
        return _pdf(page)
    finally:
        _tell.reset(mark)


def _pdf(page: str) -> bytes:
    # Loading it takes half a second, which no other page should wait for.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    class OnlyFonts(URLFetcher):  # type: ignore[misc]  # weasyprint has no types
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
