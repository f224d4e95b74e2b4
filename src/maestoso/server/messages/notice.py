"""What is new on the board and in runs becomes messages: who, over which channel, and not before when."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

import orjson
from django.contrib.auth.models import User
from django.db import transaction

from maestoso.core.codec import from_data, to_data
from maestoso.core.messages import (
    ENDS_TOLD,
    NEEDS,
    USUAL,
    Matter,
    news,
    read_quiet_hours,
    topic_of,
    waits_until,
    wants,
)
from maestoso.core.people.roles import ROLE
from maestoso.core.people.scope import EVERYTHING
from maestoso.core.ports import Clock
from maestoso.core.runs.needs import needs
from maestoso.server.access.models import RoleGrant
from maestoso.server.access.reach import seen_by_user
from maestoso.server.approvals.services import recent
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.readiness import leads_into
from maestoso.server.board.stored import TOO_OLD
from maestoso.server.config.settings import OPTIONS
from maestoso.server.messages.models import Message, Noticed, OpenMatter, Preference, Webhook
from maestoso.server.organisation.services import organisation
from maestoso.server.runs.models import Run
from maestoso.server.runs.states import each

KEPT = timedelta(days=30)
BEGUN = "run-started"


def notice(clock: Clock) -> None:
    """Write messages for what began, and for what is over, since the last look."""
    now = clock.now()
    if not OPTIONS.mail_server and not Webhook.objects.filter(enabled=True).exists():
        # Whoever is to be told some day is not told of what was so until then.
        Noticed.objects.all().delete()
        return
    board = StoredBoard.objects.filter(pk=1, made_at__gt=now - TOO_OLD).first()
    found = [*_of_runs(), *(_of_board(board) if board is not None else ())]
    with transaction.atomic():
        last = max([run.about for run in found if run.code == BEGUN], default="0", key=int)
        row, fresh = Noticed.objects.select_for_update().get_or_create(
            pk=1, defaults={"since": now, "last_run": int(last)}
        )
        if fresh:
            OpenMatter.objects.all().delete()
        known = {one.key: from_data(Matter, one.matter) for one in OpenMatter.objects.all()}
        begun, over = news(known, found)
        ended = [known[key] for key in over if board is not None or _is_of_a_run(known[key])]
        OpenMatter.objects.bulk_create(
            OpenMatter(key=one.key, matter=to_data(one), begun_at=now) for one in begun
        )
        OpenMatter.objects.filter(key__in=[one.key for one in ended]).delete()
        if not fresh:
            short = _short_runs(row.last_run, {one.about for one in found})
            _tell([*begun, *short], [*filter(_is_told_again, ended), *map(_end_of, short)], now)
        row.last_run = max([row.last_run, *(run.pk for run in Run.objects.order_by("-pk")[:1])])
        row.save()


def forget_old(clock: Clock) -> None:
    """Let go of what was told long ago."""
    Message.objects.filter(made_at__lt=clock.now() - KEPT).delete()


def _is_of_a_run(matter: Matter) -> bool:
    return matter.code == BEGUN or topic_of(matter.code) == NEEDS


def _is_told_again(matter: Matter) -> bool:
    return matter.code in ENDS_TOLD or matter.code == BEGUN


# --- what is so now ---


def _of_board(board: StoredBoard) -> Iterator[Matter]:
    """What stands on the board; what runs need is known sooner from the runs."""
    for one in orjson.loads(board.body)["actions"]:
        if topic_of(one["code"]) != NEEDS:
            yield Matter(
                code=one["code"], about=one["about"], title=one["title"], sentence=one["sentence"],
                to=one["to"], urgent=one["urgency"] == "now",
            )  # fmt: skip


def _of_runs() -> Iterator[Matter]:
    """Runs under way, and what they need."""
    holders: dict[str, list[str]] = {}
    for name, role in RoleGrant.objects.filter(user__is_active=True).values_list("user__username", "role"):
        holders.setdefault(f"{ROLE}{role}", []).append(name)
    for run, state in each(Run.objects.filter(outcome="", last_seq__gt=0)):
        yield _began(run)
        for need in needs(state):
            step = next((one for one in state.graph.steps if one.id == need.step), None)
            wanted = step.args.get("who", ()) if step is not None else ()
            yield Matter(
                code="run-needs", about=f"{run.pk}/{need.kind}/{need.step}",
                title=f"{run.plan_name} needs somebody: {need.title}", sentence=need.text,
                to=f"/runs/{run.pk}", urgent=True,
                who=tuple(sorted({who for one in wanted for who in holders.get(one, [one])})),
                told=_told(run),
            )  # fmt: skip
    for run in Run.objects.filter(outcome="").exclude(put_aside=""):
        yield Matter(
            code="run-put-aside", about=str(run.pk), to=f"/runs/{run.pk}", urgent=True, told=_told(run),
            title=f"{run.plan_name} stands still: the engine put aside run {run.pk}", sentence=run.put_aside,
        )  # fmt: skip


def _told(run: Run) -> tuple[str, ...]:
    return tuple(dict.fromkeys([run.started_by, *run.tell]))


def _began(run: Run) -> Matter:
    return Matter(
        code=BEGUN, about=str(run.pk), title=f"{run.plan_name}: a {run.kind} run began", told=_told(run),
        sentence=f"{run.started_by} started run {run.pk}, from {run.source} to {run.target}.",
        to=f"/runs/{run.pk}", urgent=run.kind != "test",
    )  # fmt: skip


def _short_runs(after: int, under_way: set[str]) -> list[Matter]:
    """Runs that began and ended between two looks."""
    rows = Run.objects.filter(pk__gt=after, last_seq__gt=0).exclude(outcome="")
    return [_began(run) for run in rows if str(run.pk) not in under_way]


def _end_of(matter: Matter) -> Matter:
    """What is said when a matter is over."""
    if matter.code != BEGUN:
        return replace(matter, title=f"Over: {matter.title}", sentence="It is so no longer.")
    run = Run.objects.filter(pk=matter.about).first()
    if run is None:
        return replace(matter, code="run-ended", title=f"Run {matter.about} is gone", sentence="")
    return replace(
        matter, code="run-ended", title=f"{run.plan_name}: the {run.kind} run ended, {run.outcome}",
        sentence=f"Run {run.pk}, from {run.source} to {run.target}.",
    )  # fmt: skip


# --- who is told ---


@dataclass(frozen=True, slots=True)
class _Said:
    """A matter that began, or is over."""

    matter: Matter
    over: bool

    def part(self) -> dict[str, object]:
        """As a message holds it."""
        one = self.matter
        return {
            "code": one.code, "about": one.about, "title": one.title, "sentence": one.sentence, "to": one.to,
            "over": self.over, "urgent": one.urgent,
        }  # fmt: skip

    @property
    def thread(self) -> str:
        """Those of a run are one conversation."""
        return self.matter.to.strip("/").replace("/", "-") if self.matter.to.startswith("/runs/") else ""


def _tell(begun: Iterable[Matter], over: Iterable[Matter], now: datetime) -> None:
    said = [
        *(_Said(one, over=False) for one in begun),
        *(_Said(one if one.code == "run-ended" else _end_of(one), over=True) for one in over),
    ]
    if not said:
        return
    for webhook in Webhook.objects.filter(enabled=True):
        for one in said:
            if topic_of(one.matter.code) in webhook.topics:
                Message.objects.create(
                    webhook=webhook, thread=one.thread, parts=[one.part()], made_at=now, not_before=now
                )
    if not OPTIONS.mail_server:
        return
    zone = ZoneInfo(organisation().time_zone)
    kept = {one.user_id: one for one in Preference.objects.all()}
    for user in User.objects.filter(is_active=True).exclude(email=""):
        chosen = kept.get(user.pk)
        if chosen is None or chosen.by_mail:
            _tell_person(user, chosen, _within_reach(user, said), now, zone)


def _within_reach(user: User, said: Iterable[_Said]) -> list[_Said]:
    """Without what the person may not see."""
    reach = seen_by_user(user.username)
    if reach == EVERYTHING:
        return list(said)
    approvals = {str(row.pk) for row in recent(reach)}
    return [
        one
        for one in said
        if (
            one.matter.about in approvals
            if one.matter.code == "approval"
            else leads_into(one.matter.to, reach)
        )
    ]


def _tell_person(
    user: User, chosen: Preference | None, said: Iterable[_Said], now: datetime, zone: ZoneInfo
) -> None:
    """One message for each conversation and moment: what comes together is read together."""
    topics = USUAL if chosen is None else chosen.topics
    quiet = read_quiet_hours(chosen.quiet_from, chosen.quiet_to) if chosen is not None else None
    together: dict[tuple[str, datetime], list[_Said]] = {}
    for one in said:
        if wants(one.matter, user.username, topics):
            at = waits_until(one.matter, user.username, quiet, now, zone) or now
            together.setdefault((one.thread, at), []).append(one)
    _write(user, together, now)


def _write(user: User, together: Mapping[tuple[str, datetime], list[_Said]], now: datetime) -> None:
    for (thread, at), ones in together.items():
        parts = [one.part() for one in sorted(ones, key=lambda one: not one.matter.urgent)]
        Message.objects.create(user=user, thread=thread, parts=parts, made_at=now, not_before=at)
