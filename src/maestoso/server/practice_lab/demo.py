"""Loads a scenario through the same services as a person's work, and plays its history.

Past runs are produced by the engine's own rules on practice worlds in virtual time, never written by hand.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from django.contrib.auth.hashers import make_password
from django.contrib.auth.models import User

from maestoso.core.codec import from_data, to_data
from maestoso.core.drills.schedule import Blackout, Drill
from maestoso.core.model.crosswalk import Crosswalk
from maestoso.core.people.approvals import ApprovalRule
from maestoso.core.people.roles import ADMINISTRATOR
from maestoso.core.planning.inputs import RunInputs
from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.ports import Clock
from maestoso.core.readiness.assess import Options
from maestoso.core.runs.events import Draft, Event
from maestoso.core.runs.state import RunState
from maestoso.names.zone_server import ZoneServers
from maestoso.practice.name_server import PracticeNames
from maestoso.practice.rehearsal import Rehearsal
from maestoso.practice.scenario import Scenario
from maestoso.practice.spec import Fault
from maestoso.practice.world import World
from maestoso.server.access.models import RoleGrant
from maestoso.server.approvals.services import ask, save_rules
from maestoso.server.config.settings import OPTIONS
from maestoso.server.crosswalks.services import make_crosswalk, make_twin
from maestoso.server.drills.services import make_blackout, make_drill
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.models import Site
from maestoso.server.estate.services import register_site, save_link
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.names.services import keep_zone
from maestoso.server.names.shapes import ZoneSave
from maestoso.server.organisation.models import Organisation
from maestoso.server.plans.services import find_plan, make_plan, save_plan
from maestoso.server.protection.services import advance_stage, make_group, store_key
from maestoso.server.readiness.shapes import RunOptions
from maestoso.server.readiness.starts import record_played_run
from maestoso.server.readiness.surroundings import context
from maestoso.server.runs.shapes import TrapSave
from maestoso.server.runs.traps import add_trap
from maestoso.server.scripts.services import save_script, store_secret
from maestoso.server.scripts.shapes import ScriptSave

AUTHOR = "administrator"
Say = Callable[[str], None]


def load_people(scenario: Scenario, password: str, at: datetime) -> None:
    """The administrator and the people of the scenario; one password lets all in, to try roles out."""
    administrator = {"name": AUTHOR, "full_name": "", "mail": "", "roles": [ADMINISTRATOR]}
    hashed = make_password(password)
    for row in (administrator, *scenario.data("people").get("people", [])):
        user = User.objects.create(
            username=row["name"], first_name=row["full_name"], email=row["mail"], password=hashed
        )
        for role in row["roles"]:
            RoleGrant.objects.create(user=user, role=role, by=AUTHOR, at=at)
    _load_approvals(scenario.data("people").get("approvals", {}), at)


def _load_approvals(row: dict[str, Any], at: datetime) -> None:
    for rule in save_rules([from_data(ApprovalRule, one) for one in row.get("rules", [])], AUTHOR):
        for asked in row.get("asked", []):
            if (asked["plan"], asked["kind"]) == (rule.plan, rule.kind):
                plan, kind = find_plan(rule.plan), asked["kind"]
                options = RunOptions(kind=kind, sync_first=kind == "planned", pace=OPTIONS.pace)
                ask(
                    rule, plan=plan.code, plan_name=plan.version().core().name, version=plan.current,
                    options=to_data(options), reason=asked["reason"],
                    by=User.objects.get(username=asked["by"]), at=at - timedelta(hours=asked["hours_ago"]),
                )  # fmt: skip


def load(scenario: Scenario, *, agent_urls: dict[str, str], token: str, clock: Clock, say: Say) -> None:
    """Load everything; the practice sites must be up, because inventories are fetched from them."""
    for code in scenario.site_codes():
        row = scenario.site(code)
        site = register_site(
            code=code, name=row["name"], kind=row["kind"], time_zone=row["time_zone"],
            agent=AgentAt(agent_url=agent_urls[code], token=token), clock=clock,
        )  # fmt: skip
        say(f"{row['name']}: {site.workloads.count()} workloads")
    for link in scenario.links():
        save_link(link)
    Organisation.objects.create(organisation=scenario.organisation, time_zone=scenario.time_zone, revision=0)
    keys = {row["code"]: row["key"] for row in scenario.data("protection").get("groups", []) if "key" in row}
    copied = {code for site in Site.objects.all() for code in pulse(site).newest}
    for group in scenario.groups():
        made = make_group(group)
        if group.code in copied:
            advance_stage(made, "seeded")
        if group.code in keys:
            store_key(group.code, keys[group.code])
    for row in scenario.data("crosswalks").get("crosswalks", []):
        crosswalk = from_data(Crosswalk, {key: value for key, value in row.items() if key != "twin"})
        make_crosswalk(crosswalk)
        if row.get("twin"):
            make_twin(crosswalk.source, crosswalk.target)
    now = clock.now()
    library = scenario.data("scripts")
    for name, value in library.get("secrets", {}).items():
        store_secret(name, value, author=AUTHOR, at=now - timedelta(days=120))
    for row in library.get("scripts", []):
        sent = ScriptSave(interpreter=row["interpreter"], text=row["text"], note=row.get("note", ""))
        save_script(row["name"], sent, author=AUTHOR, at=now - timedelta(days=120))
    for one in zone_servers():
        kept = ZoneSave(primary=one.primary, key_name=one.key_name, secret=one.secret)
        keep_zone(one.zone, kept, author=AUTHOR, at=now - timedelta(days=120))
    rows = scenario.data("plans").get("plans", [])
    for plan in scenario.plans():
        make_plan(plan, author=AUTHOR, at=now - timedelta(days=120))
    say(f"{len(rows)} plans")
    calendar = scenario.data("drills")
    for drill in calendar.get("drills", []):
        make_drill(from_data(Drill, drill), now)
    for blackout in calendar.get("blackouts", []):
        make_blackout(from_data(Blackout, blackout))
    for row in scenario.data("history").get("runs", []):
        say(_play(scenario, row, now))
    for row in rows:
        if "then" in row:
            _change(row["code"], row["then"], now - timedelta(days=19))


def zone_servers() -> list[ZoneServers]:
    """The zones of the scenario at the demo's own name server."""
    names = PracticeNames(home=OPTIONS.var / "names", port=OPTIONS.names_port, scenario=OPTIONS.scenario)
    return [names.servers(zone) for zone in names.zones]


