"""How workers hear of jobs: Celery, over a folder of this machine or a broker that several machines share.

A message holds the number of a job and nothing else. Messages may be lost, or come twice: what is to be done
stands in the rows, and those who have workers look there too.
"""

from __future__ import annotations

import logging
import os
import socket
from contextlib import suppress
from typing import Any

from celery import Celery, signals  # type: ignore[import-untyped]
from kombu.exceptions import KombuError

from maestoso.engine.incarnation import incarnation
from maestoso.server.config.settings import OPTIONS
from maestoso.server.jobs.work import perform

TASK = "maestoso.job"
LONGEST_NAME = 60
NICENESS = 10
"""Runs go first: what conducts them may share its machine with workers."""
FOLDER_LOOKED_AT_EVERY_S = 0.1
log = logging.getLogger("maestoso.jobs")

app = Celery("maestoso", broker=OPTIONS.broker or "filesystem://")
app.conf.update(
    accept_content=["json"],
    task_ignore_result=True,
    # A worker takes what it can begin at once, so that the rest is there for others.
    worker_prefetch_multiplier=1,
    worker_max_tasks_per_child=200,
    worker_enable_remote_control=False,
    worker_send_task_events=False,
    worker_hijack_root_logger=False,
    broker_connection_retry_on_startup=True,
)
FOLDER = OPTIONS.var / "run" / "jobs"
if not OPTIONS.broker:
    app.conf.broker_transport_options = {
        "data_folder_in": str(FOLDER),
        "data_folder_out": str(FOLDER),
        "control_folder": str(FOLDER / "control"),
        "polling_interval": FOLDER_LOOKED_AT_EVERY_S,
    }


def prepare() -> None:
    """Make the folder that messages go through, where they go through one."""
    if not OPTIONS.broker:
        FOLDER.mkdir(mode=0o700, parents=True, exist_ok=True)


def send(pk: int) -> None:
    """Tell workers of a job; where that cannot be now, they find it by themselves."""
    try:
        prepare()
        app.send_task(TASK, args=[pk], retry=False)
    except (KombuError, OSError) as error:
        log.warning("Workers cannot be told of job %s now; it is tried again: %s", pk, error)


@app.task(name=TASK)  # type: ignore[untyped-decorator]
def work_at(pk: int) -> None:
    """Do one job, in a process of a worker."""
    name = os.environ.get("MAESTOSO_WORKER_NAME", f"worker@{socket.gethostname()}")[:LONGEST_NAME]
    perform(pk, incarnation(name))


@signals.worker_process_init.connect  # type: ignore[untyped-decorator]
def _behind_everything_else(**_: Any) -> None:
    # A service may not, and was made so by its unit.
    with suppress(OSError):
        os.nice(NICENESS - os.nice(0))


@signals.setup_logging.connect  # type: ignore[untyped-decorator]
def _as_settings_say(**_: Any) -> None:
    """Whoever hears this leaves logging as it is."""
