"""Links with which people choose a password, by mail."""

from __future__ import annotations

import uuid
from datetime import timedelta

from django.contrib.auth.models import User
from django.db import transaction

from maestoso.core.wording import counted
from maestoso.engine.clock import SystemClock
from maestoso.server.access import people
from maestoso.server.audit.models import AuditEntry
from maestoso.server.audit.record import add_entry
from maestoso.server.config.settings import OPTIONS
from maestoso.server.messages import channels
from maestoso.server.messages.models import WAITING, Message

CLOCK = SystemClock()
ONE_IN = timedelta(minutes=15)
"""Nobody's letter box is filled by who asks for links in their name."""


def _part(code: str, title: str, to: str) -> dict[str, object]:
    days = counted(people.GOOD_FOR_DAYS, "day")
    sentence = f"The link is good once, and for {days}. It does not stand for a second factor."
    return {
        "code": code, "about": "", "title": title, "sentence": sentence, "to": to, "over": False,
        "urgent": True,
    }  # fmt: skip


@people.mail_link.hears
def mail_now(user: User, link: str) -> str | None:
    """Mail an invitation: empty when its server took it, why it did not, None where no mail is sent."""
    if not OPTIONS.mail_server:
        return None
    title = "Choose your password for Maestoso"
    try:
        channels.mail(user.email, [_part("invitation", title, link)], str(uuid.uuid4()), "")
    except channels.NotTaken as error:
        return str(error)
    return ""


@people.link_wanted.hears
def mail_soon(user: User) -> None:
    """Have a link mailed; one is enough where another one waits, or was mailed a moment ago."""
    now = CLOCK.now()
    links = Message.objects.filter(user=user, parts__0__code=channels.PASSWORD_LINK)
    if not OPTIONS.mail_server or links.filter(state=WAITING).exists():
        return
    if links.filter(made_at__gt=now - ONE_IN).exists():
        return
    part = _part(channels.PASSWORD_LINK, "Somebody asked for a new password for you", "")
    part["sentence"] = f"{part['sentence']} If that was not you, do nothing: your password stays as it is."
    name = user.get_username()
    with transaction.atomic():
        Message.objects.create(user=user, parts=[part], made_at=now, due_at=now, not_before=now)
        add_entry(
            AuditEntry(
                at=now, by="", address="", method="POST", path="invitations/forgotten", sent={"name": name},
                did=f"Had a link for a new password mailed to {name}", changed=[],
            )
        )  # fmt: skip
