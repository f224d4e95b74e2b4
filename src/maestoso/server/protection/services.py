"""What can be done with groups."""

from __future__ import annotations

import re
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import replace
from datetime import datetime
from typing import Any, cast
from urllib.parse import quote

from django.db import transaction
from django.db.models import Prefetch

from maestoso.core.codec import from_data, to_data
from maestoso.core.errors import BadValue, NotFound, Refused, Stale
from maestoso.core.estate.filter import compile_filter
from maestoso.core.model.protection import Group
from maestoso.core.ports import SiteUnreachable
from maestoso.core.replication.copy_key import LONGEST_KEY, SHORTEST_KEY, fingerprint
from maestoso.core.replication.lifecycle import Happening, Stage, after
from maestoso.core.runs.operations import Operation
from maestoso.server.audit.record import recorded
from maestoso.server.common.secret_text import seal, unseal
from maestoso.server.estate import retired
from maestoso.server.estate.models import Link, Site, WorkloadRow
from maestoso.server.estate.snapshot import estate, mark_changed, part_of_estate, workloads_changed
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.secrets import Filled, secrets_for
from maestoso.server.outbox.services import ask_for, deliver, perform
from maestoso.server.protection.models import GroupMember, GroupRow

CODE = re.compile(r"[a-z0-9][a-z0-9-]{0,38}")
INTERVAL_S = (5, 86400)


def find_group(code: str) -> GroupRow:
    """The group of that code. Raises NotFound."""
    row = GroupRow.objects.select_related("source", "target").filter(code=code).first()
    if row is None:
        raise NotFound(f"There is no group {code!r}.", "Choose one on the page Protection.")
    return row


@recorded()
def make_group(group: Group, key: str = "") -> GroupRow:
    """Protect workloads together, with the key of their copies where these are to be encrypted.

    Raises Refused where one of them is in a group already.
    """
    if not CODE.fullmatch(group.code):
        raise BadValue(
            f"{group.code!r} is no code for a group.",
            "Use small letters, digits and dashes, such as booking-db.",
            field="body.code",
        )
    if GroupRow.objects.filter(code=group.code).exists():
        raise Refused(f"There is a group {group.code} already.", "Choose another code.", field="body.code")
    check_group(group)
    sites = {site.code: site for site in Site.objects.filter(code__in=(group.source, group.target))}
    for code in (group.source, group.target):
        if code not in sites:
            raise NotFound(f"There is no site {code!r}.", "Register the site first.")
    row = GroupRow.objects.create(
        code=group.code, name=group.name, source=sites[group.source], target=sites[group.target],
        policy=to_data(group.policy), tag_rule=group.tag_rule,
        stage=after(group.name, "unprotected", "protect"),
    )  # fmt: skip
    _take_key(row, group, key)
    _set_members(row, group)
    return row


@recorded()
def change_group(code: str, group: Group, revision: int, key: str = "") -> GroupRow:
    """Give a group another name, policy or other members. Raises Stale where somebody was quicker."""
    row = GroupRow.objects.select_for_update().get(pk=find_group(code).pk)
    if row.revision != revision:
        raise Stale(f"{row.name} was changed in between.", "Look at what it is now, then change it again.")
    for field, before in (("source", row.source.code), ("target", row.target.code), ("code", row.code)):
        if getattr(group, field) != before:
            raise BadValue(
                f"{field} is {getattr(group, field)!r}; this group's is {before!r}.",
                "It cannot be changed; end its protection and make another group.",
                field=f"body.{field}",
            )
    check_group(group)
    row.name, row.policy, row.tag_rule = group.name, to_data(group.policy), group.tag_rule
    row.stage = after(row.name, cast(Stage, row.stage), "changed")
    row.revision += 1
    row.save()
    _take_key(row, group, key)
    _set_members(row, group)
    return row


def add_members(code: str, names: Iterable[str]) -> GroupRow:
    """Let more workloads be members, named one by one."""
    row = find_group(code)
    known = named_members(row)
    wanted = tuple(dict.fromkeys((*known.members, *names)))
    return change_group(code, replace(known, members=wanted), row.revision)


