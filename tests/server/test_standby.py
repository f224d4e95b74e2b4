"""A standby's own pages: people may come in and look, nothing is written, and whoever may has it take over."""

from __future__ import annotations

import tempfile
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from django.contrib.sessions.backends import cache as sessions_in_memory
from django.db import OperationalError, connection
from django.test import override_settings
from django.test.utils import CaptureQueriesContext

from maestoso.engine.clock import SystemClock
from maestoso.server.access import views
from maestoso.server.access.models import SecondFactor
from maestoso.server.access.reach import seen_in
from maestoso.server.access.sessions import ended
from maestoso.server.audit.models import AuditEntry
from maestoso.server.board.stream import _who
from maestoso.server.common.secret_text import seal
from maestoso.server.config.standby import Standby, read_standby, understood, write_standby
from maestoso.server.reign import following
from tests.server.people import make_person
from tests.server.test_second_factor import code_at
from tests.server.tidewell import PASSWORD, Browser, Tidewell

SECRET = "JBSWY3DPEHPK3PXPJBSWY3DPEHPK3PXP"
READS = ("SELECT", "SHOW", "SAVEPOINT", "RELEASE", "ROLLBACK")


@override_settings(
    IS_STANDBY=True, SESSION_ENGINE="django.contrib.sessions.backends.cache", SESSION_CACHE_ALIAS="sessions"
)
class OnAStandby(Tidewell):
    history = True

    def setUp(self) -> None:
        super().setUp()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.var = Path(folder.name)
        write_standby(
            self.var, Standby(host="m.tidewell.example", port=8475, since="2026-11-01T10:00:00+00:00", position="0-1-9")
        )  # fmt: skip
        own = mock.patch.object(following, "OPTIONS", mock.Mock(var=self.var))
        own.start()
        self.addCleanup(own.stop)
        make_person("vera", PASSWORD, roles=("viewer",))

    def come(self, name: str = "ann") -> Browser:
        """Somebody signs in there."""
        browser = Browser()
        self.assertEqual(browser.sign_in(name).status_code, 200)
        return browser

    def test_whoever_comes_to_look_writes_nothing(self) -> None:
        before = AuditEntry.objects.count()
        with (
            CaptureQueriesContext(
                connection,
            ) as asked,
            self.assertLogs("maestoso.audit", "INFO") as said,
        ):
            browser = self.come()
            for address in (
                "site-line",
                "readiness",
                "plans",
                "groups",
                "workloads",
                "runs",
                "people",
                "audit",
                "account",
            ):
                self.assertEqual(browser.get(f"/api/v1/{address}").status_code, 200, address)
            key = browser.cookies["maestoso_session"].value
            # What event streams ask.
            self.assertEqual(ended([key, "another"]), {"another"})
            self.assertEqual(_who(key), "ann")
            self.assertTrue(seen_in(key).everything)
            self.assertEqual(browser.send("DELETE", "/session").status_code, 204)
            self.assertEqual(ended([key]), {key})
        wrote = [one["sql"] for one in asked.captured_queries if not one["sql"].lstrip().startswith(READS)]
        self.assertEqual(wrote, [])
        self.assertEqual(AuditEntry.objects.count(), before)
        self.assertIn("Signed in, by 'ann' at", said.output[0])

    def test_nothing_is_changed_and_what_would_happen_is_still_told(self) -> None:
        browser = self.come()
        for method, path in (
            ("POST", "/runs"),
            ("PUT", "/settings"),
            ("POST", "/session/passkey"),
            ("POST", "/account/password"),
        ):
            body = self.problem(browser.send(method, path, {}), 409, "standby")
            self.assertIn("the standby of m.tidewell.example", body["detail"])
        plan = browser.get("/api/v1/plans/HARB").json()
        self.assertEqual(
            browser.send(
                "POST", "/plans/HARB/assessment", {"plan": plan["plan"], "based_on": plan["version"]}
            ).status_code,
            200,
        )
        # What nobody foresaw: the database refuses it.
        refused = OperationalError(1290, "The MariaDB server is running with the --read-only option")
        with mock.patch("maestoso.server.reign.following.takeover", side_effect=refused):
            self.problem(browser.get("/api/v1/takeover"), 409, "standby")

    def test_it_says_what_it_is_and_who_may_have_it_take_over(self) -> None:
        for name, may in (("ann", True), ("vera", False)):
            session = self.come(name).get("/api/v1/session").json()
            self.assertEqual((session["standby"], session["may_take_over"]), (True, may))
            self.assertLessEqual(set(session["permissions"]), {"see", "read-audit"})
            self.assertIn("This is a standby", session["lacking"]["change-plans"])
        with mock.patch.object(
            following, "ASKS", "SELECT 'Yes' AS Slave_IO_Running, 4 AS Seconds_Behind_Master"
        ):
            found = self.come("vera").get("/api/v1/takeover").json()
        self.assertEqual(
            (found["of"], found["connected"], found["behind_s"], found["sentence"], found["under_way"]),
            ("m.tidewell.example", True, 4, "It is 4 s behind.", 0),
        )

    def test_it_is_told_to_take_over_by_the_words_and_by_who_may(self) -> None:
        self.problem(
            self.come("vera").send("POST", "/takeover", {"words": "take over"}), 403, "not-permitted"
        )
        browser = self.come()
        body = self.problem(browser.send("POST", "/takeover", {"words": "yes"}), 400, "bad-value")
        self.assertEqual((body["field"], body["remedy"]), ("words", "Type the words: take over."))
        self.assertFalse(self.kept().taking_over)
        with mock.patch.object(following, "ASKS", "SELECT 1 FROM DUAL WHERE FALSE"):
            reply = browser.send("POST", "/takeover", {"words": "take over"})
        self.assertEqual((reply.status_code, reply.json()["begun"]), (202, True))
        self.assertEqual((self.kept().taking_over, self.kept().by), (True, "ann"))

    def kept(self) -> Standby:
        """What is written down of it."""
        found = read_standby(self.var)
        assert found is not None
        return found

    def test_a_code_lets_in_once_and_recovery_codes_are_for_the_primary(self) -> None:
        now = SystemClock().now()
        SecondFactor.objects.create(
            user_id=self.user("ann"), secret=seal(SECRET), confirmed_at=now, last_step=-1
        )
        at = mock.patch.object(views, "CLOCK", mock.Mock(now=mock.Mock(return_value=now)))
        with at:
            for code, status in (
                ("", 403),
                ("abcd-efgh-jklm", 403),
                (code_at(SECRET, now), 200),
                (code_at(SECRET, now), 403),
            ):
                self.assertEqual(self.try_with(code).status_code, status, code)
            later = now + timedelta(seconds=30)
            self.assertEqual(self.try_with(code_at(SECRET, later)).status_code, 200)
            # An earlier one than the last is not taken either.
            self.assertIn("takes no recovery codes", self.try_with("abcd-efgh-jklm").json()["detail"])
        self.assertEqual(SecondFactor.objects.get().last_step, -1)

    def user(self, name: str) -> int:
        """The number of an account."""
        from django.contrib.auth.models import User

        return User.objects.get(username=name).pk

    def try_with(self, code: str) -> Any:
        """Sign in as Ann, elsewhere."""
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        return browser.send("POST", "/session", {"name": "ann", "password": PASSWORD, "one_time_code": code})

    def test_a_session_is_what_its_cache_holds(self) -> None:
        browser = self.come()
        sessions_in_memory.SessionStore(browser.cookies["maestoso_session"].value).delete()
        self.problem(browser.get("/api/v1/plans"), 403, "not-signed-in")


