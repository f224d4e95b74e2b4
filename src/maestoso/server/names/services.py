"""What can be done with zones, and what they say."""

from __future__ import annotations

import asyncio
import binascii
from base64 import b64decode
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

from django.db.models import Q

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.landing.names import Known
from maestoso.core.model.names import KnownName, RecordType, canonical, is_name, zone_of
from maestoso.core.ports import Clock
from maestoso.core.runs.operations import Operation
from maestoso.names.zone_server import ALGORITHMS, ServerRefused, ServerSilent, ZoneServers, ask, try_key
from maestoso.server.audit.record import recorded
from maestoso.server.common.news import announce
from maestoso.server.common.secret_text import seal
from maestoso.server.names.models import KnownNameRow, Zone
from maestoso.server.names.shapes import KnownNameView, ServerTried, ZoneSave, ZoneTried, ZoneView
from maestoso.server.outbox.secrets import Filled, secrets_for
from maestoso.server.plans.services import newest_versions

MOST_OTHERS = 8
LEAST_SECRET, MOST_SECRET = 16, 128
"""Bytes of a key; shorter ones can be guessed."""
READ_EVERY = timedelta(minutes=1)
USUAL_PORT = 53
Wanted = Mapping[str, Mapping[tuple[str, RecordType], frozenset[str]]]
"""By zone, the names and types that plans change, with the codes of those plans."""


def everything() -> list[ZoneView]:
    """All zones, with what plans change of them."""
    rows = list(Zone.objects.prefetch_related("known"))
    wanted = _wanted(row.name for row in rows)
    return [_view(row, wanted) for row in rows]


def zones() -> dict[str, str]:
    """Every zone, with why it could not be read when that was tried last; empty where it could."""
    return dict(Zone.objects.values_list("name", "problem"))


def known_names() -> Known:
    """What zones said when they were read last."""
    found = (row.core() for row in KnownNameRow.objects.all())
    return {(one.name, one.type): one for one in found}


def names_mark() -> str:
    """Tells one state of all zones from another."""
    newest = KnownNameRow.objects.order_by("-since").values_list("since", flat=True).first()
    saved = Zone.objects.order_by("name").values_list("name", "revision", "problem")
    return f"{newest} {list(saved)}"


@recorded()
def keep_zone(name: str, sent: ZoneSave, *, author: str, at: datetime) -> None:
    """Keep a zone without asking its servers. Raises BadValue, or Stale where somebody saved in between."""
    name = canonical(name)
    if not is_name(name):
        raise BadValue(
            f"{name[:80]!r} is no zone.", "Write it whole, such as tidewell.example.", field="zone"
        )
    primary = _server(sent.primary, "body.primary")
    if len(sent.others) > MOST_OTHERS:
        said = f"There are {len(sent.others)} other servers."
        raise BadValue(said, f"Give at most {MOST_OTHERS}.", field="body.others")
    others = [_server(one, f"body.others[{number}]") for number, one in enumerate(sent.others)]
    if not is_name(f"{canonical(sent.key_name)}.key"):
        said = f"{sent.key_name[:80]!r} is no name of a key."
        raise BadValue(said, "Write it as its server does, such as maestoso.", field="body.key_name")
    if sent.algorithm not in ALGORITHMS:
        said = f"{sent.algorithm[:40]!r} is not known."
        raise BadValue(said, f"Use one of: {', '.join(ALGORITHMS)}.", field="body.algorithm")
    row = Zone.objects.select_for_update().filter(name=name).first()
    if (row.revision if row else 0) != sent.based_on:
        by = f"{row.author} saved revision {row.revision} of {name}" if row else f"{name} was taken away"
        raise Stale(f"{by} in between.", "Load it again; what you typed is still there.")
    if not sent.secret and row is None:
        raise BadValue("The secret of the key is missing.", "Give it in base64.", field="body.secret")
    row = row or Zone(name=name, revision=0)
    if sent.secret:
        row.sealed = seal(_secret(sent.secret))
    row.primary, row.others = primary, list(dict.fromkeys(one for one in others if one != primary))
    row.key_name, row.algorithm = canonical(sent.key_name), sent.algorithm
    row.author, row.saved_at, row.revision = author, at, row.revision + 1
    row.save()
    announce()


