"""New tables over old records: written down before, and put back as they were where that fails.

The database cannot take back half of a change of its tables by itself.
"""

from __future__ import annotations

import logging
import shutil
from collections.abc import Iterator
from contextlib import contextmanager

from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from maestoso.server.backups import records
from maestoso.server.backups.archive import BackupFailed
from maestoso.server.config.settings import OPTIONS, SECRETS

WAY_BACK, WHOLE = OPTIONS.var / "before-upgrade", "whole"
"""What was there before; it is left only by an upgrade that was cut off, and whole where the file says so."""
log = logging.getLogger("maestoso.backups")


@contextmanager
def way_back(*, of_value: bool) -> Iterator[bool]:
    """Whatever fails inside, the records are as before afterwards. Says whether tables change.

    Records that are not ``of_value``, such as the demo's, are changed without it where the programs for it
    are not installed. Raises BackupFailed where there is no way back, before anything was changed.
    """
    if (WAY_BACK / WHOLE).is_file():
        log.warning("An upgrade was cut off: the records are put back as they were before it")
        _put_back()
    executor = MigrationExecutor(connection)
    old = bool(executor.loader.applied_migrations)
    if not (old and executor.migration_plan(executor.loader.graph.leaf_nodes())):
        yield False
        return
    if not of_value and shutil.which("mariadb-dump") is None:
        yield True
        return
    shutil.rmtree(WAY_BACK, ignore_errors=True)
    WAY_BACK.mkdir(mode=0o700)
    records.gather(OPTIONS, SECRETS, WAY_BACK)
    (WAY_BACK / WHOLE).touch()
    try:
        yield True
    except Exception as error:
        _put_back()
        said = str(error).strip().splitlines() or [type(error).__name__]
        log.exception("The upgrade failed, and the records were put back")
        raise BackupFailed(
            f"The records could not be brought up to this release ({said[0]}). They are as before.",
            "Go on with the release that they are of; the log says all of it.",
        ) from error
    shutil.rmtree(WAY_BACK)


def _put_back() -> None:
    """Records, and what stands beside them about how many runs there are."""
    connection.close()
    records.put_back(OPTIONS, SECRETS, WAY_BACK / records.SQL)
    keys = OPTIONS.var / records.KEYS
    shutil.rmtree(keys, ignore_errors=True)
    if (WAY_BACK / records.KEYS).is_dir():
        shutil.copytree(WAY_BACK / records.KEYS, keys)
    shutil.rmtree(WAY_BACK)
