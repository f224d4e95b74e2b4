"""What can be done with crosswalks."""

from __future__ import annotations

from maestoso.core.codec import to_data
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.server.crosswalks.models import CrosswalkRow
from maestoso.server.estate.models import Site


def save_crosswalk(crosswalk: Crosswalk) -> CrosswalkRow:
    """Make or replace the crosswalk in its direction."""
    row, _ = CrosswalkRow.objects.update_or_create(
        source=Site.objects.get(code=crosswalk.source),
        target=Site.objects.get(code=crosswalk.target),
        defaults={"body": to_data(crosswalk)},
    )
    return row


def crosswalk_between(source: str, target: str) -> Crosswalk | None:
    """The crosswalk in that direction, if there is one."""
    row = CrosswalkRow.objects.filter(source__code=source, target__code=target).first()
    return row.core() if row else None
