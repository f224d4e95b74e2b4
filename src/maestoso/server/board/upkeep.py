"""What the board says of Maestoso itself: whether anybody conducts, works, backs up and follows."""

from __future__ import annotations

from datetime import datetime

from maestoso.core.wording import lasting
from maestoso.server.backups.services import trouble_of_backups
from maestoso.server.estate.models import Site
from maestoso.server.jobs.services import nobody_works
from maestoso.server.readiness.shapes import NextAction
from maestoso.server.reign import lease, standbys
from maestoso.server.reign.services import past_because
from maestoso.server.runs.beats import silent


def of_itself(now: datetime) -> list[NextAction]:
    """What is to be done so that it goes on conducting, and would outlive its machine."""
    return [
        *_from_reign(),
        *_from_witness(),
        *_from_engines(),
        *_from_workers(),
        *_from_backups(now),
        *_from_standbys(),
    ]


def _from_reign() -> list[NextAction]:
    """Somebody else conducts: whoever looks at this board looks at the wrong one."""
    why = past_because()
    if not why:
        return []
    return [
        NextAction(
            code="reign-past", urgency="now", title="This Maestoso conducts nothing any more",
            sentence=f"{why} Go on there. This one can become its standby.",
            label="How to", to="/help/operations#the-way-back",
        )
    ]  # fmt: skip


def _from_witness() -> list[NextAction]:
    """The witness does not renew the lease, without which nothing is conducted."""
    now = lease.standing()
    if not now.witness or past_because() or not (now.trouble or now.withheld):
        return []
    without = "If it is lost, go on without it: Settings, Backups."
    if now.withheld:
        return [
            NextAction(
                code="lease-over", urgency="now", title="Nothing is conducted: the lease is over",
                sentence=f"{now.withheld} A standby may have taken over. {without}",
                label="See the witness", to="/settings/backups",
            )
        ]  # fmt: skip
    return [
        NextAction(
            code="witness-silent", urgency="soon", title=f"{now.witness} does not renew the lease",
            sentence=f"{now.trouble} Once the lease is over, sites are asked for nothing. {without}",
            label="See the witness", to="/settings/backups",
        )
    ]  # fmt: skip


def _from_engines() -> list[NextAction]:
    """Nobody conducts runs: what is started stays where it is."""
    quiet = silent()
    if quiet is None:
        return []
    return [
        NextAction(
            code="engine-silent", urgency="now", title="No engine is at work: runs stand still",
            sentence=f"None was heard for {lasting(quiet.total_seconds())}. Runs that are started wait, and "
            "those under way go on when one is back. On its machine, ./maestoso doctor says what is wrong.",
            label="See the runs", to="/runs",
        )
    ]  # fmt: skip


def _from_workers() -> list[NextAction]:
    """Somebody waits for a job that nobody takes."""
    waited = nobody_works()
    if waited is None:
        return []
    return [
        NextAction(
            code="workers-silent", urgency="soon", title="Nobody works at jobs",
            sentence=f"One has waited for {lasting(waited.total_seconds())}: reports, exports, imports and "
            "rehearsals are not made. Runs go on. On its machine, ./maestoso doctor says what is wrong.",
            label="See your jobs", to="/jobs",
        )
    ]  # fmt: skip


def _from_backups(now: datetime) -> list[NextAction]:
    """Whether the records would outlive this machine; nothing where all of it is practice."""
    said = trouble_of_backups(now)
    if said is None or not Site.objects.filter(practice=False).exists():
        return []
    return [
        NextAction(
            code="backup-late", urgency="now" if said.late else "sometime", title=said.title,
            sentence=said.sentence,
            label="How to", to="/help/operations#backups",
        )
    ]  # fmt: skip


def _from_standbys() -> list[NextAction]:
    """A port is open for a standby, and none follows."""
    if not standbys.are_expected() or standbys.following():
        return []
    return [
        NextAction(
            code="no-standby", urgency="soon", title="No standby follows this Maestoso",
            sentence="If this machine is lost now, only the sites know what was done since the last backup.",
            label="How to", to="/help/operations#the-standby",
        )
    ]  # fmt: skip