class NoStandby(Tidewell):
    """Everywhere else."""

    def test_there_is_nothing_to_take_over(self) -> None:
        self.problem(self.browser.get("/api/v1/takeover"), 404, "not-found")
        self.problem(self.browser.send("POST", "/takeover", {"words": "take over"}), 404, "not-found")
        self.assertFalse(self.browser.get("/api/v1/session").json()["standby"])

    def test_what_the_database_says_of_following_is_said_in_words(self) -> None:
        cut = (
            "error reconnecting to master 'r@192.0.2.7:8475' - retry-time: 5  maximum-retries: 100000  message: "
            "Can't connect to server on '192.0.2.7' (111 \"Connection refused\")"
        )
        for row, said in (
            ({}, "It does not hear from it: it follows nobody."),
            ({"Last_IO_Error": cut}, "It does not hear from it: it cannot be reached (connection refused)."),
            ({"Last_IO_Error": "x message: SSL connection error: y"}, "It does not hear from it: what answers there has not the certificate that came with the backup."),
            ({"Last_SQL_Error": "Duplicate entry"}, "It does not hear from it: Duplicate entry."),
            ({"Slave_IO_Running": "Connecting"}, "It does not hear from it: the line is being made."),
            ({"Slave_IO_Running": "Yes", "Seconds_Behind_Master": 0}, "It has all that the primary has."),
        ):  # fmt: skip
            self.assertEqual(understood(row).in_words(), said)
