"""What was retired: a place where it stays, and the way back.

Whoever retires something keeps it here with :func:`keep`; whoever can make it again says so with
:func:`way_back`. Nothing here knows what a plan or a group is.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from typing import Any

from maestoso.core.errors import NotFound
from maestoso.server.audit.record import recorded
from maestoso.server.estate.models import Retired
from maestoso.server.estate.shapes import RetiredView

WayBack = Callable[[dict[str, Any], str, datetime], str]
"""Makes again what a body says, for whom and when; gives the address of its page. May raise Refused."""
_ways_back: dict[str, WayBack] = {}


def way_back(kind: str) -> Callable[[WayBack], WayBack]:
    """Marks what brings things of this kind back."""

    def mark(call: WayBack) -> WayBack:
        _ways_back[kind] = call
        return call

    return mark


def ways_back() -> tuple[str, ...]:
    """Kinds of things that can be made again."""
    return tuple(_ways_back)


def keep(kind: str, name: str, body: dict[str, Any], *, by: str, at: datetime) -> None:
    """Keep what is being retired; in the transaction that removes it."""
    Retired.objects.create(kind=kind, name=name, body=body, by=by, at=at)


def all_retired() -> tuple[RetiredView, ...]:
    """Everything that was retired and has not come back, the latest first."""
    return tuple(
        RetiredView(id=row.pk, kind=row.kind, name=row.name, by=row.by, at=row.at)
        for row in Retired.objects.defer("body").order_by("-pk")
    )


@recorded()
def bring_back(pk: int, *, by: str, at: datetime) -> str:
    """Make it again as it was; the address of its page. Raises NotFound, or what is in the way."""
    row = Retired.objects.select_for_update().filter(pk=pk).first()
    if row is None:
        raise NotFound("It is not among the retired things any more.", "Load the page again.")
    address = _ways_back[row.kind](row.body, by, at)
    row.delete()
    return address
