"""What looks far ahead, as jobs: run books, what would help, rehearsals."""

from __future__ import annotations

from maestoso.core.codec import from_data, to_data
from maestoso.core.people.roles import SEE
from maestoso.engine.clock import SystemClock
from maestoso.server.jobs import services
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.work import Work, job_kind
from maestoso.server.plans.services import find_plan
from maestoso.server.readiness import foresight, run_book
from maestoso.server.readiness.shapes import Draft, RehearsalAsked

CLOCK = SystemClock()
PDF = "application/pdf"


def begin_run_book(code: str, *, by: str) -> Job:
    """Ask for the run book of a plan as PDF."""
    find_plan(code)
    return services.begin(
        "run-book", f"Run book of {code} as PDF", {"plan": code}, by=by, needs=(SEE, "plan", code)
    )


def begin_helps(code: str, draft: Draft, *, by: str) -> Job:
    """Ask what would help a draft."""
    return _begin("what-helps", "What would help", code, draft, by)


def begin_rehearsal(code: str, asked: RehearsalAsked, *, by: str) -> Job:
    """Ask for a rehearsal of a draft."""
    return _begin("rehearsal", "Rehearsal of", code, asked, by)


def _begin(kind: str, about: str, code: str, sent: Draft | RehearsalAsked, by: str) -> Job:
    find_plan(code)
    args = {"plan": code, "sent": to_data(sent)}
    return services.begin(kind, f"{about} {code}", args, by=by, needs=(SEE, "plan", code))


@job_kind("run-book")
def _run_book(work: Work) -> None:
    code = str(work.args["plan"])
    work.file(f"{code}.run-book.pdf", PDF)
    work.write(run_book.pdf(code, CLOCK.now(), work.tell))


@job_kind("what-helps")
def _helps(work: Work) -> None:
    draft = from_data(Draft, work.args["sent"])
    work.answer(foresight.what_helps(work.args["plan"], draft, CLOCK.now(), work.tell))


@job_kind("rehearsal")
def _rehearsal(work: Work) -> None:
    asked = from_data(RehearsalAsked, work.args["sent"])
    work.answer(foresight.rehearse(work.args["plan"], asked, CLOCK.now(), work.tell))
