"""What can be done with sites, their pools, networks and front doors, and links."""

from __future__ import annotations

import re
import zoneinfo
from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any, Literal

from django.db import transaction
from django.db.models import ProtectedError, Q

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused
from maestoso.core.estate.checks import inventory_complaints, link_check, odd_machines, unreadable
from maestoso.core.model.estate import Inventory, OddMachine
from maestoso.core.model.estate import Link as LinkValue
from maestoso.core.ports import Clock
from maestoso.server.audit.changes import noted
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import unseal
from maestoso.server.config.settings import OPTIONS, SECRETS
from maestoso.server.estate import retired, usage
from maestoso.server.estate.agents import LARGE_PATIENCE_S, ask, needed
from maestoso.server.estate.models import Link, Site, WorkloadRow
from maestoso.server.estate.shapes import AgentAt
from maestoso.server.estate.snapshot import mark_changed
from maestoso.server.estate.trust import reach_agent, verbs_of
from maestoso.sites.contract import SitePulse
from maestoso.sites.verbs import VERBS

SITE_CODE = re.compile(r"[A-Z][A-Z0-9]{1,7}")
PRACTICE = "practice"
Thing = Literal["host_pools", "storage_pools", "networks", "front_doors"]


def find_site(code: str) -> Site:
    """The site of that code. Raises NotFound."""
    site = Site.objects.filter(code=code).first()
    if site is None:
        known = ", ".join(Site.objects.values_list("code", flat=True))
        raise NotFound(f"There is no site {code!r}.", f"Known: {known}." if known else "There is none yet.")
    return site


def register_site(
    *, code: str, name: str, kind: str, time_zone: str, agent: AgentAt, clock: Clock, fetch: bool = True
) -> Site:
    """Make a site known and fetch its inventory from its agent.

    Its address may be ``practice``: then the practice sites of this installation simulate it. Raises
    Refused where the agent does not answer, BadValue where a field does not fit.
    """
    if not SITE_CODE.fullmatch(code):
        raise BadValue(f"{code!r} is no code for a site.", "Give 2 to 8 capital letters.", field="body.code")
    if Site.objects.filter(code=code).exists():
        raise Refused(f"There is a site {code} already.", "Choose another code.", field="body.code")
    if not name.strip() or len(name) > 80:
        raise BadValue("The site has no name, or a long one.", "Give 1 to 80 characters.", field="body.name")
    if kind not in ("datacentre", "cloud"):
        raise BadValue(f"kind is {kind!r}.", "Give datacentre or cloud.", field="body.kind")
    check_zone(time_zone)
    if agent.agent_url == PRACTICE:
        agent = AgentAt(agent_url=practice_address(code), token=SECRETS.site_token)
    site = Site(code=code, name=name.strip(), kind=kind, time_zone=time_zone)
    reach_agent(site, agent)
    has = ask_inventory(site) if fetch else None
    with recorded():
        site.save()
        mark_changed()
        if has is not None:
            pulse, inventory = has
            store_inventory(site, inventory, pulse.inventory, clock)
    return site


def practice_address(code: str) -> str:
    """Where the practice site is that belongs to no scenario."""
    return f"http://127.0.0.1:{OPTIONS.practice_port}/sites/{code}"


def move_practice_sites(scenario: Mapping[str, str]) -> None:
    """Look for the practice sites of this installation where they are now: its ports may have been changed.

    ``scenario`` gives the addresses of those that belong to one. Practice sites of other installations have
    another token and are left alone.
    """
    practising = Site.objects.filter(practice=True, agent_url__startswith="http://127.0.0.1:")
    for site in (one for one in practising if unseal(one.agent_token) == SECRETS.site_token):
        own = site.agent_url.endswith(f"/sites/{site.code}")
        now = practice_address(site.code) if own else scenario.get(site.code, site.agent_url)
        if now != site.agent_url:
            Site.objects.filter(pk=site.pk).update(agent_url=now)


def ask_verbs(site: Site) -> None:
    """Ask what its agent can and write it down. Raises SiteUnreachable or SiteRefused."""
    verbs = verbs_of(ask(site, lambda agent: agent.capabilities()))
    if verbs != site.verbs:
        Site.objects.filter(pk=site.pk).update(verbs=verbs)
        mark_changed()


def lacks(site: Site) -> frozenset[str]:
    """The verbs of the protocol that its agent does not have and should; none while that is not known."""
    wanted = {name for name, verb in VERBS.items() if not verb.for_labs}
    return frozenset() if site.verbs is None else frozenset(wanted - set(site.verbs))


