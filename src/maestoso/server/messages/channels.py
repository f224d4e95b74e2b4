"""How a message leaves: by mail (SMTP), or as an event over HTTP.

Events are CloudEvents 1.0 in JSON (structured content mode), signed as Standard Webhooks says: headers
``webhook-id``, ``webhook-timestamp``, and ``webhook-signature``, an HMAC with SHA-256 over id, moment and
body, joined by full stops.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import smtplib
import time
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

import httpx
from django.core.mail import EmailMultiAlternatives, get_connection
from django.utils.html import format_html, format_html_join

from maestoso.core.errors import BadValue
from maestoso.core.messages import TOPICS, filled, topic_of, without_addresses
from maestoso.engine.clock import SystemClock
from maestoso.server.access.people import link_for
from maestoso.server.common.secret_text import unseal
from maestoso.server.config import exposure
from maestoso.server.config.settings import OPTIONS, PUBLIC_ORIGIN, SECRETS
from maestoso.server.messages import targets
from maestoso.server.messages.models import Message, Webhook

CLOCK = SystemClock()
PATIENCE_S = 15.0
MOST_READ = 2_000
"""Bytes of an answer that anybody looks at."""
FAULTS = (400, 413, 415, 422, 500)
"""Answers that find fault with what was sent; all others are about the receiver."""
SECRET_BEGINS = "whsec_"
EVENTS = "application/cloudevents+json; charset=utf-8"
PASSWORD_LINK = "password-link"
Part = Mapping[str, Any]


class NotTaken(Exception):
    """The receiver was not reached, or did not take it; the text says why.

    ``ended``: it wants no more. ``only_this``: it found fault with this one, which says nothing of the next.
    """

    def __init__(self, said: str, *, ended: bool = False, only_this: bool = False) -> None:
        super().__init__(said)
        self.ended = ended
        self.only_this = only_this


def send(message: Message) -> None:
    """By the channel that it is for. Raises NotTaken."""
    if message.webhook is not None:
        _post(message.webhook, message.parts[0], message.uid, message.made_at)
        return
    assert message.user is not None
    # A link for a new password is made when it leaves: nothing that is kept lets anybody in.
    parts = [{**part, "to": link_for(message.user)} if part["code"] == PASSWORD_LINK else part
             for part in message.parts]  # fmt: skip
    mail(message.user.email, parts, message.uid, message.thread)


def link(to: str) -> str:
    """The page of a matter, as people reach it."""
    return f"{PUBLIC_ORIGIN or exposure.own_address(OPTIONS)}{to}"


def _shown(text: str) -> str:
    return text if OPTIONS.message_addresses else without_addresses(text)


# --- mail ---


def mail(to: str, parts: Sequence[Part], uid: str, thread: str) -> None:
    """Text and HTML; those of a thread refer to its beginning. Raises NotTaken."""
    # A subject is one line, whoever wrote the title.
    titles = [" ".join(_shown(str(part["title"])).split()) for part in parts]
    more = f" and {len(titles) - 1} more" if len(titles) > 1 else ""
    host = OPTIONS.mail_from.rpartition("@")[2] or "maestoso.example"
    headers = {"Message-ID": f"<{uid}@{host}>", "Auto-Submitted": "auto-generated"}
    if thread:
        begun = f"<{thread}.{SECRETS.instance}@{host}>"
        headers |= {"In-Reply-To": begun, "References": begun}
    lines = [(title, _shown(str(part["sentence"])), link(str(part["to"])))
             for title, part in zip(titles, parts, strict=True)]  # fmt: skip
    text = "\n\n".join("\n".join(filter(None, line)) for line in lines)
    body = format_html_join("", '<p><b>{}</b><br>{}<br><a href="{}">Open it</a></p>', lines)
    why = f"What you are told you choose under My account: {link('/account')}"
    letter = EmailMultiAlternatives(
        subject=f"{titles[0]}{more}"[:180], body=f"{text}\n\n--\n{why}\n", from_email=OPTIONS.mail_from,
        to=[to], headers=headers,
    )  # fmt: skip
    letter.attach_alternative(format_html("{}<hr><p>{}</p>", body, why), "text/html")
    try:
        letter.connection = _server()
        letter.send()
    except (OSError, ValueError, smtplib.SMTPException) as error:
        raise NotTaken(_in_words(error)) from error


def _server() -> Any:
    host, _, port = OPTIONS.mail_server.rpartition(":")
    password = OPTIONS.mail_password_file and Path(OPTIONS.mail_password_file).read_text("utf-8").strip()
    return get_connection(
        "django.core.mail.backends.smtp.EmailBackend", host=host.strip("[]"), port=int(port),
        username=OPTIONS.mail_user, password=password, use_tls=OPTIONS.mail_security == "starttls",
        use_ssl=OPTIONS.mail_security == "tls", timeout=PATIENCE_S,
    )  # fmt: skip


def _in_words(error: Exception) -> str:
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        code, said = next(iter(error.recipients.values()))
        return f"The mail server refused the address: {code} {_text(said)}"
    if isinstance(error, smtplib.SMTPResponseException):
        return f"The mail server said {error.smtp_code} {_text(error.smtp_error)}"
    why = getattr(error, "strerror", "") or str(error) or type(error).__name__
    return f"The mail server was not reached: {why}."


def _text(said: bytes | str) -> str:
    return said.decode(errors="replace") if isinstance(said, bytes) else said


# --- webhooks ---


def event(part: Part, uid: str, at: datetime) -> dict[str, Any]:
    """A CloudEvent: ``type`` says what, ``subject`` about what, ``data`` the rest."""
    return {
        "specversion": "1.0", "id": uid, "source": link(""),
        "type": f"maestoso.{part['code']}{'.over' if part['over'] else ''}",
        "subject": part["about"] or part["code"], "time": at.isoformat(),
        "datacontenttype": "application/json",
        "data": {
            "title": _shown(str(part["title"])), "sentence": _shown(str(part["sentence"])),
            "link": link(str(part["to"])), "topic": topic_of(str(part["code"])), "urgent": part["urgent"],
            "over": part["over"],
        },
    }  # fmt: skip


def chat_text(template: str, part: Part) -> str:
    """What a chat room gets. Raises BadValue."""
    return filled(
        template,
        {
            "title": _shown(str(part["title"])), "sentence": _shown(str(part["sentence"])),
            "link": link(str(part["to"])), "topic": TOPICS[topic_of(str(part["code"]))],
        },
    )  # fmt: skip


def signature(secret: str, uid: str, at: int, body: bytes) -> str:
    """As Standard Webhooks has it (symmetric, version 1)."""
    key = base64.b64decode(secret.removeprefix(SECRET_BEGINS))
    made = hmac.new(key, f"{uid}.{at}.".encode() + body, hashlib.sha256).digest()
    return f"v1,{base64.b64encode(made).decode()}"


def _post(webhook: Webhook, part: Part, uid: str, made_at: datetime) -> None:
    if webhook.template:
        body, kind = chat_text(webhook.template, part).encode(), "application/json; charset=utf-8"
    else:
        body, kind = json.dumps(event(part, uid, made_at), ensure_ascii=False).encode(), EVENTS
    post(webhook.url, unseal(webhook.secret), uid, body, kind)


def post(url: str, secret: str, uid: str, body: bytes, kind: str) -> None:
    """One try. Raises NotTaken."""
    try:
        target = targets.resolve(url)
    except BadValue as error:
        raise NotTaken(f"{error.sentence} {error.remedy}") from error
    except (OSError, UnicodeError) as error:  # the second for a name that no registry would take
        raise NotTaken(f"Its name cannot be resolved: {getattr(error, 'strerror', '') or error}") from error
    at = int(CLOCK.now().timestamp())
    headers = {
        "Host": target.host, "Content-Type": kind, "User-Agent": "Maestoso", "webhook-id": uid,
        "webhook-timestamp": str(at), "webhook-signature": signature(secret, uid, at, body),
    }  # fmt: skip
    until = time.monotonic() + PATIENCE_S
    try:
        with (
            httpx.Client(timeout=PATIENCE_S, trust_env=False, follow_redirects=False) as line,
            line.stream(
                "POST", target.url, content=body, headers=headers, extensions={"sni_hostname": target.name}
            ) as answer,
        ):
            read = 0
            for piece in answer.iter_raw():
                read += len(piece)
                if read > MOST_READ or time.monotonic() > until:
                    break
    except httpx.HTTPError as error:
        raise NotTaken(f"It was not reached: {error or type(error).__name__}") from error
    if answer.status_code == httpx.codes.GONE:
        raise NotTaken("It wants no messages any more (410).", ended=True)
    if not answer.is_success:
        raise NotTaken(
            f"It answered {answer.status_code} {answer.reason_phrase}.",
            only_this=answer.status_code in FAULTS,
        )