def save(name: str, sent: ZoneSave, *, author: str, clock: Clock) -> ZoneView:
    """Keep a zone, and read its names. Raises BadValue, or Stale where somebody saved in between."""
    keep_zone(name, sent, author=author, at=clock.now())
    row = _row(name)
    wanted = _wanted([row.name])
    return _view(_read(row, wanted, clock), wanted)


def _server(text: str, field: str) -> str:
    """``host:port`` of what was typed."""
    host, colon, port = text.strip().rpartition(":")
    if not colon or (host.count(":") and not host.endswith("]")):
        host, port = text.strip().strip("[]"), str(USUAL_PORT)
        host = f"[{host}]" if ":" in host else host
    fits = port.isdecimal() and 0 < int(port) < 2**16 and 0 < len(host) <= 255
    if not fits or any(letter.isspace() or letter in "/@" for letter in host):
        mend = "Write its host and port, such as ns1.tidewell.example:53."
        raise BadValue(f"{text[:80]!r} is no server.", mend, field=field)
    return f"{host}:{int(port)}"


def _secret(text: str) -> str:
    # The message must not repeat it.
    try:
        length = len(b64decode(text.strip(), validate=True))
    except (binascii.Error, ValueError):
        length = 0
    if not LEAST_SECRET <= length <= MOST_SECRET:
        raise BadValue(
            f"The secret is no base64 of {LEAST_SECRET} to {MOST_SECRET} bytes.",
            "Copy it from the settings of the name server, without quotation marks.", field="body.secret",
        )  # fmt: skip
    return text.strip()


def move_practice_zones(servers: Iterable[ZoneServers]) -> None:
    """Look for the demo's name server where it is now: its port may have been changed."""
    for one in servers:
        row = Zone.objects.filter(name=one.zone).first()
        if row is not None and row.servers().secret == one.secret:
            Zone.objects.filter(pk=row.pk).update(primary=one.primary)


@recorded()
def remove(name: str) -> None:
    """Forget a zone. Raises Refused while a plan changes names of it."""
    row = _row(name)
    plans = sorted({code for codes in _wanted([row.name])[row.name].values() for code in codes})
    if plans:
        raise Refused(
            f"{row.name} is used by {', '.join(plans)}.", "Take its names out of these plans first."
        )
    row.delete()
    announce()


def trial(name: str, clock: Clock) -> ZoneTried:
    """Ask every server for the zone, and the primary for a change of nothing; read its names anew."""
    row = _row(name)
    tried = asyncio.run(_try_all(row.servers()))
    _read(row, _wanted([row.name]), clock)
    return ZoneTried(servers=tuple(tried))


async def _try_all(servers: ZoneServers) -> list[ServerTried]:
    return list(await asyncio.gather(*(_try(servers, server) for server in servers.all)))


async def _try(servers: ZoneServers, server: str) -> ServerTried:
    said = "It answers for the zone."
    try:
        await ask(server, servers.zone, servers.zone, "A")
        if server == servers.primary:
            await try_key(servers)
            said = "It answers for the zone, and takes changes with this key."
    except (ServerSilent, ServerRefused) as error:
        return ServerTried(server=server, well=False, said=str(error))
    return ServerTried(server=server, well=True, said=said)


def read_zones(clock: Clock) -> None:
    """Read what is due: every zone once in a while, as plans know what is put back by it."""
    due = Q(read_at__isnull=True) | Q(read_at__lte=clock.now() - READ_EVERY)
    rows = list(Zone.objects.filter(due))
    # All plans are read for that, once for all zones.
    wanted = _wanted(row.name for row in rows) if rows else {}
    for row in rows:
        _read(row, wanted, clock)


