"""What is said of messages over HTTP."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from maestoso.core.messages import EscalationStep


@dataclass(frozen=True, slots=True, kw_only=True)
class Topic:
    """Something that people may choose to be told of."""

    code: str
    words: str


@dataclass(frozen=True, slots=True, kw_only=True)
class MessagePreference:
    """What somebody wants to be told by mail; ``quiet_from`` and ``quiet_to`` are such as 22:00, or empty.

    ``daily_at``: what is not urgent comes once a day, then; empty for at once.
    """

    by_mail: bool
    topics: tuple[str, ...]
    quiet_from: str = ""
    quiet_to: str = ""
    daily_at: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class MyMessages:
    """One's own preference, and why nothing would come now; empty where it would."""

    preference: MessagePreference
    topics: tuple[Topic, ...]
    mail: str
    nothing_because: str


@dataclass(frozen=True, slots=True, kw_only=True)
class WebhookView:
    """A program that is told. ``stopped_because``: it said that it wants nothing any more."""

    id: int
    name: str
    url: str
    topics: tuple[str, ...]
    template: str
    enabled: bool
    stopped_because: str
    waiting: int


@dataclass(frozen=True, slots=True, kw_only=True)
class WebhookSave:
    """Where to, of what, and how: ``template`` is JSON for a chat room, empty for events."""

    name: str
    url: str
    topics: tuple[str, ...]
    template: str = ""
    enabled: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class WebhookMade:
    """With the secret that its messages are signed with, shown this once."""

    webhook: WebhookView
    secret: str


@dataclass(frozen=True, slots=True, kw_only=True)
class MessageView:
    """What went where, and what became of it. ``to`` is a person or a program."""

    id: str
    to: str
    channel: str
    titles: tuple[str, ...]
    made_at: datetime
    state: str
    tries: int
    next_at: datetime | None
    said: str
    sent_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Messages:
    """All of it: by which server mail goes (empty: by none), programs, and the latest messages."""

    mail_server: str
    mail_from: str
    webhooks: tuple[WebhookView, ...]
    topics: tuple[Topic, ...]
    escalation: tuple[EscalationStep, ...]
    latest: tuple[MessageView, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class EscalationSave:
    """Who is told in turn, when nobody looks at what a run needs."""

    steps: tuple[EscalationStep, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelTried:
    """What came of a try; ``said`` is why it failed."""

    well: bool
    said: str


@dataclass(frozen=True, slots=True, kw_only=True)
class EventPage:
    """CloudEvents in the order in which they happened, and the ``cursor`` behind them."""

    cursor: str
    events: tuple[dict[str, Any], ...]
