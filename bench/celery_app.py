"""The Celery side of bench.engine: a task that does nothing and records that in MariaDB."""

from __future__ import annotations

import os
from typing import Any

import django
from celery import Celery

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "maestoso.server.config.settings")
django.setup()

from django.db import connection  # noqa: E402

app = Celery("bench", broker=os.environ.get("BENCH_BROKER", "redis://127.0.0.1:1/0"))
# Equal durability: a task counts as taken only when its row is committed.
app.conf.update(task_acks_late=True, worker_prefetch_multiplier=4, task_ignore_result=True)
TABLE = "CREATE TABLE IF NOT EXISTS bench_done (run BIGINT, step INT, PRIMARY KEY (run, step))"


def _cursor() -> Any:
    cursor = connection.cursor()
    if not getattr(app, "table_made", False):
        cursor.execute(TABLE)
        app.table_made = True
    return cursor


@app.task(name="step")
def step(run: int, number: int) -> None:
    """Done, once."""
    with _cursor() as cursor:
        cursor.execute("INSERT IGNORE INTO bench_done VALUES (%s, %s)", [run, number])


def done_rows(run: int) -> int:
    """How many steps of a run are done."""
    with _cursor() as cursor:
        cursor.execute("SELECT COUNT(*) FROM bench_done WHERE run=%s", [run])
        return int(cursor.fetchone()[0])
