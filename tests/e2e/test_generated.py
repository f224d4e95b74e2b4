"""Requests that nobody thought of, made from the contract, over the objects of the demo: no answer surprises."""

from __future__ import annotations

import os
import random
import re
import time
import unittest
import warnings
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.core.failures import FailureGroup
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from maestoso.server.config.options import ROOT
from tests.e2e.application import Application

SEED = 8
SECONDS = float(os.environ.get("MAESTOSO_GENERATED_SECONDS", "60"))
CHECKS = (not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance)
LEFT_OUT = re.compile(r"/session$|/stream$|/practice|\.pdf$|archive\.zip$|/sites$")
"""Signing in and out, what never ends, what switches the sites off that the others ask, what takes seconds each."""
APP = Application()


def setUpModule() -> None:
    """The demo."""
    unittest.addModuleCleanup(APP.close)
    APP.start(MAESTOSO_SIGNIN_PER_MINUTE="1000")


class Generated(unittest.TestCase):
    """A bounded pass with a fixed seed, by somebody who is signed in."""

    def setUp(self) -> None:
        api = APP.api()
        self.headers = {
            "X-CSRFToken": api.token,
            "Cookie": "; ".join(f"{name}={value}" for name, value in api.http.cookies.items()),
        }
        self.real = real_objects(api)
        self.chance = random.Random(SEED)

    def test_no_answer_is_outside_of_the_contract(self) -> None:
        schema = schemathesis.openapi.from_path(str(ROOT / "docs" / "openapi.json"))
        schema.config.seed = SEED
        operations = [found.ok() for found in schema.get_all_operations()]
        operations = [one for one in operations if not LEFT_OUT.search(one.path)]
        self.assertGreater(len(operations), 100)
        end = time.monotonic() + SECONDS
        found: dict[str, str] = {}
        asked = 0
        # A few of each at a time; on the slowest machine each has its turn once.
        for turn in range(100):
            for operation in operations:
                if turn and time.monotonic() > end:
                    break
                asked += self.ask(operation, 3, SEED + turn, found)
        print(f"{asked} generated requests, {len(found)} findings")
        self.assertEqual(found, {}, "\n".join(found.values()))
        self.assertGreater(asked, len(operations))

    def ask(self, operation: Any, examples: int, seed: int, found: dict[str, str]) -> int:
        """Put some questions to one operation; what is wrong with the answers goes into ``found``."""
        asked = 0

        @settings(
            max_examples=examples, database=None, deadline=None, phases=[Phase.generate],
            suppress_health_check=list(HealthCheck),
        )  # fmt: skip
        @given(case=operation.as_strategy())
        def one(case: Any) -> None:
            nonlocal asked
            asked += 1
            self.name_what_is_there(case)
            response = case.call(base_url=APP.address, headers=self.headers, timeout=60)
            try:
                case.validate_response(response, checks=CHECKS, headers=self.headers)
            except FailureGroup as error:
                said = "; ".join(" ".join(str(one).split()) for one in error.exceptions)
                sentence = f"{case.method} {case.formatted_path}: {response.status_code} {said} {response.text[:300]}"
                found.setdefault(f"{case.method} {case.path} {response.status_code}", sentence[:900])

        one.hypothesis.inner_test._hypothesis_internal_use_seed = seed
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            one()
        return asked

    def name_what_is_there(self, case: Any) -> None:
        """Three of four times the address names something that the demo has."""
        for name in case.path_parameters or {}:
            known = self.real.get(name)
            if known and self.chance.random() < 0.75:
                case.path_parameters[name] = self.chance.choice(known)


def real_objects(api: Any) -> dict[str, list[Any]]:
    """What the demo has, by the name of the parameter that names it."""
    plans = [row["code"] for row in api.get("/readiness")["plans"]]
    groups = [row["code"] for row in api.get("/groups")["groups"]]
    return {
        "code": [*plans, *groups, "QUA", "HIL", "NOR"],
        "id": [row["id"] for row in api.get("/runs")["runs"]],
        "number": [1, 2, 3],
        "source": ["QUA", "HIL"],
        "target": ["HIL", "NOR"],
        "name": [row["name"] for row in api.get("/workloads?limit=20")["rows"]],
    }


if __name__ == "__main__":
    unittest.main()
