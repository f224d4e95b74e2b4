"""Keeps sites and records together, as a thread of the engine process.

Sites are told of groups that they do not copy as they should, first copies that came across are noticed, and
inventories are taken over where that is wanted. Fences that were kept are delivered, and re-protects started
that a commit asked for.
"""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable
from datetime import datetime, timedelta

from django.db import close_old_connections, transaction

from maestoso.core.errors import DomainError
from maestoso.core.model.protection import CopyState, Group
from maestoso.core.ports import Clock, SiteRefused, SiteUnreachable
from maestoso.server.audit.trail import sign_head
from maestoso.server.crosswalks.held import look_after_landings
from maestoso.server.drills.services import begin_due_drills
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.drift import accept_all
from maestoso.server.estate.models import Site
from maestoso.server.evidence.services import remove_expired, seal_what_is_not
from maestoso.server.outbox.services import KEEPER, deliver_waiting, forget_old
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import move_on, rows_and_groups, tell_site
from maestoso.server.runs.fences import fence_again, give_up_what_is_fenced
from maestoso.server.runs.services import follow_ups

EVERY_S = 3.0
TELL_AGAIN = timedelta(minutes=1)
"""A site that says the same after it was told is told again only then: each time is a new operation there."""
log = logging.getLogger("maestoso.keeper")
_heard: dict[int, datetime] = {}
"""When every site was heard last, by this process."""
_told: dict[int, tuple[str, tuple[str, str] | None, datetime]] = {}
"""By group, what its site was told last, what it said before that, and when."""


def keep(stop: threading.Event, clock: Clock) -> None:
    """Go on until ``stop``; trouble with one site never keeps another from being looked after."""
    while not stop.wait(EVERY_S):
        for look in LOOKS:
            _quietly(look, clock)


def _quietly(look: Callable[[Clock], None], clock: Clock) -> None:
    try:
        close_old_connections()
        look(clock)
    except Exception:
        log.exception("Looking after sites failed; it is tried again")


def listen(clock: Clock) -> None:
    """Write down since when a site is silent, that it is no longer, and that its agent lost its memory."""
    now = clock.now()
    for site in Site.objects.all():
        said = pulse(site).said
        if said is not None:
            _heard[site.pk] = now
            if site.silent_since is not None:
                Site.objects.filter(pk=site.pk).update(silent_since=None)
            if said.epoch != site.epoch:
                _restored(site, said.epoch, now)
        elif site.silent_since is None:
            Site.objects.filter(pk=site.pk).update(silent_since=_heard.get(site.pk, now))


@transaction.atomic
def _restored(site: Site, epoch: str, now: datetime) -> None:
    """Its agent says another epoch: what it was asked for, and had done, it may not know any more.

    What runs and the outbox wait for is asked for again by who waits; here fences that it had are.
    """
    Site.objects.filter(pk=site.pk).update(epoch=epoch)
    if site.epoch:
        log.warning("The agent of %s has lost its memory.", site.code)
        Site.objects.filter(pk=site.pk).update(forgot_at=now)
        fence_again(site)


def look_after(clock: Clock) -> None:
    """Compare what every site copies with what it should."""
    for site in Site.objects.all():
        taken = pulse(site)
        if taken.lost_because is None:
            try:
                look_after_landings(site)
            except (DomainError, SiteUnreachable, SiteRefused) as error:
                log.warning("The landings that %s holds were not looked after: %s", site.code, error)
            for row, group in rows_and_groups():
                if row.target_id == site.pk and row.stage in ("seeding", "protected"):
                    _look_after(row, group, taken.copying.get(group.code), clock.now())


def _look_after(kept: GroupRow, group: Group, state: CopyState | None, now: datetime) -> None:
    told = state is not None and state.digest == group.digest() and _has_the_key(kept, state)
    seeded = state is not None and state.newest is not None and state.seeded_bytes >= state.seed_bytes
    if told and not (seeded and kept.stage == "seeding"):
        return
    if group.policy.encrypted and not kept.key:
        # Its page and its plans say that the key is missing; nothing is copied in clear meanwhile.
        return
    # What is kept of all groups is not to be changed: this one is read once more.
    row = GroupRow.objects.select_related("source", "target").get(pk=kept.pk)
    if told:
        move_on(row, "seeded")
        return
    said = (state.digest, state.encrypted_with) if state is not None else None
    wanted, before, at = _told.get(row.pk, ("", None, now))
    if said == before and wanted == group.digest() and timedelta(0) <= now - at < TELL_AGAIN:
        return
    try:
        tell_site(row, by=KEEPER)
        _told[row.pk] = (group.digest(), said, now)
    except DomainError as error:
        log.warning("%s was not told of %s: %s", row.target.code, row.code, error.sentence)


def _has_the_key(kept: GroupRow, state: CopyState) -> bool:
    return not kept.policy["encrypted"] or state.encrypted_with == kept.key_fingerprint


def take_over(clock: Clock) -> None:
    """Take over the inventories of sites that are said to be right."""
    for site in Site.objects.filter(takes_over=True):
        taken = pulse(site)
        if taken.said is not None and taken.said.inventory != site.inventory_mark:
            try:
                accept_all(site, clock)
            except DomainError as error:
                log.warning("The inventory of %s was not taken over: %s", site.code, error.sentence)


LOOKS: tuple[Callable[[Clock], None], ...] = (
    listen, deliver_waiting, give_up_what_is_fenced, look_after, take_over, follow_ups, seal_what_is_not,
    remove_expired, forget_old, begin_due_drills, sign_head,
)  # fmt: skip