def _change(code: str, then: dict[str, Any], at: datetime) -> None:
    version = find_plan(code).version()
    plan = version.core()
    waves = tuple(
        replace(
            wave,
            members=tuple(
                replace(m, delay_s=then["delay_s"].get(m.workload, m.delay_s)) for m in wave.members
            ),
        )
        for wave in plan.waves
    )
    save_plan(
        code, replace(plan, waves=waves), based_on=version.number, author=AUTHOR, at=at,
        summary=then["summary"],
    )  # fmt: skip


def _play(scenario: Scenario, row: dict[str, Any], now: datetime) -> str:
    hour, minute = map(int, row["at"].split(":"))
    at = (now - timedelta(days=row["days_ago"])).replace(hour=hour, minute=minute, second=0, microsecond=0)
    version = find_plan(row["plan"]).version()
    plan = version.core()
    begin = at - timedelta(days=20)
    world = World(scenario.spec(plan.target, begin), begin, past=False)
    for fault in row.get("faults", []):
        world.add_fault(from_data(Fault, fault), world.now)
    world.advance(at.timestamp())
    newest = {group: world.points(group)[-1] for group in world.replication.copying}
    ctx = context(plan, version.number, at, newest)

    def play(inputs: RunInputs, start: datetime) -> list[Event]:
        rehearsal = Rehearsal(f"history-{inputs.mark}", inputs, {plan.target: world}, start, AUTHOR)
        state = rehearsal.play(_person(row))
        if not state.finished or world.remains(inputs.mark):
            raise RuntimeError(f"The history of {plan.name} did not come to a clean end.")
        return rehearsal.log

    run = record_played_run(ctx, Options(points={}), by=AUTHOR, at=at, play=play)
    for trap in row.get("traps", []):
        add_trap(from_data(TrapSave, {**trap, "run": run.pk}), by=AUTHOR, at=at + timedelta(hours=1))
    return f"past test of {plan.name}, {row['days_ago']} days ago: {run.outcome}"


def _person(row: dict[str, Any]) -> Callable[[RunState], tuple[Draft, float] | None]:
    """What the person at the time did: answered after a while, tried again once, then judged."""

    def act(state: RunState) -> tuple[Draft, float] | None:
        failed = sorted(state.failed)
        if failed:
            step = failed[0]
            if state.steps[step].attempt == 1:
                return Draft(kind="step.retried", data={"step": step}, by=AUTHOR), 95.0
            reason = "Tried twice; the rest of the test was wanted."
            return Draft(kind="step.skipped", data={"step": step, "reason": reason}, by=AUTHOR), 60.0
        holds = sorted(state.persons - {VERDICT})
        if holds:
            return Draft(kind="hold.answered", data={"step": holds[0], "text": "Done."}, by=AUTHOR), 80.0
        if VERDICT in state.persons:
            data = {"verdict": row["verdict"], "notes": row["notes"]}
            return Draft(kind="verdict.given", data=data, by=AUTHOR), 600.0
        return None

    return act


def is_loaded() -> bool:
    """Whether any site is known, so that a second start loads nothing twice."""
    return Site.objects.exists()
