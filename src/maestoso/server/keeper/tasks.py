"""What the keeper does each time, for every site and for the records."""

from __future__ import annotations

import logging
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta

from django.db import transaction

from maestoso.core.errors import DomainError
from maestoso.core.model.protection import CopyState, Group
from maestoso.core.ports import Clock, SiteRefused, SiteUnreachable
from maestoso.server.audit.trail import keep_head
from maestoso.server.crosswalks.held import reconcile_landings
from maestoso.server.drills.services import begin_due_drills
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.drift import accept_all
from maestoso.server.estate.models import Site
from maestoso.server.estate.services import ask_verbs
from maestoso.server.evidence.services import remove_expired, seal_what_is_not
from maestoso.server.jobs.services import forget_old as forget_old_jobs
from maestoso.server.messages.events import forget_old_events
from maestoso.server.messages.notice import forget_old as forget_old_messages
from maestoso.server.outbox.services import KEEPER, deliver_waiting, forget_old, is_waiting
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import advance_stage, rows_and_groups, send_group
from maestoso.server.readiness.starts import follow_ups
from maestoso.server.runs.fences import fence_again, give_up_what_is_fenced
from maestoso.server.runs.projection import write_steps_of_ended

TELL_AGAIN = timedelta(minutes=1)
"""A site that says the same after it was told is told again only then: each time is a new operation there."""
log = logging.getLogger("maestoso.keeper")
_heard: dict[int, datetime] = {}
"""When every site was heard last, by this process."""
_told: dict[int, tuple[str, tuple[str, str] | None, datetime]] = {}
"""By group, what its site was told last, what it said before that, and when."""


def listen(site: Site, clock: Clock) -> None:
    """Write down since when a site is silent, that it is no longer, and that its agent lost its memory."""
    now, taken = clock.now(), pulse(site)
    said = taken.said
    if said is not None:
        # What a slow site said before stands for some seconds, in which it is not heard.
        _heard[site.pk] = taken.heard or now
        if site.silent_since is not None:
            Site.objects.filter(pk=site.pk).update(silent_since=None)
        # One that was away, or forgot, may be another version of itself.
        if site.verbs is None or site.silent_since is not None or said.epoch != site.epoch:
            with suppress(SiteUnreachable, SiteRefused):
                ask_verbs(site)
        # One that says none says nothing of its memory.
        if said.epoch and said.epoch != site.epoch:
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


def reconcile_groups(site: Site, clock: Clock) -> None:
    """Compare what a site holds and copies with what it should."""
    taken = pulse(site)
    if taken.lost_because is not None:
        return
    try:
        reconcile_landings(site)
    except (DomainError, SiteUnreachable, SiteRefused) as error:
        log.warning("The landings that %s holds were not looked after: %s", site.code, error)
    for row, group in rows_and_groups():
        if row.target_id == site.pk and row.stage in ("seeding", "protected"):
            _reconcile(row, group, taken.copying.get(group.code), clock.now())


def _reconcile(kept: GroupRow, group: Group, state: CopyState | None, now: datetime) -> None:
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
        advance_stage(row, "seeded")
        return
    if is_waiting(row.target, row.code):
        return
    said = (state.digest, state.encrypted_with) if state is not None else None
    wanted, before, at = _told.get(row.pk, ("", None, now))
    if said == before and wanted == group.digest() and timedelta(0) <= now - at < TELL_AGAIN:
        return
    try:
        send_group(row, by=KEEPER)
        _told[row.pk] = (group.digest(), said, now)
    except DomainError as error:
        log.warning("%s was not told of %s: %s", row.target.code, row.code, error.sentence)


def _has_the_key(kept: GroupRow, state: CopyState) -> bool:
    return not kept.policy["encrypted"] or state.encrypted_with == kept.key_fingerprint


def take_over(site: Site, clock: Clock) -> None:
    """Take over the inventory of a site that is said to be right."""
    said = pulse(site).said if site.takes_over else None
    if said is not None and said.inventory != site.inventory_mark:
        try:
            accept_all(site, clock)
        except DomainError as error:
            log.warning("The inventory of %s was not taken over: %s", site.code, error.sentence)


SITE_TASKS: tuple[Callable[[Site, Clock], None], ...] = (
    listen, deliver_waiting, reconcile_groups, take_over,
)  # fmt: skip
RECORD_TASKS: tuple[Callable[[Clock], None], ...] = (
    give_up_what_is_fenced, follow_ups, write_steps_of_ended, seal_what_is_not, remove_expired, forget_old,
    begin_due_drills, keep_head, forget_old_jobs, forget_old_messages, forget_old_events,
)  # fmt: skip
