"""What proves a run, as jobs: reports as PDF, and archives for auditors."""

from __future__ import annotations

from collections.abc import Sequence

from maestoso.core.people.roles import TAKE_EVIDENCE
from maestoso.core.wording import counted
from maestoso.engine.clock import SystemClock
from maestoso.server.evidence import documents
from maestoso.server.jobs import services
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.work import Work, job_kind
from maestoso.server.runs.events import read_log
from maestoso.server.runs.models import Run
from maestoso.server.runs.services import find_run

CLOCK = SystemClock()


def begin_report(pk: int, *, by: str) -> Job:
    """Ask for the report of a run as PDF."""
    find_run(pk)
    about, needs = f"Report of run {pk} as PDF", (TAKE_EVIDENCE, "run", str(pk))
    return services.begin("report", about, {"run": pk}, by=by, needs=needs)


def begin_archive(runs: Sequence[Run], *, by: str) -> Job:
    """Ask for everything for an auditor; all ``runs`` are sealed."""
    about, args = f"Evidence of {counted(len(runs), 'run')}", {"runs": [run.pk for run in runs]}
    return services.begin("archive", about, args, by=by, needs=(TAKE_EVIDENCE,))


@job_kind("report")
def _report(work: Work) -> None:
    pk = int(work.args["run"])
    work.file(f"run-{pk}.report.pdf", "application/pdf")
    work.write(documents.pdf(find_run(pk), read_log(pk), CLOCK.now(), work.tell))


@job_kind("archive")
def _archive(work: Work) -> None:
    rows = Run.objects.select_related("seal").in_bulk(work.args["runs"])
    # One that was removed meanwhile is not in it; its index says which are.
    runs = [rows[pk] for pk in work.args["runs"] if pk in rows]
    work.file("evidence.zip", "application/zip")
    for number, part in enumerate(documents.archive(runs, CLOCK.now()), start=1):
        work.write(part)
        work.tell(min(number, len(runs)), len(runs))