@recorded()
def end_protection(code: str, *, by: str, at: datetime) -> None:
    """Stop copying a group and give its points up; a site that is away is told when it is back.

    Raises Refused while its lifecycle forbids it.
    """
    row = GroupRow.objects.select_for_update().get(pk=find_group(code).pk)
    after(row.name, cast(Stage, row.stage), "end protection")
    request = forget(row, by=by, at=at)
    mark_changed()

    def bring() -> None:
        with suppress(SiteUnreachable):
            deliver(request)

    transaction.on_commit(bring)


def forget(row: GroupRow, *, by: str, at: datetime) -> SiteRequest:
    """Take the row of a group away whose protection ended; what it was is kept, its points are gone.

    The site that holds its copies is asked to let them go, whenever it answers.
    """
    body = {"group": to_data(named_members(row)), "key": row.key, "key_fingerprint": row.key_fingerprint}
    retired.keep("group", row.name, body, by=by, at=at)
    request = ask_for(row.target, "unprotect", row.code, {}, by=by, insists=True)
    row.delete()
    return request


@retired.way_back("group")
def _bring_back(body: dict[str, Any], by: str, at: datetime) -> str:
    """Its workloads are copied anew, with the key that it had."""
    group = from_data(Group, body["group"])
    row = make_group(group, key=unseal(body["key"]) if body["key"] else "")
    transaction.on_commit(lambda: send_group_if_there(row, by=by))
    return f"/protection/{quote(group.code)}"


def advance_stage(row: GroupRow, happening: Happening) -> None:
    """Write down what happened to a group."""
    row.stage = after(row.name, cast(Stage, row.stage), happening)
    row.save(update_fields=["stage"])
    mark_changed()


def send_group(row: GroupRow, *, by: str) -> None:
    """Tell the site that holds the copies what to copy.

    Raises Refused where the copies are to be encrypted and no key is stored: no byte goes in clear.
    """
    group = row.core()
    if group.policy.encrypted and not row.key:
        raise Refused(
            f"The copies of {row.name} are to be encrypted and no key is stored.",
            "Store its key on the page of the group.",
        )
    workloads = WorkloadRow.objects.filter(membership__group=row)
    link = Link.objects.filter(one=row.source, other=row.target).first()
    link = link or Link.objects.filter(one=row.target, other=row.source).first()
    args = {
        "group": to_data(group),
        "digest": group.digest(),
        "workloads": [workload.spec for workload in workloads],
        "link": to_data(link.core()) if link else None,
    }
    try:
        perform(row.target, "protect", row.code, args, by=by)
    except Refused as refused:
        if refused.code not in ("site-unreachable", "site-at-it"):
            _note_refused(row, refused.sentence)
        raise
    _note_refused(row, "")


def _note_refused(row: GroupRow, said: str) -> None:
    if GroupRow.objects.filter(pk=row.pk).exclude(refused=said).update(refused=said):
        mark_changed()


def send_group_if_there(row: GroupRow, *, by: str) -> None:
    """Tell the site at once; one that is away is told when it is back."""
    with suppress(Refused):
        send_group(row, by=by)


@secrets_for("protect", "reverse-copying")
def _with_key(operation: Operation) -> Filled:
    """What goes to a site in secret with the definition of a group: the key of encrypted copies."""
    row = GroupRow.objects.filter(code=operation.subject).first()
    if row is None or not row.policy["encrypted"] or not row.key:
        return Filled(operation.args)
    filled = {**operation.args, "secrets": {"key": unseal(row.key)}}
    return Filled(filled, [f"the key of the copies of {row.code}"])


def pause(code: str, because: str, *, by: str) -> None:
    """Pause the copying of a group for a reason, or go on (an empty reason)."""
    row = find_group(code)
    if len(because) > 200:
        raise BadValue(
            f"The reason has {len(because)} characters.", "Give at most 200.", field="body.because"
        )
    perform(row.target, "pause-copying", row.code, {"because": because.strip()}, by=by)