def read_names(names: Iterable[str], clock: Clock) -> None:
    """Read the zones of these names now."""
    every = {row.name: row for row in Zone.objects.all()}
    due = {zone_of(canonical(name), tuple(every)) for name in names} - {None}
    wanted = _wanted(zone for zone in due if zone)
    for zone in wanted:
        _read(every[zone], wanted, clock)


def read_soon(zones_changed: Iterable[str]) -> None:
    """Let these be read the next time that somebody looks after zones."""
    Zone.objects.filter(name__in=list(zones_changed)).update(read_at=None)


def _read(row: Zone, wanted: Wanted, clock: Clock) -> Zone:
    """What the primary says of all names that plans change; what it does not say stays as it was known."""
    names = sorted(wanted[row.name])
    found, problem = asyncio.run(_ask_all(row.servers(), names))
    now = clock.now()
    known = {(one.name, one.type): one for one in row.known.all()}
    changed = problem != row.problem
    for one in found:
        before = known.pop((one.name, one.type), None)
        if before is None or before.core() != one:
            changed = True
            what = {"values": list(one.values), "ttl_s": one.ttl_s, "since": now}
            KnownNameRow.objects.update_or_create(zone=row, name=one.name, type=one.type, defaults=what)
    if not problem:
        KnownNameRow.objects.filter(pk__in=[left.pk for left in known.values()]).delete()
    Zone.objects.filter(pk=row.pk).update(read_at=now, problem=problem)
    if changed or known:
        announce()
    return Zone.objects.get(pk=row.pk)


async def _ask_all(
    servers: ZoneServers, names: Sequence[tuple[str, RecordType]]
) -> tuple[list[KnownName], str]:
    wanted = names or [(servers.zone, "A")]  # also one that no plan uses yet is asked whether it is there
    asked = (ask(servers.primary, servers.zone, name, kind) for name, kind in wanted)
    answers = await asyncio.gather(*asked, return_exceptions=True)
    wrong = [one for one in answers if isinstance(one, BaseException)]
    for one in wrong:
        if not isinstance(one, ServerSilent | ServerRefused):
            raise one
    found = [one for one in answers if isinstance(one, KnownName)]
    return (found if names else []), str(wrong[0])[:300] if wrong else ""


@secrets_for("publish-names", "put-names-back")
def _with_servers(operation: Operation) -> Filled:
    """A zone that is not known any more stays away; the step says which."""
    wanted = {one["zone"] for one in operation.args["names"]}
    rows = list(Zone.objects.filter(name__in=wanted))
    used = [f"the key {row.key_name} of {row.name}" for row in rows]
    return Filled({**operation.args, "zones": [to_data(row.servers()) for row in rows]}, used)


def _wanted(zones_asked: Iterable[str]) -> Wanted:
    found: dict[str, dict[tuple[str, RecordType], frozenset[str]]] = {zone: {} for zone in zones_asked}
    every = tuple(Zone.objects.values_list("name", flat=True))
    for version in newest_versions():
        for _, _, cue in version.core().placed_cues():
            for record in cue.names.records if cue.names else ():
                zone = zone_of(record.name, every)
                if zone in found:
                    key = (canonical(record.name), record.type)
                    found[zone][key] = found[zone].get(key, frozenset()) | {version.plan.code}
    return found


def _row(name: str) -> Zone:
    row = Zone.objects.filter(name=canonical(name)).first()
    if row is None:
        raise NotFound(f"There is no zone {name[:80]!r}.", "Choose one under Settings, Names.")
    return row


def _view(row: Zone, wanted: Wanted) -> ZoneView:
    used = {code for codes in wanted[row.name].values() for code in codes}
    names = tuple(
        KnownNameView(
            name=one.name, type=one.type, values=tuple(one.values), ttl_s=one.ttl_s, since=one.since
        )
        for one in row.known.all()
    )
    return ZoneView(
        zone=row.name, primary=row.primary, others=tuple(row.others), key_name=row.key_name,
        algorithm=row.algorithm, author=row.author, saved_at=row.saved_at, revision=row.revision,
        read_at=row.read_at, problem=row.problem, used_by=tuple(sorted(used)), names=names,
    )  # fmt: skip