def odd_of(site: Site) -> tuple[OddMachine, ...]:
    """The machines of a site that cannot be taken over."""
    return tuple(from_data(OddMachine, one) for one in site.odd)


def check_zone(name: str) -> None:
    """Raises BadValue for a time zone that does not exist."""
    try:
        zoneinfo.ZoneInfo(name)
    except (zoneinfo.ZoneInfoNotFoundError, ValueError) as error:
        raise BadValue(
            f"{name[:60]!r} is no time zone.", "Give one such as Europe/Lisbon.", field="body.time_zone"
        ) from error


@recorded()
def change_site(code: str, *, name: str, time_zone: str, takes_over: bool) -> Site:
    """Rename a site, or say whether its inventory is taken over by itself."""
    site = find_site(code)
    if not name.strip() or len(name) > 80:
        raise BadValue("The site has no name, or a long one.", "Give 1 to 80 characters.", field="body.name")
    check_zone(time_zone)
    site.name, site.time_zone, site.takes_over = name.strip(), time_zone, takes_over
    site.save()
    return site


KEPT_OF_A_SITE = (
    "code", "name", "kind", "time_zone", "agent_url", "agent_token", "agent_certificate", "practice",
    "takes_over", "inventory", "inventory_mark",
)  # fmt: skip


@recorded()
def retire_site(code: str, *, by: str, at: datetime) -> None:
    """Take a site away that nothing uses. Raises Refused saying by what it is used."""
    site = find_site(code)
    usage.refuse_if_used(site.name, usage.of_site(site))
    body = {field: getattr(site, field) for field in KEPT_OF_A_SITE}
    retired.keep("site", f"{site.name} ({site.code})", body, by=by, at=at)
    try:
        site.delete()
    except ProtectedError as error:
        raise Refused(
            f"Runs that are kept say what was fenced at {site.name}.",
            "It can be retired once their logs are deleted.",
            code="in-use",
        ) from error
    mark_changed()


@retired.way_back("site")
def _bring_site_back(body: dict[str, Any], by: str, at: datetime) -> str:
    """With its agent and what it had; what it has now is fetched or taken over as ever."""
    if Site.objects.filter(code=body["code"]).exists():
        raise Refused(f"There is a site {body['code']} already.", "Retire that one first.")
    Site.objects.create(**body)
    mark_changed()
    return "/estate/sites"


def ask_inventory(site: Site) -> tuple[SitePulse, Inventory]:
    """What the agent says now; of a machine that cannot be taken over, what the records say stands.

    Raises Refused where it says nothing.
    """
    with needed(f"{site.name} does not say what it has"):
        said = ask(site, lambda agent: agent.pulse())
        inventory, odd = ask(site, lambda agent: agent.inventory_and_odd(), LARGE_PATIENCE_S)
    others = set(WorkloadRow.objects.exclude(site=site.pk).values_list("name", flat=True))
    odd = (*odd, *odd_machines(inventory, others))
    site.odd = to_data(sorted({one.name: one for one in odd}.values(), key=lambda one: one.name))
    if site.pk:
        Site.objects.filter(pk=site.pk).update(odd=site.odd)
    if not odd:
        return said, inventory
    names = {one.name for one in odd}
    as_known = tuple(row.core() for row in WorkloadRow.objects.filter(site=site.pk, name__in=names))
    sound = tuple(one for one in inventory.workloads if one.name not in names)
    return said, replace(inventory, workloads=(*sound, *as_known))


@recorded()
def store_inventory(site: Site, inventory: Inventory, mark: str, clock: Clock) -> None:
    """Let the records say ``inventory``; workloads that are in use are not removed. Raises Refused."""
    for _, sentence, _ in unreadable(inventory):
        raise Refused(
            f"What {site.name} says cannot be taken over: {sentence}",
            "Correct it at the site.",
            code="bad-inventory",
        )
    keep_things(site, inventory)
    site.inventory_at, site.inventory_mark = clock.now(), mark
    site.save()
    known = {row.name: row for row in WorkloadRow.objects.filter(site=site)}
    names = {workload.name for workload in inventory.workloads}
    gone = [row for name, row in known.items() if name not in names]
    for row in gone:
        usage.refuse_if_used(row.name, usage.of_workload(row.name))
    WorkloadRow.objects.filter(pk__in=[row.pk for row in gone]).delete()
    fresh, changed = [], []
    for workload in inventory.workloads:
        spec = to_data(workload)
        before = known.get(workload.name)
        if before is None:
            fresh.append(WorkloadRow(name=workload.name, site=site, spec=spec))
        elif before.spec != spec:
            before.spec, before.revision = spec, before.revision + 1
            changed.append(before)
    with noted([*fresh, *changed]):
        WorkloadRow.objects.bulk_create(fresh, batch_size=500)
        WorkloadRow.objects.bulk_update(changed, ["spec", "revision"], batch_size=500)
    mark_changed()


