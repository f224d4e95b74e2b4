"""The estate at one moment, kept in memory until something of it changes."""

from __future__ import annotations

import json
import threading
import uuid
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

from django.db import connection

from maestoso.core.codec import from_data
from maestoso.core.estate.row import Row, row_of
from maestoso.core.landing.ground import Ground, Home
from maestoso.core.model.estate import Inventory, Nic, Workload
from maestoso.server.common.hooks import Hook
from maestoso.server.common.snapshot import one_moment
from maestoso.server.estate.models import EstateMark, Site


@dataclass(kw_only=True)
class Recorded:
    """A workload as it stands in the records; most stay the same object from one snapshot to the next."""

    site: str
    group: str
    spec: str
    home: str | None

    @cached_property
    def row(self) -> Row:
        """As it is searched: made from data, as a whole workload would take longer than most searches."""
        return row_of(json.loads(self.spec), self.site, self.group)

    @cached_property
    def workload(self) -> Workload:
        """As a value."""
        return from_data(Workload, json.loads(self.spec))

    @property
    def lies(self) -> tuple[str, str, str | None]:
        """What the ground knows of it; groups make no difference there."""
        return self.site, self.spec, self.home


class EstateSnapshot:
    """What the records said of the estate under one ``mark``, all of it read at the same moment.

    ``parts`` are what features beside this one keep with it. Nothing of it is to be changed by who asks.
    """

    def __init__(
        self, mark: str, recorded: dict[str, Recorded], inventories: dict[str, Any], parts: Mapping[str, Any]
    ) -> None:
        self.mark = mark
        self.parts = parts
        self._recorded, self._inventories = recorded, inventories
        self._making = threading.RLock()

    @cached_property
    def rows(self) -> dict[str, Row]:
        """Every workload as it is searched, by name, in the order in which they came."""
        with self._making:
            return {name: one.row for name, one in self._recorded.items()}

    @cached_property
    def workloads(self) -> dict[str, Workload]:
        """Every workload as a value, by name."""
        with self._making:
            return {name: one.workload for name, one in self._recorded.items()}

    @cached_property
    def ground(self) -> Ground:
        """All sites with their workloads, as landings look at them."""
        with self._making:
            there: dict[str, list[Workload]] = {code: [] for code in self._inventories}
            for one in self._recorded.values():
                there[one.site].append(one.workload)
            sites = {
                code: replace(from_data(Inventory, inventory), workloads=tuple(there[code]))
                for code, inventory in self._inventories.items()
            }
            return Ground(sites, self._homes())

    def reuse(self, before: EstateSnapshot) -> None:
        """Take over what did not change, so that what was reckoned from it still holds."""
        known = before._recorded
        for name, one in self._recorded.items():
            if known.get(name) == one:
                self._recorded[name] = known[name]
        made = before.__dict__.get("ground")
        if made is not None and self._lies() == before._lies():
            self.__dict__["ground"] = made

    def _lies(self) -> Any:
        return self._inventories, {name: one.lies for name, one in self._recorded.items()}

    def _homes(self) -> dict[str, Home]:
        """Of workloads that are away; what left before adapters were kept has none."""
        homes = {name: json.loads(one.home) for name, one in self._recorded.items() if one.home}
        return {
            name: Home(site=home["site"], nics=tuple(from_data(Nic, nic) for nic in home["nics"]))
            for name, home in homes.items()
            if home and "nics" in home
        }


_readers: dict[str, Callable[[], Any]] = {}
_kept: EstateSnapshot | None = None
_lock = threading.Lock()
# Read raw: building ten thousand model objects would take longer than all the rest.
_QUERY = """
    SELECT w.name, s.code, COALESCE(g.code, ''), w.spec, w.home
    FROM estate_workloadrow w JOIN estate_site s ON s.id = w.site_id
    LEFT JOIN protection_groupmember m ON m.workload_id = w.id
    LEFT JOIN protection_grouprow g ON g.id = m.group_id
    ORDER BY w.id
"""


def estate() -> EstateSnapshot:
    """The estate as it is now; the same object as long as nothing of it changed."""
    global _kept
    mark = _mark()
    with _lock:
        if _kept is None or _kept.mark != mark:
            fresh = _read()
            if _kept is not None:
                fresh.reuse(_kept)
            _kept = fresh
        return _kept


def part_of_estate(name: str) -> Callable[[Callable[[], Any]], Callable[[], Any]]:
    """Marks what reads a part of every snapshot; whoever changes what it reads calls :func:`mark_changed`."""

    def mark(reader: Callable[[], Any]) -> Callable[[], Any]:
        _readers[name] = reader
        return reader

    return mark


def mark_changed() -> None:
    """Say that something of the estate changed; part of the transaction that changes it."""
    EstateMark.objects.update_or_create(pk=1, defaults={"mark": uuid.uuid4().hex})


workloads_changed: Hook[[], object] = Hook()
"""Tells whoever derives something from workloads that they changed, in the transaction that changes them."""


def _mark() -> str:
    return EstateMark.objects.filter(pk=1).values_list("mark", flat=True).first() or ""


def _read() -> EstateSnapshot:
    with one_moment():
        mark = _mark()
        with connection.cursor() as cursor:
            cursor.execute(_QUERY)
            recorded = {
                name: Recorded(site=site, group=group, spec=spec, home=home)
                for name, site, group, spec, home in cursor.fetchall()
            }
        inventories = dict(Site.objects.values_list("code", "inventory"))
        parts = {name: reader() for name, reader in _readers.items()}
    return EstateSnapshot(mark, recorded, inventories, parts)