def pin(code: str, point: str, label: str, *, by: str) -> None:
    """Name a point so that it is never removed, or let it go (an empty label)."""
    row = find_group(code)
    if len(label) > 80:
        raise BadValue(f"The label has {len(label)} characters.", "Give at most 80.", field="body.label")
    perform(row.target, "pin-point", row.code, {"point": point, "label": label.strip()}, by=by)


@recorded()
def store_key(code: str, key: str) -> None:
    """Store the key of a group's encrypted copies. It is never shown again.

    Raises Refused for another key than the one that the copies are encrypted with.
    """
    row = find_group(code)
    _set_key(row, row.core(), key)


def _take_key(row: GroupRow, group: Group, key: str) -> None:
    """The key that came with a definition; it may stay away where none is wanted, or one was given before."""
    if key:
        _set_key(row, group, key)
    elif group.policy.encrypted and not row.key_fingerprint:
        raise BadValue(
            f"The copies of {group.name} are to be encrypted, and there is no key.",
            f"Give one of {SHORTEST_KEY} to {LONGEST_KEY} characters, or let the copies be in clear.",
            field="body.key",
        )


def _set_key(row: GroupRow, group: Group, key: str) -> None:
    if not SHORTEST_KEY <= len(key) <= LONGEST_KEY:
        raise BadValue(
            f"The key has {len(key)} characters.", f"Give {SHORTEST_KEY} to {LONGEST_KEY}.", field="body.key"
        )
    mark = fingerprint(row.code, key)
    if group.policy.encrypted and row.key_fingerprint not in ("", mark):
        raise Refused(
            f"This is not the key with which the copies of {group.name} are encrypted: "
            f"its fingerprint is {mark}, theirs {row.key_fingerprint}.",
            "Give that key. For another one, end the protection and protect them anew.",
            field="body.key",
        )
    row.key, row.key_fingerprint = seal(key), mark
    row.save(update_fields=["key", "key_fingerprint"])
    mark_changed()


def keys_missing() -> frozenset[str]:
    """Codes of the groups whose copies are encrypted and whose key is not stored."""
    now = estate()
    wanted = {row.code for row, group in now.parts["groups"] if group.policy.encrypted}
    wanted |= {row.group for row in now.rows.values() if row.needs_key and row.group}
    if not wanted:
        return frozenset()
    return frozenset(GroupRow.objects.filter(key="", code__in=wanted).values_list("code", flat=True))


def check_group(group: Group) -> None:
    """Raises BadValue for a definition that cannot be."""
    policy = group.policy
    if not group.name.strip() or len(group.name) > 80:
        raise BadValue("The group has no name, or a long one.", "Give 1 to 80 characters.", field="body.name")
    if group.source == group.target:
        raise BadValue(
            f"{group.name} would be copied from {group.source} to itself.",
            "Choose another site to copy to.",
            field="body.target",
        )
    if not group.members and not group.tag_rule.strip():
        raise BadValue(
            "The group has neither members nor a tag rule.", "Choose at least one.", field="body.members"
        )
    limits = (
        ("interval_s", *INTERVAL_S), ("rpo_s", 5, 7 * 86400), ("app_consistent_every_s", 0, 7 * 86400),
        ("keep_all_s", 60, 30 * 86400), ("keep_hourly_s", 0, 90 * 86400), ("keep_daily_s", 0, 3660 * 86400),
        ("most_points", 0, 10_000), ("weight", 1, 100),
    )  # fmt: skip
    for field, least, most in limits:
        value = getattr(policy, field)
        if not least <= value <= most:
            raise BadValue(f"{field} is {value}.", f"Give {least} to {most}.", field=f"body.policy.{field}")
    if policy.initial == "at" and policy.initial_at is None:
        raise BadValue("The first copy has no time.", "Say when it begins.", field="body.policy.initial_at")
    compile_filter(group.tag_rule)


