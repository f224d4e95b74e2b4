"""Lines of the log, and the request that they are about."""

from __future__ import annotations

import json
import logging
import sys
import unittest
from typing import Any
from unittest import mock

from django.test import Client

from maestoso.server.board import views
from maestoso.server.common import logs
from tests.server.tidewell import Tidewell


def record(message: str, *args: Any, **more: Any) -> logging.LogRecord:
    """As a logger makes it."""
    return logging.LogRecord(
        "maestoso.engine", logging.WARNING, __file__, 1, message, args, more.get("exc_info")
    )


class Lines(unittest.TestCase):
    def test_programs_get_one_object_a_line_with_the_run_that_it_is_about(self) -> None:
        try:
            raise ValueError("two\nlines")
        except ValueError:
            made = record("Run %s is put aside: an error was met.", "fc4cc5-17", exc_info=sys.exc_info())
        line = logs.Json().format(made)
        self.assertNotIn("\n", line)
        said = json.loads(line)
        self.assertEqual((said["run"], said["level"], said["logger"]), (17, "WARNING", "maestoso.engine"))
        self.assertRegex(said["at"], r"^20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}\+00:00$")
        self.assertIn("ValueError: two\nlines", said["error"])
        self.assertNotIn("request", said)
        self.assertNotIn("run", json.loads(logs.Json().format(record("The database is away"))))

    def test_people_get_a_line_with_the_request(self) -> None:
        self.assertTrue(
            logs.Lines().format(record("Hello %s", "you")).endswith("WARNING maestoso.engine Hello you")
        )
        with mock.patch.object(logs, "request_id", lambda: "abc"):
            self.assertTrue(logs.Lines().format(record("Hello")).endswith("Hello [request abc]"))
            self.assertEqual(json.loads(logs.Json().format(record("Hello")))["request"], "abc")


class Requests(Tidewell):
    def test_each_has_an_id_of_its_own_whatever_was_sent(self) -> None:
        ids = {Client().get("/healthz", headers={logs.HEADER: "mine"}).headers[logs.HEADER] for _ in range(3)}
        self.assertEqual(len(ids), 3)
        self.assertNotIn("mine", ids)

    def test_a_fault_of_ours_is_found_in_the_log_by_what_the_reply_says(self) -> None:
        with (
            mock.patch.object(views, "board_text", side_effect=RuntimeError("broken")),
            self.assertLogs("maestoso.server") as kept,
        ):
            reply = self.browser.get("/api/v1/readiness")
        self.assertEqual(reply.status_code, 500)
        asked = reply.headers[logs.HEADER]
        self.assertIn(asked, reply.json()["detail"])
        self.assertNotIn("broken", reply.content.decode())
        self.assertIn("Unexpected error", kept.output[0])