def keep_things(site: Site, inventory: Inventory) -> None:
    """Write everything of an inventory but the workloads into the row, without saving it."""
    site.inventory = {key: value for key, value in to_data(inventory).items() if key != "workloads"}


@recorded()
def change_things(code: str, kind: Thing, item: Any, name: str) -> None:
    """Make (``name`` empty), change, or with ``item`` None retire one pool, network or front door of a site.

    A practice site becomes what the records say; a real one keeps what it has, which drift then shows.
    """
    site = Site.objects.select_for_update().get(pk=find_site(code).pk)
    before = site.things()
    items = list(getattr(before, kind))
    index = next((n for n, known in enumerate(items) if known.name == name), None)
    if name and index is None:
        raise NotFound(f"{site.name} has no {name!r}.", "Choose one that it has.")
    if item is None and index is not None:
        used = {"networks": usage.of_network, "front_doors": usage.of_door}.get(kind, usage.of_pool)
        usage.refuse_if_used(name, used(code, name))
        del items[index]
    elif index is None:
        items.append(item)
    else:
        if item.name != name:
            raise BadValue(
                f"The name would change from {name} to {item.name}.",
                "Names stay; make another.",
                field="body.name",
            )
        items[index] = item
    changed: dict[str, Any] = {kind: tuple(items)}
    after = replace(before, **changed)
    for field, sentence, remedy in inventory_complaints(after):
        raise BadValue(sentence, remedy, field=f"body.{field}")
    keep_things(site, after)
    site.save()
    mark_changed()
    transaction.on_commit(lambda: update_practice_site(site))


def update_practice_site(site: Site) -> None:
    """Let a practice site have what the records say, once they say it. Raises Refused if it is away."""
    if not site.practice:
        return
    told = to_data(site.core())
    remedy = "Start it. Until it is told, the page of the sites shows where it differs."
    with needed(f"That is written down, but the practice site {site.name} was not told", remedy):
        ask(site, lambda agent: agent.practise("inventory", told), LARGE_PATIENCE_S)
        site.inventory_mark = ask(site, lambda agent: agent.pulse()).inventory
    Site.objects.filter(pk=site.pk).update(inventory_mark=site.inventory_mark)


@recorded()
def forgot_seen(code: str) -> Site:
    """Somebody looked at a site whose agent had lost its memory."""
    site = find_site(code)
    site.forgot_at = None
    site.save(update_fields=["forgot_at"])
    return site


def find_link(one: str, other: str) -> Link | None:
    """The link between two sites, whichever way it was written down."""
    ways = Q(one__code=one, other__code=other) | Q(one__code=other, other__code=one)
    return Link.objects.select_related("one", "other").filter(ways).first()


@recorded()
def save_link(value: LinkValue) -> Link:
    """Make or change the link between two sites."""
    link_check(value)
    one, other = find_site(value.one), find_site(value.other)
    if one == other:
        raise BadValue(f"A link from {one.name} to itself carries nothing.", field="body.other")
    row = find_link(value.one, value.other) or Link(one=one, other=other)
    row.bandwidth_bps, row.latency_ms, row.loss = value.bandwidth_bps, value.latency_ms, value.loss
    row.windows = to_data(value.windows)
    row.save()
    mark_changed()
    return row


@recorded()
def retire_link(one: str, other: str, *, by: str, at: datetime) -> None:
    """Take a link away that no group is copied over."""
    row = find_link(one, other)
    if row is None:
        raise NotFound(f"There is no link between {one} and {other}.")
    usage.refuse_if_used(f"The link {one} to {other}", usage.of_link(row))
    retired.keep("link", f"{one} to {other}", to_data(row.core()), by=by, at=at)
    row.delete()
    mark_changed()


@retired.way_back("link")
def _bring_link_back(body: dict[str, Any], by: str, at: datetime) -> str:
    value = from_data(LinkValue, body)
    if find_link(value.one, value.other) is not None:
        raise Refused(f"There is a link between {value.one} and {value.other} already.", "Change that one.")
    save_link(value)
    return "/estate/sites"
