"""What whoever asks can see, as the door of the API found it: for features that are below access."""

from __future__ import annotations

from rest_framework.request import Request

from maestoso.core.people.scope import NOTHING, Reach


def note_seen(request: Request, reach: Reach) -> None:
    """Let views know it."""
    request._request.maestoso_seen = reach  # type: ignore[attr-defined]


def seen_by(request: Request) -> Reach:
    """What whoever asks can see; nothing where nobody was asked for."""
    found: Reach = getattr(request._request, "maestoso_seen", NOTHING)
    return found
