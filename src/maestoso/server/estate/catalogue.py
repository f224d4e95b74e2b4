"""All workloads as rows to search, kept in memory until one of them changes."""

from __future__ import annotations

import json
import threading
import uuid
from dataclasses import dataclass

from django.db import connection

from maestoso.core.estate.row import Row, row_of
from maestoso.server.estate.models import EstateMark


@dataclass(frozen=True, slots=True, kw_only=True)
class Catalogue:
    """Every workload by name, in the order in which they came; ``mark`` tells one state from another."""

    mark: str
    rows: dict[str, Row]


_kept: Catalogue | None = None
_lock = threading.Lock()
# Read raw: building ten thousand model objects would take longer than all the rest.
_QUERY = """
    SELECT w.name, s.code, COALESCE(g.code, ''), w.spec
    FROM estate_workloadrow w JOIN estate_site s ON s.id = w.site_id
    LEFT JOIN protection_groupmember m ON m.workload_id = w.id
    LEFT JOIN protection_grouprow g ON g.id = m.group_id
    ORDER BY w.id
"""


def catalogue() -> Catalogue:
    """The catalogue as it is now."""
    global _kept
    mark = EstateMark.objects.filter(pk=1).values_list("mark", flat=True).first() or ""
    with _lock:
        if _kept is None or _kept.mark != mark:
            with connection.cursor() as cursor:
                cursor.execute(_QUERY)
                rows = {
                    name: row_of(json.loads(spec), site, group)
                    for name, site, group, spec in cursor.fetchall()
                }
            _kept = Catalogue(mark=mark, rows=rows)
        return _kept


def touch() -> None:
    """Say that workloads or their groups changed; part of the transaction that changes them."""
    EstateMark.objects.update_or_create(pk=1, defaults={"mark": uuid.uuid4().hex})