def _set_members(row: GroupRow, group: Group) -> None:
    """The named ones, and who matches the rule; refused where one is in another group."""
    by_rule = set(matching(group)) if group.tag_rule.strip() else set()
    wanted = [*dict.fromkeys((*group.members, *sorted(by_rule)))]
    rows = {w.name: w for w in WorkloadRow.objects.select_related("site").filter(name__in=wanted)}
    others = GroupMember.objects.select_related("group").filter(workload__in=[w.pk for w in rows.values()])
    taken = {member.workload_id: member.group for member in others.exclude(group=row)}
    for name in wanted:
        found = rows.get(name)
        if found is None:
            raise NotFound(f"{name} is not in the estate.", "Fetch the inventory of its site first.")
        if found.site != row.source:
            raise BadValue(
                f"{name} is at {found.site.name}, the group is copied from {row.source.name}.",
                "Remove it from the group.",
                field="body.members",
            )
        other = taken.get(found.pk)
        if other is not None:
            raise Refused(
                f"{name} is in group {other.name} already and cannot join {group.name} as well.",
                "Remove it from one of the two.",
                field="body.members",
            )
    GroupMember.objects.filter(group=row).exclude(workload__name__in=wanted).delete()
    known = {m.workload.name: m for m in row.members.select_related("workload")}
    for name in wanted:
        rule = name in by_rule and name not in group.members
        if name not in known:
            GroupMember.objects.create(group=row, workload=rows[name], by_rule=rule)
        elif known[name].by_rule != rule:
            known[name].by_rule = rule
            known[name].save(update_fields=["by_rule"])
    mark_changed()


def matching(group: Group) -> Iterable[str]:
    """Names of the workloads at the source that match the tag rule, whoever protects them."""
    test = compile_filter(group.tag_rule)
    return (row.name for row in estate().rows.values() if row.site == group.source and test(row))


@workloads_changed.hears
@recorded()
def join_by_rule() -> list[GroupRow]:
    """Let unprotected workloads join the group whose rule they match, and those leave that no longer match.

    A workload that matches the rules of two groups joins neither; coverage names both.
    """
    groups = [row for row in GroupRow.objects.select_related("source", "target") if row.tag_rule]
    if not groups:
        return []
    wanted = {row.pk: set(matching(row.core())) for row in groups}
    changed = []
    for row in groups:
        others = set().union(*(names for pk, names in wanted.items() if pk != row.pk))
        free = {name for name in wanted[row.pk] - others if not estate().rows[name].group}
        ruled = row.members.select_related("workload").filter(by_rule=True)
        gone = [member for member in ruled if member.workload.name not in wanted[row.pk]]
        if not free and not gone:
            continue
        for member in gone:
            member.delete()
        for workload in WorkloadRow.objects.filter(name__in=free):
            GroupMember.objects.create(group=row, workload=workload, by_rule=True)
        changed.append(row)
    if changed:
        mark_changed()
    return changed


def all_groups() -> tuple[Group, ...]:
    """Every group as a value."""
    return tuple(group for _, group in rows_and_groups())


def rows_and_groups() -> list[tuple[GroupRow, Group]]:
    """Every group as a row and as a value, kept until one changes. Not to be changed by who asks."""
    groups: list[tuple[GroupRow, Group]] = estate().parts["groups"]
    return groups


@part_of_estate("groups")
def _read_groups() -> list[tuple[GroupRow, Group]]:
    """Without reading what workloads and sites are made of: of a large estate that is megabytes."""
    members = GroupMember.objects.select_related("workload").defer("workload__spec")
    rows = GroupRow.objects.select_related("source", "target")
    rows = rows.defer("source__inventory", "target__inventory")
    return [(row, row.core()) for row in rows.prefetch_related(Prefetch("members", queryset=members))]


def named_members(row: GroupRow) -> Group:
    """The group with only those members that were named one by one, as it is edited."""
    named = tuple(m.workload.name for m in row.members.select_related("workload") if not m.by_rule)
    return replace(row.core(), members=named)
