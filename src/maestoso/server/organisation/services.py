"""What is set for the whole organisation: name, time zone, words, logo, and how long runs are kept."""

from __future__ import annotations

from maestoso.core.errors import BadValue, Stale
from maestoso.server.audit.record import recorded
from maestoso.server.common.pixels import drawn_anew
from maestoso.server.config.settings import OPTIONS
from maestoso.server.estate.services import check_zone
from maestoso.server.organisation.models import Organisation
from maestoso.server.organisation.shapes import Settings

LONGEST_WORDS = 4000
MOST_PIXELS = 4000
LARGEST_LOGO = 512 * 2**10
LONGEST_KEPT_DAYS = 36_500


def organisation() -> Organisation:
    """The organisation as it was set, or as it is before anybody did."""
    return Organisation.objects.first() or Organisation(pk=1, organisation=OPTIONS.organisation, revision=0)


@recorded()
def save(settings: Settings, based_on: int) -> Organisation:
    """Set all but the logo. Raises BadValue, Stale."""
    check_zone(settings.time_zone)
    if not settings.organisation.strip() or len(settings.organisation) > 120:
        raise BadValue("The organisation has no name, or a long one.", "Give 1 to 120 characters.",
                       field="body.organisation")  # fmt: skip
    if len(settings.words) > LONGEST_WORDS:
        raise BadValue(
            "The words are too long.", f"Give up to {LONGEST_WORDS} characters.", field="body.words"
        )
    if not 0 <= settings.keep_days <= LONGEST_KEPT_DAYS:
        raise BadValue(
            f"keep_days is {settings.keep_days}.", f"Give 0 (for ever) to {LONGEST_KEPT_DAYS}.",
            field="body.keep_days",
        )  # fmt: skip
    row = _locked(based_on)
    row.organisation, row.time_zone = settings.organisation.strip(), settings.time_zone
    row.words, row.keep_days = settings.words, settings.keep_days
    row.save()
    return row


def _locked(based_on: int | None) -> Organisation:
    row = Organisation.objects.select_for_update().first() or organisation()
    if based_on is not None and row.revision != based_on:
        raise Stale("Somebody changed the settings in between.", "Load the page again.")
    row.revision += 1
    return row


@recorded()
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
    row = _locked(None)
    row.logo = drawn
    row.save()


@recorded()
def remove_logo() -> None:
    """Documents go without a picture."""
    row = _locked(None)
    row.logo = None
    row.save()
