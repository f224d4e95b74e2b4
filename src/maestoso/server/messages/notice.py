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
    SETTLES_AFTER,
    EscalationStep,
    Matter,
    news,
    read_quiet_hours,
    read_time,
    steps_due,
    topic_of,
    usual,
    waits_until,
    wants,
)
from maestoso.core.people.roles import APPROVE, permissions_of
from maestoso.core.people.scope import EVERYTHING, NOTHING
from maestoso.core.ports import Clock
from maestoso.core.runs.needs import needs
from maestoso.server.access.holders import holders, people_meant
from maestoso.server.access.models import RoleGrant
from maestoso.server.access.reach import seen_by_user
from maestoso.server.access.roles import known_roles
from maestoso.server.approvals.services import recent
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.readiness import leads_into
from maestoso.server.board.stored import TOO_OLD
from maestoso.server.config.settings import OPTIONS
from maestoso.server.messages.events import flows, write_matters
from maestoso.server.messages.models import Escalation, Message, Noticed, OpenMatter, Preference, Webhook
from maestoso.server.organisation.services import organisation
from maestoso.server.runs.models import Run
from maestoso.server.runs.states import each

KEPT = timedelta(days=30)
BEGUN, ENDED = "run-started", "run-ended"


def notice(clock: Clock) -> None:
    """Write messages for what began, and for what is over, since the last look."""
    now = clock.now()
    if not (OPTIONS.mail_server or flows() or Webhook.objects.filter(enabled=True).exists()):
        # Whoever is to be told some day is not told of what was so until then.
        if Noticed.objects.exists():
            Noticed.objects.all().delete()
        return
    board = StoredBoard.objects.filter(pk=1, made_at__gt=now - TOO_OLD).first()
    if board is None and not Noticed.objects.exists():
        return  # what was so before is not known yet
    found = [*_of_runs(), *(_of_board(board) if board is not None else ())]
    with transaction.atomic():
        last = max([run.about for run in found if run.code == BEGUN], default="0", key=int)
        row, fresh = Noticed.objects.select_for_update().get_or_create(
            pk=1, defaults={"since": now, "last_run": int(last)}
        )
        if fresh:
            OpenMatter.objects.all().delete()
        rows = {one.key: one for one in OpenMatter.objects.all()}
        begun, over = news(rows, found)
        at_once = [one for one in begun if one.code not in SETTLES_AFTER]
        OpenMatter.objects.bulk_create(
            OpenMatter(key=one.key, matter=to_data(one), begun_at=now, told=fresh or one in at_once)
            for one in begun
        )
        settled = [
            matter
            for key, one in rows.items()
            if not one.told
            and key not in over
            and now - one.begun_at >= SETTLES_AFTER[(matter := one.core()).code]
        ]
        OpenMatter.objects.filter(key__in=[one.key for one in settled]).update(told=True)
        ended = [rows[key] for key in over if board is not None or _is_of_a_run(rows[key].core())]
        OpenMatter.objects.filter(pk__in=[one.pk for one in ended]).delete()
        if not fresh:
            short = _short_runs(row.last_run, {one.about for one in found})
            again = [one.core() for one in ended if one.told]
            _tell([*at_once, *settled, *short], [*filter(_is_told_again, again), *short], now)
            _escalate(now)
        row.last_run = max([row.last_run, *(run.pk for run in Run.objects.order_by("-pk")[:1])])
        row.save()


def forget_old(clock: Clock) -> None:
    """Let go of what was told long ago."""
    Message.objects.filter(made_at__lt=clock.now() - KEPT).delete()


def escalation() -> tuple[EscalationStep, ...]:
    """Who is told in turn when nobody looks."""
    row = Escalation.objects.first()
    return from_data(tuple[EscalationStep, ...], row.steps) if row is not None else ()


def note_seen(run: int, by: str, now: datetime) -> None:
    """Somebody who may answer looks at what a run needs: nobody else is told in their place."""
    unseen = OpenMatter.objects.filter(seen_at=None, matter__to=f"/runs/{run}")
    unseen.update(seen_at=now, seen_by=by)


