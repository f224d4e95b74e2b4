"""Whether this installation is ready to be worked with, and why it is not."""

from __future__ import annotations

from collections.abc import Iterator

from django.db import DatabaseError, connection
from django.db.migrations.executor import MigrationExecutor
from django.db.models.functions import Now

from maestoso.core.readiness.room_rules import LEAST_MIB
from maestoso.core.wording import lasting
from maestoso.server.common.room import free_mib
from maestoso.server.config.settings import OPTIONS
from maestoso.server.keeper.keep import RECORDS
from maestoso.server.keeper.models import KeeperLease
from maestoso.server.runs.beats import ages, silent

_tables_fit = False


def reasons() -> list[str]:
    """Why it is not ready, in sentences; empty where it is."""
    try:
        return [*_tables(), *_processes(), *_room()]
    except DatabaseError as error:
        return [f"The database does not answer ({type(error).__name__})."]


def _tables() -> Iterator[str]:
    """Whether the tables are those of this release: looked at until they are."""
    global _tables_fit
    if not _tables_fit:
        executor = MigrationExecutor(connection)
        lacking = executor.migration_plan(executor.loader.graph.leaf_nodes())
        if lacking:
            yield f"The tables are of an older release: {len(lacking)} migrations are to be made."
            return
        _tables_fit = True


def _processes() -> Iterator[str]:
    quiet = silent()
    if quiet is not None:
        yield f"No engine was heard for {lasting(quiet.total_seconds())}: runs stand still."
    elif not ages():
        yield "No engine is at work: runs stand still."
    if not keeper_is_there():
        yield "No keeper is at work: nothing looks after sites and records."


def keeper_is_there() -> bool:
    """Whether a keeper has the records."""
    return KeeperLease.objects.filter(duty=RECORDS, until__gt=Now()).exists()


def _room() -> Iterator[str]:
    left = free_mib()
    if left < LEAST_MIB:
        yield f"{left} MiB are left in {OPTIONS.var}: no run is started below {LEAST_MIB} MiB."
