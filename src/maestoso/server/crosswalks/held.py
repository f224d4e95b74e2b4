"""Held landings: asking target sites to keep room for what may arrive, and seeing that they do."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import Any

from django.db import transaction

from maestoso.core.codec import to_data
from maestoso.core.errors import DomainError, NotFound
from maestoso.core.landing.resolve import resolve
from maestoso.core.model.landing import Landing
from maestoso.server.crosswalks.models import CrosswalkRow, HeldRow
from maestoso.server.estate.agents import LARGE_PATIENCE_S, ask, needed, pulse
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import estate
from maestoso.server.outbox.services import KEEPER, perform
from maestoso.server.protection.services import all_groups

AT_ONCE = 200
Mark = tuple[object, ...]
_seen: dict[str, Mark] = {}


def expected(site: Site) -> dict[str, Landing]:
    """What a site should hold: the live landing of every workload that is copied to it and can land."""
    place = estate().ground
    found: dict[str, Landing] = {}
    for row in CrosswalkRow.objects.select_related("source", "target").filter(target=site):
        wanted = {
            name
            for group in all_groups()
            if (group.source, group.target) == (row.source.code, site.code)
            for name in group.members
        }
        here = place.sites[row.source.code].workloads
        workloads = tuple(workload for workload in here if workload.name in wanted)
        for one in resolve(workloads, row.core(), place, "live"):
            # A landing with something missing cannot be held; its own finding says what.
            if all(finding.severity != "blocks" for finding in one.findings):
                found[one.landing.workload] = one.landing
    return found


def reconcile_landings(site: Site, again: Collection[str] = ()) -> None:
    """Ask for what is new or changed, give back what nobody needs, and note what the site says otherwise.

    ``again`` are workloads whose landing is asked for once more though nothing changed.
    """
    said = pulse(site).said
    if said is None:
        return
    mark = _mark(site, said.landings)
    if not again and _seen.get(site.code) == mark:
        return
    wanted, rows = expected(site), {row.workload: row for row in HeldRow.objects.filter(site=site)}
    gone = [name for name in rows if name not in wanted]
    if gone:
        _release(site, gone)
    fresh = [
        name for name, landing in wanted.items()
        if name not in rows or rows[name].asked != landing.digest() or name in again
    ]  # fmt: skip
    refused: dict[str, str] = {}
    for begin in range(0, len(fresh), AT_ONCE):
        refused |= _hold(site, [wanted[name] for name in fresh[begin : begin + AT_ONCE]])
    held = {one.workload: one for one in ask(site, lambda agent: agent.landings(), LARGE_PATIENCE_S)}
    with transaction.atomic():
        for name, landing in wanted.items():
            row = rows.get(name) or HeldRow(site=site, workload=name)
            _note(site, row, landing, held.get(name), refused.get(name, ""), asked_now=name in fresh)
    # The pulse that is remembered may be older than what was just done; it is compared once more then.
    _seen[site.code] = mark if not (fresh or gone) else ()


def _release(site: Site, names: list[str]) -> None:
    args: dict[str, Any] = {"workloads": names}
    perform(site, "release-landings", "landings", args, by=KEEPER, patience_s=LARGE_PATIENCE_S)
    HeldRow.objects.filter(site=site, workload__in=names).delete()


def _note(
    site: Site, row: HeldRow, wanted: Landing, held: Landing | None, refused: str, *, asked_now: bool
) -> None:
    """Write down what a site holds for a workload; what it refused earlier stays until it is asked again."""
    before = (row.asked, row.wrong, row.said)
    if refused:
        row.wrong = f"{site.name} does not hold the landing of {row.workload}: {refused}"
    elif asked_now or not row.wrong or held is not None:
        row.wrong = difference(site.name, wanted, held)
    row.is_wrong = bool(row.wrong)
    row.asked, row.said = wanted.digest(), to_data(held) if held is not None else None
    if row.pk is None or before != (row.asked, row.wrong, row.said):
        row.save()


def _mark(site: Site, landings: str) -> Mark:
    revisions = CrosswalkRow.objects.filter(target=site).values_list("pk", "revision")
    return estate().ground, tuple(revisions), landings


def _hold(site: Site, landings: list[Landing]) -> dict[str, str]:
    """Reasons why a landing is not held, by workload."""
    try:
        args = {"landings": to_data(landings)}
        state = perform(site, "hold-landings", "landings", args, by=KEEPER, patience_s=LARGE_PATIENCE_S)
    except DomainError as error:
        if error.code == "site-unreachable":
            raise
        return {landing.workload: error.sentence for landing in landings}
    refused: dict[str, str] = dict(state.result.get("refused", {}))
    return refused


def difference(site: str, wanted: Landing, held: Landing | None) -> str:
    """In words, how what a site holds differs; empty where it does not."""
    if held is None:
        return f"{site} was asked to hold the landing of {wanted.workload} and does not hold it any more."
    if held == wanted:
        return ""
    return f"{site} holds another landing for {wanted.workload}: {'; '.join(_differs(wanted, held))}."


def _differs(wanted: Landing, held: Landing) -> Iterator[str]:
    for field, name in (
        ("name", "name"), ("host_pool", "host pool"), ("folder", "folder"), ("cores", "cores"),
        ("memory_mib", "memory"), ("disks", "disks"),
    ):  # fmt: skip
        mine, theirs = getattr(wanted, field), getattr(held, field)
        if mine != theirs:
            yield f"{name} {_text(theirs)} in place of {_text(mine)}"
    theirs_by_name = {nic.nic: nic for nic in held.nics}
    for nic in wanted.nics:
        other = theirs_by_name.get(nic.nic)
        if other is None:
            yield f"nothing for {nic.nic}"
        elif other != nic:
            mine = f"{_text(nic.addresses)} on {nic.network}"
            yield f"{nic.nic} with {_text(other.addresses)} on {other.network} in place of {mine}"


def _text(value: Any) -> str:
    if isinstance(value, tuple):
        return ", ".join(getattr(item, "storage_pool", None) or str(item) for item in value) or "nothing"
    return str(value) or "nothing"


def landing_mismatches(site: Site) -> dict[str, str]:
    """By workload, what is wrong with the landing that a site was asked to hold."""
    return dict(HeldRow.objects.filter(site=site, is_wrong=True).values_list("workload", "wrong"))


def hold_again(site: Site, names: Collection[str]) -> None:
    """Ask for landings once more. Raises NotFound for one that the site should not hold, Refused if away."""
    unknown = sorted(set(names) - set(HeldRow.objects.filter(site=site).values_list("workload", flat=True)))
    if unknown:
        raise NotFound(f"{site.name} is not asked to hold anything for {unknown[0]}.", "Protect it first.")
    with needed(f"{site.name} was not asked"):
        ask(site, lambda agent: agent.pulse())
        reconcile_landings(site, again=names)
