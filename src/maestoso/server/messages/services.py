"""What people choose, programs that are told, and what became of messages."""

from __future__ import annotations

import base64
import secrets
import uuid
from collections.abc import Iterable

from django.contrib.auth.models import User
from django.db.models import Count, Q

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.messages import TOPICS, check_steps, read_quiet_hours, read_time, usual
from maestoso.core.people.roles import ROLE
from maestoso.core.ports import Clock
from maestoso.server.access.roles import known_roles
from maestoso.server.audit.record import recorded
from maestoso.server.common.news import announce
from maestoso.server.common.secret_text import seal
from maestoso.server.config.settings import OPTIONS
from maestoso.server.messages import channels, targets
from maestoso.server.messages.channels import SECRET_BEGINS, NotTaken
from maestoso.server.messages.models import WAITING, Escalation, Message, Preference, Webhook
from maestoso.server.messages.notice import escalation, held_by
from maestoso.server.messages.shapes import (
    ChannelTried,
    EscalationSave,
    MessagePreference,
    Messages,
    MessageView,
    MyMessages,
    Topic,
    WebhookMade,
    WebhookSave,
    WebhookView,
)

MOST_SHOWN = 200
MOST_WEBHOOKS = 50
SECRET_BYTES = 32
_TRY = {
    "code": "try", "about": "", "title": "Maestoso tries whether you hear it",
    "sentence": "Somebody pressed Try it. Nothing is to be done.", "to": "/settings/messages", "over": False,
    "urgent": False,
}  # fmt: skip


def topics() -> tuple[Topic, ...]:
    """What people choose among."""
    return tuple(Topic(code=code, words=words) for code, words in TOPICS.items())


def mine(user: User) -> MyMessages:
    """One's own preference."""
    row = Preference.objects.filter(user=user).first()
    nothing = ""
    if not OPTIONS.mail_server:
        nothing = "This Maestoso sends no mail: an administrator of its machine sets mail_server."
    elif not user.email:
        nothing = "You have no mail address: give one above."
    return MyMessages(
        preference=MessagePreference(
            by_mail=row is None or row.by_mail, topics=tuple(row.topics) if row else usual(held_by(user)),
            quiet_from=row.quiet_from if row else "", quiet_to=row.quiet_to if row else "",
            daily_at=row.daily_at if row else "",
        ),
        topics=topics(), mail=user.email, nothing_because=nothing,
    )  # fmt: skip


def choose(user: User, wanted: MessagePreference) -> None:
    """Change one's own. Raises BadValue."""
    read_quiet_hours(wanted.quiet_from, wanted.quiet_to)
    if wanted.daily_at:
        read_time(wanted.daily_at, "daily_at")
    chosen = {
        "by_mail": wanted.by_mail, "topics": _known_topics(wanted.topics), "quiet_from": wanted.quiet_from,
        "quiet_to": wanted.quiet_to, "daily_at": wanted.daily_at,
    }  # fmt: skip
    with recorded():
        Preference.objects.update_or_create(user=user, defaults=chosen)


def _known_topics(given: Iterable[str]) -> list[str]:
    wanted = list(dict.fromkeys(given))
    for one in wanted:
        if one not in TOPICS:
            raise BadValue(
                f"There is no topic {one[:30]!r}.", f"Choose among {', '.join(TOPICS)}.", field="topics"
            )
    return wanted


def shown() -> Messages:
    """Channels, and the latest messages."""
    latest = Message.objects.select_related("user", "webhook").order_by("-pk")[:MOST_SHOWN]
    return Messages(
        mail_server=OPTIONS.mail_server, mail_from=OPTIONS.mail_from, webhooks=webhooks(), topics=topics(),
        escalation=escalation(), latest=tuple(map(_message, latest)),
    )  # fmt: skip


def set_escalation(given: EscalationSave) -> None:
    """Who is told in turn when nobody looks. Raises BadValue."""
    check_steps(given.steps)
    known = {*User.objects.filter(is_active=True).values_list("username", flat=True)}
    known |= {f"{ROLE}{code}" for code in known_roles()}
    for one in (one for step in given.steps for one in step.who):
        if one not in known:
            raise BadValue(
                f"Nobody is called {one[:60]!r}, and it is no role.",
                "Name people by what they sign in with, or role:operator.", field="steps",
            )  # fmt: skip
    with recorded():
        Escalation.objects.update_or_create(pk=1, defaults={"steps": to_data(given.steps)})
    announce()


