"""Roles, and the permissions that each of them holds."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from maestoso.core.errors import BadValue

SEE = "see"
READ_AUDIT = "read-audit"
TAKE_EVIDENCE = "take-evidence"
HOLD_EVIDENCE = "hold-evidence"
ANNOTATE = "annotate"
CHANGE_ESTATE = "change-estate"
CHANGE_PROTECTION = "change-protection"
CHANGE_CROSSWALKS = "change-crosswalks"
CHANGE_PLANS = "change-plans"
CHANGE_SCRIPTS = "change-scripts"
SCHEDULE_DRILLS = "schedule-drills"
ANSWER = "answer"
RUN_TESTS = "run-tests"
RUN_LIVE = "run-live"
DECLARE = "declare-outages"
APPROVE = "approve"
USE_LAB = "use-lab"
CHANGE_SETTINGS = "change-settings"
MANAGE_PEOPLE = "manage-people"

WORDS = {
    SEE: "see the estate, plans, runs and reports",
    READ_AUDIT: "read the audit trail",
    TAKE_EVIDENCE: "download reports and evidence",
    HOLD_EVIDENCE: "put legal holds on runs and release them",
    ANNOTATE: "add notes, files and known traps",
    CHANGE_ESTATE: "change sites, workloads and links",
    CHANGE_PROTECTION: "change consistency groups and their copying",
    CHANGE_CROSSWALKS: "change crosswalks",
    CHANGE_PLANS: "change recovery plans",
    CHANGE_SCRIPTS: "change scripts and secrets",
    SCHEDULE_DRILLS: "change the drill calendar",
    ANSWER: "answer what runs ask",
    RUN_TESTS: "start, steer and judge isolated tests",
    RUN_LIVE: "start, steer, commit and roll back live runs",
    DECLARE: "say that a site is down, which starts nothing",
    APPROVE: "approve starts that need a second signature, and review emergency starts",
    USE_LAB: "break and mend practice sites",
    CHANGE_SETTINGS: "change the organisation's settings and seal keys",
    MANAGE_PEOPLE: "invite people, give roles and disable accounts",
}
"""What whoever has a permission may do."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Role:
    """A role that can be given to a person."""

    code: str
    name: str
    words: str
    permissions: frozenset[str]


_WORKS = frozenset({SEE, TAKE_EVIDENCE, ANNOTATE})
ADMINISTRATOR = "administrator"
ROLES = (
    Role(
        code="viewer", name="Viewer", words="Sees everything but the audit trail.",
        permissions=frozenset({SEE}),
    ),
    Role(
        code="auditor", name="Auditor", words="Reads the audit trail, takes evidence out and keeps it.",
        permissions=_WORKS | {READ_AUDIT, HOLD_EVIDENCE},
    ),
    Role(
        code="planner", name="Planner", words="Prepares estate, protection, crosswalks, plans and drills.",
        permissions=_WORKS | {
            CHANGE_ESTATE, CHANGE_PROTECTION, CHANGE_CROSSWALKS, CHANGE_PLANS, CHANGE_SCRIPTS,
            SCHEDULE_DRILLS,
        },
    ),
    Role(
        code="operator", name="Operator", words="Runs isolated tests and answers what any run asks.",
        permissions=_WORKS | {ANSWER, RUN_TESTS, USE_LAB, DECLARE},
    ),
    Role(
        code="conductor", name="Conductor", words="Runs everything that moves production, and tests.",
        permissions=_WORKS | {ANSWER, RUN_TESTS, RUN_LIVE, DECLARE},
    ),
    Role(
        code="approver", name="Approver", words="Gives the second signature that a start needs.",
        permissions=frozenset({SEE, APPROVE}),
    ),
    Role(
        code=ADMINISTRATOR, name="Administrator", words="May do everything, and says who else may do what.",
        permissions=frozenset(WORDS),
    ),
)  # fmt: skip
BY_CODE: Mapping[str, Role] = {role.code: role for role in ROLES}
"""The roles that every organisation has; it can make own ones of the same permissions."""


