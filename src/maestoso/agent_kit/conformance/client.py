"""Speaking to an agent under test. Every answer is held against its schema."""

from __future__ import annotations

import time
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import quote

import httpx

from ..protocol import VERBS, shape_of, unread

SETTLES_S = 600.0
PACE = 1000.0
"""Lets a practice site run faster; a real agent ignores it."""


class Wrong(Exception):
    """The agent does something that is not as it is written."""


class NotTested(Exception):
    """Something could not be tested; the text says why, and what it takes."""


@dataclass(slots=True)
class Refusal:
    """A refusal of the agent."""

    status: int
    code: str
    detail: str


@dataclass(slots=True)
class Client:
    """One agent. ``name`` is what it is called in sentences."""

    url: str
    token: str
    name: str
    verify: Any = True
    pace: float = PACE
    http: httpx.Client = field(init=False)

    def __post_init__(self) -> None:
        self.http = self.line(self.token)

    def line(self, token: str) -> httpx.Client:
        """A connection with a token of its own."""
        return httpx.Client(
            base_url=f"{self.url.rstrip('/')}/v1",
            headers={"Authorization": f"Bearer {token}"} if token else {},
            timeout=httpx.Timeout(60.0, connect=5.0), verify=self.verify, trust_env=False,
        )  # fmt: skip

    def get(self, path: str, shape: str, **query: Any) -> Any:
        """What it answers, which must be of a shape. Raises Wrong."""
        return _of_shape(self.http.get(path, params=query), f"GET {path}", shape)

    def put(self, path: str, body: Mapping[str, Any], shape: str) -> Any:
        """What it answers to a body, which must be of a shape. Raises Wrong."""
        return _of_shape(self.http.put(path, json=body), f"PUT {path}", shape)

    def refused(self, method: str, path: str, **rest: Any) -> Refusal:
        """A request that must be refused, with problem details and a code. Raises Wrong."""
        answer = self.http.request(method, path, **rest)
        if answer.status_code < 400:
            raise Wrong(f"{method} {path} was answered with {answer.status_code}; it must be refused.")
        return _refusal(answer, f"{method} {path}")

    # --- operations ---

    def ask(
        self, verb: str, subject: str, *, run: str = "", key: str = "", fence: int = 1, **args: Any
    ) -> Asked:
        """An operation to ask for, with a key of its own unless one is given."""
        key = key or f"conformance:{verb}:{uuid.uuid4().hex}"
        body = {
            "verb": verb, "subject": subject, "fence": fence,
            "run": run or f"conformance-{uuid.uuid4().hex[:8]}",
            "args": args, "pace": self.pace,
        }  # fmt: skip
        return Asked(self, key, body)

    def done(self, verb: str, subject: str, **rest: Any) -> dict[str, Any]:
        """Ask for an operation that must succeed; its result."""
        state = self.ask(verb, subject, **rest).settled()
        if state["status"] != "done":
            raise Wrong(f"{verb} of {subject} failed with {state.get('code')}: {state.get('reason')}")
        return dict(state["result"])

    def fails(self, verb: str, subject: str, code: str, **rest: Any) -> None:
        """Ask for an operation that must fail with a code."""
        state = self.ask(verb, subject, **rest).settled()
        if state["status"] != "failed" or state.get("code") != code:
            how = state["status"] if state["status"] == "done" else state.get("code")
            raise Wrong(f"{verb} of {subject} ended with {how}; it must fail with {code}.")

    def effects(self, key: str) -> list[dict[str, Any]]:
        """The effects that it had for a key."""
        entries: list[dict[str, Any]] = self.get("/journal", "Journal", after=0)["entries"]
        return [entry for entry in entries if entry["key"] == key]

    def verbs(self) -> list[str]:
        """The verbs that it says it has."""
        return list(self.get("/capabilities", "Capabilities")["verbs"])


@dataclass(slots=True)
class Asked:
    """One operation."""

    client: Client
    key: str
    body: dict[str, Any]

    @property
    def path(self) -> str:
        """Where it is asked for."""
        return f"/operations/{quote(self.key, safe='')}"

    def under(self, installation: str, reign: int) -> Asked:
        """The same, asked by an installation under a reign."""
        return replace(self, body={**self.body, "installation": installation, "reign": reign})

    def put(self, **changes: Any) -> dict[str, Any]:
        """Ask for it. Raises Wrong where that is refused."""
        answer = self.client.http.put(self.path, json={**self.body, **changes})
        state: dict[str, Any] = _of_shape(answer, f"PUT of {self.body['verb']}", "OperationState")
        if state["key"] != self.key:
            raise Wrong(f"The answer is about the key {state['key']!r}; it was asked for {self.key!r}.")
        return state

    def refused(self, **changes: Any) -> Refusal:
        """Ask for it, which must be refused."""
        return self.client.refused("PUT", self.path, json={**self.body, **changes})

    def settled(self) -> dict[str, Any]:
        """Ask for it and listen to the feed until it has ended."""
        cursor = self.client.get("/operations", "Changes", after=-1, wait=0)["cursor"]
        state, until = self.put(), time.monotonic() + SETTLES_S
        while state["status"] not in ("done", "failed"):
            if time.monotonic() > until:
                known = self.client.get(self.path, "OperationState")
                how = (
                    "the feed did not say that it ended"
                    if known["status"] in ("done", "failed")
                    else "it runs"
                )
                raise Wrong(f"{self.body['verb']} of {self.body['subject']}: after {SETTLES_S:.0f} s {how}.")
            news = self.client.get("/operations", "Changes", after=cursor, wait=5)
            cursor = news["cursor"]
            state = next((one for one in news["operations"] if one["key"] == self.key), state)
        return self.judged(state)

    def judged(self, state: dict[str, Any]) -> dict[str, Any]:
        """A state that has ended, which must say what is demanded."""
        verb = self.body["verb"]
        if state["status"] == "failed" and not (state.get("code") and state.get("reason")):
            raise Wrong(f"{verb} failed without a code and a reason.")
        if state["status"] == "done" and verb in VERBS:
            fault = unread(shape_of(verb, "result"), state["result"])
            if fault:
                raise Wrong(f"The result of {verb} is not as it must be. {fault}")
        return state


def _of_shape(answer: httpx.Response, what: str, shape: str) -> Any:
    if not answer.is_success:
        refusal = _refusal(answer, what)
        raise Wrong(f"{what} was refused with {answer.status_code} {refusal.code}: {refusal.detail}")
    try:
        content = answer.json()
    except ValueError as error:
        raise Wrong(f"{what} was not answered with JSON.") from error
    fault = unread(shape, content)
    if fault:
        raise Wrong(f"What {what} answers is not of the shape {shape}. {fault}")
    return content


def _refusal(answer: httpx.Response, what: str) -> Refusal:
    try:
        content = answer.json()
    except ValueError:
        content = None
    fault = unread("Problem", content)
    if fault:
        raise Wrong(f"{what} was refused with {answer.status_code} and no problem details. {fault}")
    return Refusal(answer.status_code, content["code"], content["detail"])


def wait_until(ready: Any, limit_s: float = SETTLES_S) -> Any:
    """Look until something is there, and return it; None at the limit."""
    end = time.monotonic() + limit_s
    while not (found := ready()) and time.monotonic() < end:
        time.sleep(0.05)
    return found


def named(items: Any, name: str) -> Mapping[str, Any]:
    """The one of that name."""
    return next(item for item in items if item["name"] == name)
