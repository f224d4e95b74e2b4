"""What each address and method of the API needs: one table, which everything that is asked goes by.

Addresses are written as in the contract. What is not in the table is refused. Where it depends on what is
sent, the view that reads it asks for more: starting runs, and steering them.
"""

from __future__ import annotations

from maestoso.core.people.roles import (
    ANNOTATE,
    ANSWER,
    APPROVE,
    CHANGE_CROSSWALKS,
    CHANGE_ESTATE,
    CHANGE_PLANS,
    CHANGE_PROTECTION,
    CHANGE_SCRIPTS,
    CHANGE_SETTINGS,
    HOLD_EVIDENCE,
    MANAGE_PEOPLE,
    READ_AUDIT,
    RUN_TESTS,
    SCHEDULE_DRILLS,
    SEE,
    TAKE_EVIDENCE,
    USE_LAB,
)

ANYBODY = "anybody"
"""Whoever comes, signed in or not."""
OWN = "own"
"""Whoever is signed in, about themselves."""
BY_KIND = "by-kind"
"""What :data:`TO_RESTORE` says of the kind of the thing."""

TABLE: dict[str, dict[str, str]] = {
    # Signing in, and one's own account.
    "session": {"GET": ANYBODY, "POST": ANYBODY, "DELETE": ANYBODY},
    "invitations": {"POST": ANYBODY},
    "openapi.json": {"GET": ANYBODY},
    "account": {"GET": OWN, "PUT": OWN},
    "account/password": {"POST": OWN},
    "account/sessions": {"DELETE": OWN},
    "account/tokens": {"POST": OWN},
    "account/tokens/{key}": {"DELETE": OWN},
    # People.
    "people": {"GET": SEE, "POST": MANAGE_PEOPLE},
    "people/{name}": {"PUT": MANAGE_PEOPLE},
    "people/{name}/invitation": {"POST": MANAGE_PEOPLE},
    # The whole installation.
    "site-line": {"GET": SEE},
    "stream": {"GET": SEE},
    "readiness": {"GET": SEE},
    "search": {"GET": SEE},
    "settings": {"GET": SEE, "PUT": CHANGE_SETTINGS},
    "settings/logo": {"GET": SEE, "PUT": CHANGE_SETTINGS, "DELETE": CHANGE_SETTINGS},
    "audit": {"GET": READ_AUDIT},
    "audit.jsonl": {"GET": READ_AUDIT},
    "retired": {"GET": SEE},
    "retired/{id}/back": {"POST": BY_KIND},
    # The estate.
    "sites": {"GET": SEE, "POST": CHANGE_ESTATE},
    "sites/{code}": {"PUT": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    "sites/{code}/drift": {"GET": SEE, "POST": CHANGE_ESTATE},
    "sites/{code}/forgot/seen": {"POST": CHANGE_ESTATE},
    "sites/{code}/host-pools/{name}": {"PUT": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    "sites/{code}/networks/{name}": {"PUT": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    "sites/{code}/storage-pools/{name}": {"PUT": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    "sites/{code}/landings": {"GET": SEE, "POST": CHANGE_CROSSWALKS},
    "site-requests": {"GET": SEE},
    "links": {"PUT": CHANGE_ESTATE},
    "links/{one}/{other}": {"DELETE": CHANGE_ESTATE},
    "workloads": {"GET": SEE, "POST": CHANGE_ESTATE},
    "workloads/{name}": {"GET": SEE, "PUT": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    "workload-tags": {"POST": CHANGE_ESTATE},
    "uses": {"GET": SEE},
    "export": {"GET": SEE},
    "filters": {"GET": SEE, "POST": SEE},
    "filters/{name}": {"DELETE": SEE},
    "imports": {"POST": CHANGE_ESTATE},
    "imports/{id}": {"GET": CHANGE_ESTATE, "POST": CHANGE_ESTATE, "DELETE": CHANGE_ESTATE},
    # Protection.
    "groups": {"GET": SEE, "POST": CHANGE_PROTECTION},
    "groups/{code}": {"GET": SEE, "PUT": CHANGE_PROTECTION, "DELETE": CHANGE_PROTECTION},
    "groups/{code}/key": {"PUT": CHANGE_PROTECTION},
    "groups/{code}/members": {"POST": CHANGE_PROTECTION},
    "groups/{code}/pause": {"POST": CHANGE_PROTECTION},
    "groups/{code}/points/{point}": {"PUT": CHANGE_PROTECTION},
    "group-cost": {"POST": SEE},
    # Crosswalks.
    "crosswalks": {"GET": SEE, "POST": CHANGE_CROSSWALKS},
    "crosswalks/landings": {"POST": SEE},
    "crosswalks/proposals": {"POST": SEE},
    "crosswalks/trial": {"POST": SEE},
    "crosswalks/{source}/{target}": {"GET": SEE, "PUT": CHANGE_CROSSWALKS, "DELETE": CHANGE_CROSSWALKS},
    "crosswalks/{source}/{target}/landings.csv": {"GET": SEE},
    "crosswalks/{source}/{target}/table.csv": {"GET": SEE, "POST": SEE},
    "crosswalks/{source}/{target}/twin": {"POST": CHANGE_CROSSWALKS},
    # Plans.
    "plans": {"GET": SEE, "POST": CHANGE_PLANS},
    "plans/{code}": {"GET": SEE, "PUT": CHANGE_PLANS, "DELETE": CHANGE_PLANS},
    "plans/{code}/assessment": {"POST": SEE},
    "plans/{code}/calibration": {"GET": SEE},
    "plans/{code}/file": {"GET": SEE, "POST": SEE},
    "plans/{code}/helps": {"POST": SEE},
    "plans/{code}/landings": {"GET": SEE},
    "plans/{code}/mend": {"POST": SEE},
    "plans/{code}/points": {"GET": SEE},
    "plans/{code}/preflight": {"POST": SEE},
    "plans/{code}/rehearsal": {"POST": SEE},
    "plans/{code}/run-book": {"GET": SEE},
    "plans/{code}/run-book.pdf": {"GET": SEE},
    "plans/{code}/trend": {"GET": SEE},
    "plans/{code}/versions/{number}": {"GET": SEE},
    "plan-files": {"POST": SEE},
    "plan-files/schema": {"GET": SEE},
    "plan-suggestions": {"POST": SEE},
    "plan-templates": {"GET": SEE},
    "library": {"GET": SEE},
    "scripts/{name}": {"PUT": CHANGE_SCRIPTS, "DELETE": CHANGE_SCRIPTS},
    "secrets/{name}": {"PUT": CHANGE_SCRIPTS, "DELETE": CHANGE_SCRIPTS},
    # Runs. Who starts or steers one that moves production needs more, which the views ask for.
    "runs": {"GET": SEE, "POST": RUN_TESTS},
    "runs/{id}": {"GET": SEE},
    "runs/{id}/controls": {"POST": ANSWER},
    "runs/{id}/events": {"GET": SEE},
    "runs/{id}/stream": {"GET": SEE},
    "runs/{id}/step": {"GET": SEE},
    "runs/{id}/landings": {"GET": SEE},
    "runs/{id}/try-again": {"POST": ANSWER},
    "runs/{id}/found-running/seen": {"POST": ANSWER},
    "runs/{id}/traps": {"GET": SEE},
    "traps": {"GET": SEE, "POST": ANNOTATE},
    "traps/{id}/solved": {"PUT": ANNOTATE, "DELETE": ANNOTATE},
    "run-views": {"GET": SEE, "PUT": SEE, "DELETE": SEE},
    "runs/{id}/review": {"POST": APPROVE},
    # Second signatures. Who asks for a run that moves production needs more, which the view asks for.
    "approval-rules": {"GET": SEE, "PUT": MANAGE_PEOPLE},
    "approvals": {"GET": SEE, "POST": RUN_TESTS},
    "approvals/{id}": {"GET": SEE, "DELETE": RUN_TESTS},
    "approvals/{id}/answer": {"POST": APPROVE},
    # Evidence.
    "runs/{id}/compared": {"GET": SEE},
    "runs/{id}/evidence": {"GET": SEE},
    "runs/{id}/evidence.jsonl": {"GET": TAKE_EVIDENCE},
    "runs/{id}/files": {"POST": ANNOTATE},
    "runs/{id}/files/{number}": {"GET": TAKE_EVIDENCE},
    "runs/{id}/legal-hold": {"PUT": HOLD_EVIDENCE},
    "runs/{id}/notes": {"POST": ANNOTATE},
    "runs/{id}/report.csv": {"GET": TAKE_EVIDENCE},
    "runs/{id}/report.html": {"GET": TAKE_EVIDENCE},
    "runs/{id}/report.json": {"GET": TAKE_EVIDENCE},
    "runs/{id}/report.pdf": {"GET": TAKE_EVIDENCE},
    "runs/{id}/report.pdf/progress": {"GET": TAKE_EVIDENCE},
    "evidence/archive.zip": {"GET": TAKE_EVIDENCE},
    "evidence/keys": {"GET": SEE, "POST": CHANGE_SETTINGS},
    "evidence/proof": {"GET": SEE},
    "evidence/sample.html": {"GET": SEE},
    "evidence/verify": {"POST": SEE},
    # Drills.
    "drills": {"GET": SEE, "POST": SCHEDULE_DRILLS},
    "drills/calendar.ics": {"GET": SEE},
    "drills/feed": {"POST": SEE, "DELETE": SEE},
    "drills/try": {"POST": SEE},
    "drills/{id}": {"PUT": SCHEDULE_DRILLS, "DELETE": SCHEDULE_DRILLS},
    "blackouts": {"POST": SCHEDULE_DRILLS},
    "blackouts/{id}": {"DELETE": SCHEDULE_DRILLS},
    # The practice lab.
    "practice-lab": {"GET": SEE, "POST": USE_LAB, "DELETE": USE_LAB},
    "practice-lab/fault-script": {"POST": USE_LAB},
}

TO_RESTORE = {
    "plan": CHANGE_PLANS,
    "group": CHANGE_PROTECTION,
    "crosswalk": CHANGE_CROSSWALKS,
    "script": CHANGE_SCRIPTS,
    "site": CHANGE_ESTATE,
    "workload": CHANGE_ESTATE,
    "link": CHANGE_ESTATE,
}
"""What whoever restores a retired thing needs, by its kind."""