def permissions_of(roles: Iterable[str], known: Mapping[str, Role] = BY_CODE) -> frozenset[str]:
    """Everything that these roles hold together; a role that is not known holds nothing."""
    return frozenset().union(*(known[code].permissions for code in roles if code in known))


def roles_with(permission: str, known: Mapping[str, Role] = BY_CODE) -> tuple[Role, ...]:
    """The roles that hold a permission."""
    return tuple(role for role in known.values() if permission in role.permissions)


MOST_OF_A_NAME = 40


def own_role(name: str, words: str, permissions: Iterable[str]) -> Role:
    """A role of an organisation's own, called by its name; whoever has it sees as well.

    Raises BadValue naming the field.
    """
    called = " ".join(name.split())
    code = re.sub(r"[^a-z0-9]+", "-", called.lower()).strip("-")
    if not code or len(called) > MOST_OF_A_NAME:
        raise BadValue(
            "The role has no name of letters or digits, or a long one.",
            f"Give 1 to {MOST_OF_A_NAME} characters, such as Night operator.", field="name",
        )  # fmt: skip
    held = frozenset(permissions)
    unknown = sorted(held - WORDS.keys())
    if unknown:
        raise BadValue(
            f"There is no permission {unknown[0][:40]!r}.", f"Permissions are: {', '.join(WORDS)}.",
            field="permissions",
        )  # fmt: skip
    if len(words) > 200:
        raise BadValue("What the role is for is very long.", "Give at most 200 characters.", field="words")
    return Role(code=code, name=called, words=" ".join(words.split()), permissions=held | {SEE})


def to_start(kind: str) -> str:
    """What whoever starts a run of this kind needs."""
    return RUN_TESTS if kind == "test" else RUN_LIVE


ANSWERS = frozenset({"answer", "not-right", "retry", "skip"})
"""Controls that answer what a run asks; the others steer it."""


def to_control(kind: str, control: str) -> str:
    """What whoever sends a control to a run of this kind needs."""
    return ANSWER if control in ANSWERS else to_start(kind)


def refusal(
    permission: str, roles: Collection[str], able: Collection[str], known: Mapping[str, Role] = BY_CODE
) -> tuple[str, str]:
    """Why somebody with these roles may not, and who may: a sentence and what to do.

    ``able`` are the names of people who have the permission.
    """
    own = [known[code].name.lower() for code in roles if code in known]
    if own:
        verb = "Your role ({}) does" if len(own) == 1 else "Your roles ({}) do"
        sentence = f"{verb.format(', '.join(own))} not include: {WORDS[permission]}."
    else:
        sentence = f"You have no role, so you may not: {WORDS[permission]}."
    return sentence, f"Ask {one_of(able)}, who may." if able else "Ask an administrator."


def one_of(names: Collection[str]) -> str:
    """Some people to turn to: 'Ada, Bo or Cy'; three of many."""
    shown = sorted(names)[:3]
    return shown[0] if len(shown) == 1 else f"{', '.join(shown[:-1])} or {shown[-1]}"


ROLE = "role:"
"""What the name of a role begins with, where people or roles are named: ``role:operator``."""


def among(by: str, roles: Collection[str], wanted: Collection[str]) -> bool:
    """Whether somebody is among those that are named, or has a role that is; where none is, all are."""
    return not wanted or by in wanted or any(f"{ROLE}{role}" in wanted for role in roles)


def in_words(wanted: Iterable[str]) -> tuple[str, ...]:
    """People by name, roles as such: 'whoever is operator'."""
    return tuple(f"whoever is {one.removeprefix(ROLE)}" if one.startswith(ROLE) else one for one in wanted)


def unknown_roles(wanted: Iterable[str], known: Collection[str]) -> list[str]:
    """Roles among those named that there are not."""
    named = [one.removeprefix(ROLE) for one in wanted if one.startswith(ROLE)]
    return [code for code in named if code not in known]
