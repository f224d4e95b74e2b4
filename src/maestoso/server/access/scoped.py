"""How each address treats whoever has a role for some sites or plans only: one table, which fails closed.

What is addressed as an object is looked for among what is in reach, or not found. Lists hold what is in
reach. What names a plan in its body is about that plan. Everything else that shows or changes the estate is
for those whose role is for everything.
"""

from __future__ import annotations

OBJECTS: dict[str, str] = {
    "plans/{code}": "plan",
    "groups/{code}": "group",
    "workloads/{name}": "workload",
    "sites/{code}": "site",
    "crosswalks/{source}/{target}": "way",
    "links/{one}/{other}": "way",
    "runs/{id}": "run",
    "drills/{id}": "drill",
    "approvals/{id}": "approval",
    "traps/{id}": "trap",
    "declared/{id}": "outage",
}
"""What an address names, by how it begins."""

OF_A_PLAN = frozenset(
    {("POST", "runs"), ("POST", "approvals"), ("POST", "drills"), ("POST", "drills/try"),
     ("POST", "declare")}
)  # fmt: skip
"""Requests that name a plan in their body."""
OF_A_THING = frozenset({("POST", "traps")})
"""Requests that name a plan, group or workload in their body: what they are about, and its name."""

LISTS = frozenset(
    {
        "site-line", "stream", "readiness", "search", "plans", "groups", "workloads", "sites", "crosswalks",
        "runs", "drills", "approvals", "uses", "site-requests", "traps", "evidence/proof",
        "group-cost", "declared", "events",
    }
)  # fmt: skip
"""Addresses whose answers, to look at, hold only what is in reach; new things are for everything."""

OF_NOBODY = frozenset(
    {
        "people", "settings", "settings/logo", "filters", "filters/{name}", "plan-files/schema",
        "plan-templates", "library", "run-views", "approval-rules", "approvals/deeds", "evidence/keys",
        "evidence/verify", "crosswalks/proposals", "crosswalks/trial", "takeover", "jobs", "jobs/{id}",
        "jobs/{id}/result",
    }
)  # fmt: skip
"""Addresses that say nothing of the estate, or only to whoever asked for it, to look at: what changes them is
for everything all the same."""
