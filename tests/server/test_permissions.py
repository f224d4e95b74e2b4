"""The table of permissions: complete, and asked at every address, with every method, for every role."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from django.test import Client, TestCase
from django.urls import URLPattern, URLResolver, get_resolver

from maestoso.core.errors import DomainError
from maestoso.core.people.roles import BY_CODE, TAKE_EVIDENCE, WORDS, permissions_of
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import InTable, address_of
from maestoso.server.access.table import ANYBODY, BY_KIND, OWN, TABLE, TO_RESTORE
from maestoso.server.audit.words import DID, LOOKS_ONLY
from maestoso.server.estate import retired
from maestoso.server.estate.models import Retired
from tests.server.people import make_person
from tests.server.tidewell import Tidewell

VALUES = {
    "code": "BOOK", "name": "some-name", "source": "QUA", "target": "HIL", "one": "QUA", "other": "HIL", "point": "p-1",
    "key": "abc",
}  # fmt: skip
CONTRACT = json.loads(
    (Path(__file__).resolve().parents[2] / "docs" / "openapi.json").read_text(encoding="utf-8")
)
STREAMS = {"stream", "runs/{id}/stream"}
"""Answered in front of this application: tests of streams ask them."""


class Reached(DomainError):
    """The view would have been asked."""

    code = "reached"
    status = 418


def routes(patterns: list[Any], before: str = "") -> Iterator[tuple[str, URLPattern]]:
    """Every route of the API below, and what the table holds at the root."""
    for one in patterns:
        route = before + str(one.pattern)
        if isinstance(one, URLResolver):
            yield from routes(one.url_patterns, route)
        elif isinstance(one, URLPattern) and (route.startswith("api/v1/") or route in TABLE):
            yield route.removeprefix("api/v1/"), one


def path_of(address: str) -> str:
    """Where an address of the table is found."""
    return f"/{address}" if address == "metrics" else f"/api/v1/{address}"


def view_of(pattern: URLPattern) -> type:
    """The class that answers."""
    view: Any = pattern.callback
    found: type = view.view_class if hasattr(view, "view_class") else view.cls
    return found


def operations() -> Iterator[tuple[str, str]]:
    """Every address and method that a view answers."""
    for route, pattern in routes(get_resolver().url_patterns):
        for method in ("get", "post", "put", "patch", "delete"):
            if hasattr(view_of(pattern), method):
                yield address_of(route), method.upper()


class TheTable(TestCase):
    def test_it_holds_what_views_answer_and_nothing_else(self) -> None:
        answered = set(operations())
        listed = {(address, method) for address, methods in TABLE.items() for method in methods}
        self.assertEqual(answered - listed, set())
        self.assertEqual({one for one in listed - answered if one[0] not in STREAMS}, set())

    def test_it_names_permissions_that_there_are(self) -> None:
        named = {needed for methods in TABLE.values() for needed in methods.values()}
        self.assertLessEqual(named, set(WORDS) | {ANYBODY, OWN, BY_KIND})
        self.assertLessEqual(set(TO_RESTORE.values()), set(WORDS))
        self.assertEqual(set(TO_RESTORE), set(retired.ways_back()))


class TheTrail(TestCase):
    """What changes something has words, and what takes evidence out is written down."""

    def test_every_change_has_words(self) -> None:
        missing = [
            f"{method.upper()} {route}"
            for route, pattern in routes(get_resolver().url_patterns)
            for method in ("post", "put", "patch", "delete")
            if hasattr(view_of(pattern), method) and pattern.name not in LOOKS_ONLY
            and method.upper() not in DID.get(str(pattern.name), {})
        ]  # fmt: skip
        self.assertEqual(missing, [])

    def test_words_name_what_the_address_and_the_body_hold(self) -> None:
        known = {str(one.name): route for route, one in routes(get_resolver().url_patterns)}
        for name, methods in DID.items():
            for method, words in methods.items():
                for key in re.findall(r"\{([\w.]+)\}", words):
                    with self.subTest(f"{method} {name}: {key}"):
                        if key.startswith("body."):
                            operation = CONTRACT["paths"][f"/api/v1/{address_of(known[name])}"][
                                method.lower()
                            ]
                            (content,) = operation["requestBody"]["content"].values()
                            self.assert_has(content["schema"], key.split(".")[1:])
                        else:
                            self.assertRegex(known[name], rf"<\w+:{key}>")

    def assert_has(self, schema: dict[str, Any], path: list[str]) -> None:
        """A body of this schema has such a value."""
        for part in path:
            named = schema.get("$ref", "").rsplit("/", 1)[-1]
            properties = (
                CONTRACT["components"]["schemas"][named]["properties"] if named else schema["properties"]
            )
            self.assertIn(part, properties)
            schema = properties[part]

    def test_whatever_takes_evidence_out_has_words(self) -> None:
        names = {address_of(route): str(one.name) for route, one in routes(get_resolver().url_patterns)}
        taken = {address for address, methods in TABLE.items() if methods.get("GET") == TAKE_EVIDENCE}
        lacking = [one for one in taken if "GET" not in DID.get(names[one], {})]
        self.assertEqual(lacking, [])


class EveryRoleEverywhere(TestCase):
    """Each role at each address with each method, and somebody without any role."""

    @classmethod
    def setUpTestData(cls) -> None:
        for role in BY_CODE:
            make_person(role, roles=[role])
        make_person("nobody-yet", roles=[])

    def setUp(self) -> None:
        allowed = InTable.has_permission

        def asked(table: InTable, request: Any, view: Any) -> bool:
            if allowed(table, request, view):
                raise Reached("It would have been asked.")
            return False

        patched = mock.patch.object(InTable, "has_permission", asked)
        patched.start()
        self.addCleanup(patched.stop)

    def call(self, client: Client, address: str, method: str) -> int:
        """The status of a call; 418 where the view would have been asked."""
        for name, value in VALUES.items():
            address = address.replace("{" + name + "}", value)
        for number in ("id", "number"):
            address = address.replace("{" + number + "}", "1")
        return client.generic(method, path_of(address), "{}", content_type="application/json").status_code

    def test_each_is_let_in_where_the_table_says_and_nowhere_else(self) -> None:
        asked = 0
        for name in (*BY_CODE, "nobody-yet", ""):
            client = Client()
            if name:
                client.force_login(self.user(name))
            held = permissions_of([name])
            for address, method in operations():
                needed = TABLE[address][method]
                if needed == BY_KIND or address == "openapi.json":
                    continue
                let_in = needed == ANYBODY or (bool(name) and (needed == OWN or needed in held))
                with self.subTest(f"{name or 'a stranger'}: {method} {address}"):
                    self.assertEqual(self.call(client, address, method), 418 if let_in else 403)
                asked += 1
        self.assertGreater(asked, 1000)

    def user(self, name: str) -> Any:
        """Somebody who was made above."""
        from django.contrib.auth.models import User

        return User.objects.get(username=name)

    def test_who_restores_needs_what_made_it(self) -> None:
        for kind, needed in TO_RESTORE.items():
            row = Retired.objects.create(kind=kind, name="x", body={}, by="", at=SystemClock().now())
            for name in BY_CODE:
                client = Client()
                client.force_login(self.user(name))
                status = client.post(f"/api/v1/retired/{row.pk}/back").status_code
                self.assertEqual(status, 418 if needed in permissions_of([name]) else 403, (name, kind))


class WhatDependsOnWhatIsSent(Tidewell):
    """Starting and steering: tests are one thing, what moves production another."""

    def setUp(self) -> None:
        super().setUp()
        for name, role in (("olga", "operator"), ("carl", "conductor"), ("vera", "viewer")):
            make_person(name, roles=[role])

    def as_person(self, name: str) -> Client:
        """A signed-in client."""
        from django.contrib.auth.models import User

        client = Client()
        client.force_login(User.objects.get(username=name))
        return client

    def start(self, name: str, kind: str) -> Any:
        """Start a run of HARB."""
        options = {"kind": kind, "pace": 200, "sync_first": kind == "planned"}
        body = {"plan": "HARB", "confirm": "HARB", "options": options}
        return self.as_person(name).post(
            "/api/v1/runs",
            body,
            content_type="application/json",
            headers={"Idempotency-Key": f"{name} {kind}"},
        )

    def control(self, name: str, run: int, kind: str) -> Any:
        """Tell a run something."""
        return self.as_person(name).post(
            f"/api/v1/runs/{run}/controls", {"kind": kind, "text": ""}, content_type="application/json"
        )

    def test_an_operator_tests_and_a_conductor_moves(self) -> None:
        body = self.problem(self.start("olga", "planned"), 403, "not-permitted")
        self.assertEqual(
            body["detail"],
            "Your role (operator) does not include: start, steer, commit and roll back live runs.",
        )
        self.assertEqual(body["remedy"], "Ask ann, ben or carl, who may.")
        self.problem(self.start("vera", "test"), 403, "not-permitted")
        run = self.start("carl", "planned")
        self.assertEqual(run.status_code, 201, run.content)
        self.problem(self.control("olga", run.json()["id"], "hold"), 403, "not-permitted")
        self.assertEqual(self.control("carl", run.json()["id"], "hold").status_code, 200)

    def test_an_operator_steers_a_test_and_answers_any_run(self) -> None:
        run = self.start("olga", "test").json()["id"]
        self.assertEqual(self.control("olga", run, "hold").status_code, 200)
        self.problem(self.control("vera", run, "resume"), 403, "not-permitted")
        # That there is no such step is said to who may answer only.
        self.problem(self.control("carl", run, "answer"), 404, "not-found")
        self.problem(self.control("vera", run, "answer"), 403, "not-permitted")
