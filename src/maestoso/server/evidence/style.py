"""In whose name reports speak: organisation, words, logo, and how long runs are kept."""

from __future__ import annotations

from django.db import transaction

from maestoso.core.errors import BadValue, Stale
from maestoso.server.common.pixels import drawn_anew
from maestoso.server.config.settings import OPTIONS
from maestoso.server.evidence.models import ReportSettings
from maestoso.server.evidence.shapes import ReportStyle

LONGEST_WORDS = 4000
MOST_PIXELS = 4000
LARGEST_LOGO = 512 * 2**10
LONGEST_KEPT_DAYS = 36_500


def style_row() -> ReportSettings:
    """How reports look, as it was set, or as it is before anybody did."""
    return ReportSettings.objects.first() or ReportSettings(
        pk=1, organisation=OPTIONS.organisation, revision=0
    )


@transaction.atomic
def save_style(style: ReportStyle, based_on: int) -> ReportSettings:
    """Set name, words and how long runs are kept. Raises BadValue, Stale."""
    if not style.organisation.strip() or len(style.organisation) > 120:
        raise BadValue("The organisation has no name, or a long one.", "Give 1 to 120 characters.",
                       field="body.organisation")  # fmt: skip
    if len(style.words) > LONGEST_WORDS:
        raise BadValue(
            "The words are too long.", f"Give up to {LONGEST_WORDS} characters.", field="body.words"
        )
    if not 0 <= style.keep_days <= LONGEST_KEPT_DAYS:
        raise BadValue(
            f"keep_days is {style.keep_days}.", f"Give 0 (for ever) to {LONGEST_KEPT_DAYS}.",
            field="body.keep_days",
        )  # fmt: skip
    row = _locked_style(based_on)
    row.organisation, row.words, row.keep_days = style.organisation.strip(), style.words, style.keep_days
    row.save()
    return row


def _locked_style(based_on: int | None) -> ReportSettings:
    row = ReportSettings.objects.select_for_update().first() or style_row()
    if based_on is not None and row.revision != based_on:
        raise Stale("Somebody changed how reports look in between.", "Load the page again.")
    row.revision += 1
    return row


@transaction.atomic
def save_logo(body: bytes) -> None:
    """Take a PNG or JPEG picture as the logo; it is drawn anew, so that nothing but pixels is kept.

    Raises BadValue for what is no such picture, is too large, or is of a kind that can hold a script.
    """
    if len(body) > LARGEST_LOGO:
        raise BadValue("The logo is larger than 512 KiB.", "Give a smaller picture.", field="body")
    if b"<svg" in body[:4096].lower() or body.lstrip()[:1] == b"<":
        raise BadValue(
            "This is SVG or HTML, which can hold a script.", "Save the logo as PNG or JPEG.", field="body"
        )
    drawn = drawn_anew(body, what="The logo", most=MOST_PIXELS, shown=MOST_PIXELS)
    row = _locked_style(None)
    row.logo = drawn
    row.save()


@transaction.atomic
def remove_logo() -> None:
    """Reports go without a picture."""
    row = _locked_style(None)
    row.logo = None
    row.save()
