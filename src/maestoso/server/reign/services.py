"""Which reign this is, whether it is past, and what follows from that.

It begins while nothing else runs (``./maestoso takeover``), so a process reads its number once.
"""

from __future__ import annotations

import logging
import threading
from functools import cache

from django.apps import apps
from django.db import connection, transaction
from django.db.models import F
from django.db.models.functions import Now

from maestoso.core.errors import DomainError
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.audit.record import add_entry
from maestoso.server.common.news import ring
from maestoso.server.config.settings import SECRETS
from maestoso.server.reign.models import Reign

log = logging.getLogger("maestoso.reign")
TAKEN_OVER = 2**20
"""So much higher are the fences of runs that another goes on with: for sites that know nothing of reigns."""
INSTALLATION = SECRETS.instance


class ReignPast(DomainError):
    """Another machine conducts for this installation. Remedy: use that one."""

    code, status = "reign-past", 409


class OtherInstallation(DomainError):
    """The secrets here are not those of the records. Remedy: have those of their installation here."""

    code = "other-installation"


def belongs_here() -> None:
    """Note whose records these are, or see that they are ours. Raises OtherInstallation."""
    row, _ = Reign.objects.get_or_create(pk=1)
    if not row.installation:
        Reign.objects.filter(pk=1, installation="").update(installation=INSTALLATION)
    elif row.installation != INSTALLATION:
        raise OtherInstallation(
            "The records in this database are those of another installation; the secrets here open none.",
            "Copy secrets.json and the folder keys from a machine of that installation into the data "
            "directory here, or name a database of its own.",
        )


@cache
def number() -> int:
    """Of the reign that this process belongs to."""
    return Reign.objects.filter(pk=1).values_list("number", flat=True).first() or 0


def past_because() -> str:
    """Why nothing is conducted here any more; empty while it is."""
    row = Reign.objects.filter(pk=1).exclude(ended_at=None).first()
    if row is None or row.ended_at is None:
        return ""
    heard = f"{row.ended_at:%d %B at %H:%M} UTC"
    return f"Another machine has taken over from this one: on {heard} a site said “{row.ended_because}”"


def check() -> None:
    """Raises ReignPast where nothing may be changed here any more."""
    why = past_because()
    if why:
        raise ReignPast(f"{why} Nothing is changed here any more.", "Go on at the machine that took over.")


def is_past(said: str) -> None:
    """A site has refused what was asked for, because somebody else conducts.

    It is noted aside: whoever asks may not wait for the database.
    """
    threading.Thread(target=_note_aside, args=(said,), name="reign").start()


def _note_aside(said: str) -> None:
    try:
        note_past(said)
    finally:
        connection.close()


def note_past(said: str) -> None:
    """This reign is past; the first word of it counts."""
    Reign.objects.get_or_create(pk=1)
    if Reign.objects.filter(pk=1, ended_at=None).update(ended_at=Now(), ended_because=said[:1000]):
        log.error("This reign is past: %s", said)
        ring(others=True)


@transaction.atomic
def begin(did: str, by: str) -> int:
    """Begin the next one; returns its number. Leases of whoever conducted before are over.

    ``did`` stands in the trail, as done by ``by``; empty for whoever is at the machine itself.

    It is numbered by the second, above the one before: a backup that is restored after a standby took over
    knows nothing of that reign, and must not begin one of the same number.
    """
    row, _ = Reign.objects.get_or_create(pk=1)
    for label, model, column in (("runs", "Run", "lease_until"), ("keeper", "KeeperLease", "until")):
        apps.get_model(label, model).objects.update(**{column: None})
    apps.get_model("runs", "EngineBeat").objects.all().delete()
    apps.get_model("runs", "Run").objects.filter(outcome="").update(fence=F("fence") + TAKEN_OVER)
    following = max(row.number + 1, int(SystemClock().now().timestamp()))
    Reign.objects.filter(pk=1).update(
        number=following, since=Now(), ended_at=None, ended_because="", held_until=None
    )
    add_entry(
        AuditEntry(
            at=SystemClock().now(), by=by, address="", method="", path="takeover", sent={"reign": following},
            changed=[], did=did if by else f"{did}, on the machine itself",
        )
    )  # fmt: skip
    return following