def _escalate(now: datetime) -> None:
    """Of what runs need, and nobody has looked at: those who come next are told, whatever they chose."""
    steps = escalation()
    if not steps or not OPTIONS.mail_server:
        return
    held = holders()
    for row in OpenMatter.objects.filter(seen_at=None, steps__lt=len(steps)):
        matter = row.core()
        due = steps_due(steps, now - row.begun_at) if topic_of(matter.code) == NEEDS else 0
        if due <= row.steps:
            continue
        minutes = int((now - row.begun_at).total_seconds() // 60)
        said = _Said(
            replace(matter, title=f"Nobody has looked for {minutes} min: {matter.title}"), over=False
        )
        names = {name for step in steps[row.steps : due] for name in people_meant(step.who, held)}
        for user in User.objects.filter(username__in=names, is_active=True).exclude(email=""):
            _write(user, {(said.thread, now): _within_reach(user, [said])}, now)
        OpenMatter.objects.filter(pk=row.pk).update(steps=due)


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
    held = holders()
    for run, state in each(Run.objects.filter(outcome="", last_seq__gt=0)):
        yield _began(run)
        for need in needs(state):
            step = next((one for one in state.graph.steps if one.id == need.step), None)
            wanted = step.args.get("who", ()) if step is not None else ()
            yield Matter(
                code="run-needs", about=f"{run.pk}/{need.kind}/{need.step}",
                title=f"{run.plan_name} needs somebody: {need.title}", sentence=need.text,
                to=f"/runs/{run.pk}", urgent=True,
                who=people_meant(wanted, held),
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
        return replace(matter, code=ENDED, title=f"Run {matter.about} is gone", sentence="")
    return replace(
        matter, code=ENDED, title=f"{run.plan_name}: the {run.kind} run ended, {run.outcome}",
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
    ends = map(_end_of, over)
    said = [*(_Said(one, over=False) for one in begun), *(_Said(one, over=one.code != ENDED) for one in ends)]
    if not said:
        return
    write_matters((one.part() for one in said), now)
    for webhook in Webhook.objects.filter(enabled=True):
        for one in said:
            if topic_of(one.matter.code) in webhook.topics:
                Message.objects.create(
                    webhook=webhook,
                    thread=one.thread,
                    parts=[one.part()],
                    made_at=now,
                    due_at=now,
                    not_before=now,
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
    if reach == NOTHING:
        return []
    mine = {str(row.pk) for row in recent(reach)} if APPROVE in held_by(user) else set()

    def concerns(one: _Said) -> bool:
        if one.matter.code == "approval":
            return one.matter.about in mine
        return reach == EVERYTHING or leads_into(one.matter.to, reach)

    return list(filter(concerns, said))


def held_by(user: User) -> frozenset[str]:
    """What somebody may do."""
    roles = list(RoleGrant.objects.filter(user=user).values_list("role", flat=True))
    return frozenset(permissions_of(roles, known_roles(roles)))


def _tell_person(
    user: User, chosen: Preference | None, said: Iterable[_Said], now: datetime, zone: ZoneInfo
) -> None:
    """One message for each conversation and moment: what comes together is read together."""
    topics = usual(held_by(user)) if chosen is None else chosen.topics
    quiet = read_quiet_hours(chosen.quiet_from, chosen.quiet_to) if chosen is not None else None
    daily = read_time(chosen.daily_at, "daily_at") if chosen is not None and chosen.daily_at else None
    together: dict[tuple[str, datetime], list[_Said]] = {}
    for one in said:
        if wants(one.matter, user.username, topics):
            at = waits_until(one.matter, user.username, quiet, daily, now, zone) or now
            together.setdefault((one.thread, at), []).append(one)
    _write(user, together, now)


def _write(user: User, together: Mapping[tuple[str, datetime], list[_Said]], now: datetime) -> None:
    for (thread, at), ones in together.items():
        if not ones:
            continue
        parts = [one.part() for one in sorted(ones, key=lambda one: not one.matter.urgent)]
        Message.objects.create(user=user, thread=thread, parts=parts, made_at=now, due_at=at, not_before=at)