def _message(row: Message) -> MessageView:
    return MessageView(
        id=row.uid,
        to=row.webhook.name if row.webhook else row.user.get_username() if row.user else "",
        channel="webhook" if row.webhook else "mail",
        titles=tuple(str(part["title"]) for part in row.parts), made_at=row.made_at, state=row.state,
        tries=row.tries, next_at=row.not_before if row.state == WAITING else None, said=row.said,
        sent_at=row.sent_at,
    )  # fmt: skip


def webhooks() -> tuple[WebhookView, ...]:
    """Programs that are told."""
    rows = Webhook.objects.annotate(waiting=Count("messages", filter=Q(messages__state=WAITING)))
    return tuple(_webhook(row, row.waiting) for row in rows)


def _webhook(row: Webhook, waiting: int) -> WebhookView:
    return WebhookView(
        id=row.pk, name=row.name, url=row.url, topics=tuple(row.topics), template=row.template,
        enabled=row.enabled, stopped_because=row.stopped_because, waiting=waiting,
    )  # fmt: skip


def _checked(given: WebhookSave, but: int = 0) -> dict[str, object]:
    """Raises BadValue."""
    name = given.name.strip()
    if not 1 <= len(name) <= 80:
        raise BadValue("The webhook has no name, or a long one.", "Give 1 to 80 characters.", field="name")
    if Webhook.objects.filter(name=name).exclude(pk=but).exists():
        raise BadValue(f"There is a webhook {name!r} already.", "Choose another name.", field="name")
    targets.check(given.url)
    if given.template:
        channels.chat_text(given.template, _TRY)
    if not given.topics:
        raise BadValue("It would be told of nothing.", "Choose topics.", field="topics")
    return {
        "name": name, "url": given.url.strip(), "topics": _known_topics(given.topics),
        "template": given.template, "enabled": given.enabled, "stopped_because": "",
    }  # fmt: skip


def make_webhook(given: WebhookSave) -> WebhookMade:
    """One more. Raises BadValue, Refused."""
    if Webhook.objects.count() >= MOST_WEBHOOKS:
        raise Refused(f"There are {MOST_WEBHOOKS} webhooks.", "Remove one that is not used.")
    wanted = _checked(given)
    secret = SECRET_BEGINS + base64.b64encode(secrets.token_bytes(SECRET_BYTES)).decode()
    with recorded():
        row = Webhook.objects.create(**wanted, secret=seal(secret))
    announce()
    return WebhookMade(webhook=_webhook(row, 0), secret=secret)


def change_webhook(pk: int, given: WebhookSave) -> WebhookView:
    """Its secret stays. Raises NotFound, BadValue."""
    row = find_webhook(pk)
    wanted = _checked(given, but=pk)
    with recorded():
        for name, value in wanted.items():
            setattr(row, name, value)
        row.save()
    announce()
    return _webhook(row, row.messages.filter(state=WAITING).count())


def remove_webhook(pk: int) -> None:
    """It is told nothing any more. Raises NotFound."""
    row = find_webhook(pk)
    with recorded():
        row.delete()
    announce()


def find_webhook(pk: int) -> Webhook:
    """Raises NotFound."""
    row = Webhook.objects.filter(pk=pk).first()
    if row is None:
        raise NotFound("There is no such webhook.", "Load the page again.")
    return row


def try_webhook(pk: int, clock: Clock) -> ChannelTried:
    """Send it something now, and hear what it says. Raises NotFound."""
    row = find_webhook(pk)
    message = Message(webhook=row, parts=[_TRY], made_at=clock.now())
    return _tried(message)


def try_mail(user: User, clock: Clock) -> ChannelTried:
    """Send whoever asks a mail now. Raises Refused."""
    nothing = mine(user).nothing_because
    if nothing:
        raise Refused(nothing)
    return _tried(Message(user=user, parts=[_TRY], made_at=clock.now()))


def _tried(message: Message) -> ChannelTried:
    message.uid = str(uuid.uuid4())
    try:
        channels.send(message)
    except NotTaken as error:
        return ChannelTried(well=False, said=str(error))
    return ChannelTried(well=True, said="")


def send_again(uid: str, clock: Clock) -> MessageView:
    """Try it now, whatever became of it, under the same id. Raises NotFound, Refused."""
    row = Message.objects.select_related("user", "webhook").filter(uid=uid).first()
    if row is None:
        raise NotFound("There is no such message any more.", "Load the page again.")
    if row.webhook is not None and not row.webhook.enabled:
        raise Refused(f"{row.webhook.name} is switched off.", "Switch it on first.")
    now = clock.now()
    with recorded():
        row.state, row.due_at, row.not_before, row.said = WAITING, now, now, ""
        row.save()
    announce()
    return _message(row)
