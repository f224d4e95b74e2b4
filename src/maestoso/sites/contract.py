"""The site protocol as OpenAPI, made from the same dataclasses that client and practice site use.

``python -m maestoso.sites.contract`` prints it; a test compares it with what the agent kit brings along.
"""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import MISSING, dataclass, field, fields
from datetime import datetime
from typing import Any

from maestoso.core.codec import object_schema, to_data
from maestoso.core.model.estate import Inventory
from maestoso.core.model.landing import Landing
from maestoso.core.model.protection import ChangeRate, CopyState, LinkState, RecoveryPoint
from maestoso.core.runs.operations import OperationState
from maestoso.sites.verbs import REFUSALS, VERBS

PROTOCOL = "1.4"
"""1.0: as first released. 1.1: says which services answer, and in every pulse which version it speaks.
1.2: says by an epoch that the agent has lost its memory, repeats the digest of a group that it is given, is
busy without failing, says how far operations are, and is enrolled with a one-time code.
1.3: refuses whoever conducted for an installation before another took over.
1.4: keeps leases of installations."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Submission:
    """The body of PUT /v1/operations/{key}.

    ``installation`` is a text of whoever asks, and ``reign`` counts who conducts for it: each one that takes
    over from another has a higher one. A site refuses a lower one for good.
    """

    verb: str
    subject: str
    run: str
    fence: int
    args: dict[str, Any] = field(default_factory=dict)
    pace: float = 1.0
    installation: str = ""
    reign: int = 0


@dataclass(frozen=True, slots=True, kw_only=True)
class Capabilities:
    """What an agent speaks and can; ``epoch`` as in the pulse."""

    protocol: str
    agent: str
    site: str
    practice: bool
    verbs: tuple[str, ...]
    epoch: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class SiteClock:
    """The site's clock."""

    now: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class Points:
    """Points of one group, and how fast it changed, evenly spaced."""

    points: tuple[RecoveryPoint, ...]
    changes: tuple[ChangeRate, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class UnderWay:
    """How far an operation is that takes its time, by its key: bytes, and bytes a second now."""

    key: str
    done_bytes: int
    total_bytes: int
    rate_bps: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class SitePulse:
    """How a site stands: its clock, which inventory it has (any text that changes with it), its copying.

    ``landings`` is any text that changes with the landings that the site holds; ``protocol`` is the version
    that its agent speaks. ``running`` counts the machines that have power, copies that were failed over
    included, and ``copies`` those of tests; None where an agent does not count. ``off`` names the machines of
    its own that have no power, as far as the agent says; ``under_way`` says how far operations are, where the
    agent knows. ``epoch`` is any text that changes when the agent
    has lost its memory of operations, as when it was restored from an older state.
    """

    now: datetime
    inventory: str
    groups: tuple[CopyState, ...]
    links: tuple[LinkState, ...]
    landings: str = ""
    protocol: str = "1.0"
    running: int | None = None
    copies: int | None = None
    off: tuple[str, ...] = ()
    under_way: tuple[UnderWay, ...] = ()
    epoch: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldLandings:
    """What the site keeps for workloads that may arrive, beside what it has."""

    landings: tuple[Landing, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Lags:
    """The worst lag in seconds of every group, in stretches of ``every_s`` over the last day."""

    every_s: int
    groups: dict[str, tuple[float, ...]]


@dataclass(frozen=True, slots=True, kw_only=True)
class WorkloadChange:
    """What a workload changes, bytes a second: on average, and in its busiest hour."""

    workload: str
    mean_bps: float
    peak_bps: float


@dataclass(frozen=True, slots=True, kw_only=True)
class ChangeRates:
    """Measured changes of the workloads of a site."""

    workloads: tuple[WorkloadChange, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Changes:
    """A stretch of the feed; ``epoch`` as in the pulse."""

    operations: tuple[OperationState, ...]
    cursor: int
    epoch: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class JournalEntry:
    """One effect that the site really had; ``at`` is seconds since 1970."""

    seq: int
    at: float
    key: str
    fence: int
    verb: str
    subject: str
    effect: dict[str, Any]


@dataclass(frozen=True, slots=True, kw_only=True)
class Journal:
    """Effects in order."""

    entries: tuple[JournalEntry, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Asked:
    """Workloads whose services are asked for; with a ``mark``, those of the copies that carry it."""

    workloads: tuple[str, ...]
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Answering:
    """By workload, the names of its services that answer at this site now; ``mark`` as it was asked.

    Without a mark copies of tests do not count, and with one nothing else does: they are probed inside their
    isolated networks.
    """

    services: dict[str, tuple[str, ...]]
    mark: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Remains:
    """What is left of a run, in words."""

    remains: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class LeaseAsked:
    """Whoever conducts renews its lease; with ``if_over`` somebody wants it who takes over.

    ``renewals`` counts those that whoever conducts has written down; who takes over says how many of them
    its records know. ``holder`` is any text that no other process has.
    """

    reign: int
    renewals: int
    for_s: float
    holder: str
    if_over: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LeaseGiven:
    """The lease as it is kept now, and for how many seconds."""

    reign: int
    renewals: int
    left_s: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Enrolment:
    """The one-time code that the agent printed, and the site that it is registered as."""

    code: str
    site: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class AgentToken:
    """A token to speak with from now on."""

    token: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Problem:
    """Problem details (RFC 9457): a stable ``code``, and a ``detail`` that a person can read."""

    code: str
    detail: str
    status: int = 0
    title: str = ""


_GETS: tuple[tuple[str, type, tuple[str, ...], str], ...] = (
    ("/v1/capabilities", Capabilities, (), "What the agent speaks and can."),
    ("/v1/clock", SiteClock, ("wait",), "The site's clock; stays open up to `wait` seconds."),
    ("/v1/inventory", Inventory, (), "What the site has."),
    ("/v1/points", Points, ("group",), "Points of a group, oldest first."),
    ("/v1/pulse", SitePulse, (), "How the site and the copying to it stand."),
    ("/v1/landings", HeldLandings, (), "Landings that the site holds for workloads that may arrive."),
    ("/v1/lags", Lags, (), "How far behind every group was over the last day."),
    ("/v1/change-rates", ChangeRates, (), "How fast the workloads of this site change."),
    ("/v1/operations", Changes, ("after", "wait"), "The feed: what changed behind a cursor."),
    ("/v1/journal", Journal, ("after",), "Effects that the site really had."),
    ("/v1/remains", Remains, ("mark",), "What still carries the mark of a run."),
)


def openapi() -> dict[str, Any]:
    """The whole document.

    Objects are open: whoever reads leaves out what it does not know, and defaults what may be missing.
    """
    schemas: dict[str, Any] = {}
    named: dict[str, type] = {}

    def ref(cls: type) -> dict[str, Any]:
        if named.setdefault(cls.__name__, cls) is not cls:
            raise AssertionError(f"two shapes are called {cls.__name__}")
        if cls.__name__ not in schemas:
            schemas[cls.__name__] = {}
            described = object_schema(cls, ref, complete=False)
            del described["additionalProperties"]
            for name, value in _defaults(cls):
                described["properties"][name] = {**described["properties"][name], "default": value}
            schemas[cls.__name__] = {**described, "description": said_of(cls)}
        return {"$ref": f"#/components/schemas/{cls.__name__}"}

    def answer(cls: type) -> dict[str, Any]:
        return {
            "200": {"description": "", "content": {"application/json": {"schema": ref(cls)}}},
            "default": {
                "description": "A refusal.",
                "content": {"application/problem+json": {"schema": ref(Problem)}},
            },
        }

    paths: dict[str, Any] = {}
    for path, cls, parameters, said in _GETS:
        query = [{"in": "query", "name": name, "schema": {"type": "string"}} for name in parameters]
        paths[path] = {"get": {"description": said, "parameters": query, "responses": answer(cls)}}
    asked = {"required": True, "content": {"application/json": {"schema": ref(Asked)}}}
    paths["/v1/answering"] = {
        "post": {
            "description": "Which services answer, probed as a client would.",
            "requestBody": asked,
            "responses": answer(Answering),
        }
    }
    paths["/v1/token"] = {
        "post": {
            "description": "Another token; the old one is good until the new one was used.",
            "responses": answer(AgentToken),
        }
    }
    lease = {"required": True, "content": {"application/json": {"schema": ref(LeaseAsked)}}}
    paths["/v1/leases/{installation}"] = {
        "put": {
            "description": "Who conducts for an installation, as a third place remembers it.",
            "parameters": [
                {"in": "path", "name": "installation", "required": True, "schema": {"type": "string"}}
            ],
            "requestBody": lease,
            "responses": answer(LeaseGiven),
        }
    }
    code = {"required": True, "content": {"application/json": {"schema": ref(Enrolment)}}}
    paths["/v1/enrol"] = {
        "post": {
            "description": "The first token, for the one-time code. It is asked without a token.",
            "security": [],
            "requestBody": code,
            "responses": answer(AgentToken),
        }
    }
    key = [{"in": "path", "name": "key", "required": True, "schema": {"type": "string"}}]
    asks = {
        "allOf": [
            ref(Submission),
            *(
                {
                    "if": {"properties": {"verb": {"const": name}}},
                    "then": {"properties": {"args": ref(verb.args)}},
                }
                for name, verb in VERBS.items()
            ),
        ]
    }
    body = {"required": True, "content": {"application/json": {"schema": asks}}}
    paths["/v1/operations/{key}"] = {
        "put": {
            "description": "Ask for an operation; the same key is done at most once.",
            "parameters": key,
            "requestBody": body,
            "responses": answer(OperationState),
        },
        "get": {
            "description": "How an operation stands.",
            "parameters": key,
            "responses": answer(OperationState),
        },
    }
    return {
        "openapi": "3.1.0",
        "info": {"title": "Maestoso site protocol", "version": PROTOCOL},
        "security": [{"token": []}],
        "paths": paths,
        "components": {
            "schemas": schemas,
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
        },
        "x-verbs": {
            name: {
                "subject": verb.subject,
                "description": verb.does,
                "args": ref(verb.args),
                "result": ref(verb.result),
                "refusals": list(verb.refusals),
                **({"for_labs": True} if verb.for_labs else {}),
            }
            for name, verb in VERBS.items()
        },
        "x-refusals": dict(REFUSALS),
    }


def _defaults(cls: type) -> Iterator[tuple[str, Any]]:
    """What stands for a field that was left out."""
    for one in fields(cls):
        if one.default is not MISSING:
            yield one.name, to_data(one.default)
        elif one.default_factory is not MISSING:
            yield one.name, to_data(one.default_factory())


def said_of(cls: type) -> str:
    """What the docstring of a shape says, as one paragraph; of a long one, its first."""
    return " ".join((cls.__doc__ or "").split("\n\n")[0].split()).replace("``", "`")


if __name__ == "__main__":
    print(json.dumps(openapi(), indent=2))
