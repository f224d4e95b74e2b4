"""The event stream: everything that happens, in one order, for programs that follow."""

from __future__ import annotations

import threading
from datetime import timedelta
from typing import Any
from unittest import mock

from maestoso.engine.clock import SystemClock
from maestoso.server.access.models import RoleGrant
from maestoso.server.config.options import ROOT
from maestoso.server.messages import events
from maestoso.server.messages.models import EventStream, StreamedEvent, StreamedRun
from maestoso.server.reign import services as reign
from maestoso.server.runs.models import Run
from tests.server.people import make_person
from tests.server.test_messages import LAGS, LOST, Told
from tests.server.tidewell import PASSWORD, Browser

CONTROL = {"kind": "hold", "text": "Wait for the ferry."}


class Follows(Told):
    def setUp(self) -> None:
        super().setUp()
        patched = mock.patch.object(events, "CLOCK", self.clock)
        patched.start()
        self.addCleanup(patched.stop)

    def asked(self, after: str, browser: Browser | None = None, **more: str) -> Any:
        """What the API answers."""
        return (browser or self.browser).get("/api/v1/events", {"after": after, **more})

    def follow(self, after: str = "", browser: Browser | None = None) -> tuple[str, list[Any]]:
        """Where a follower is then, and what it was told."""
        events.write_stream(self.clock)
        reply = self.asked(after, browser)
        self.assertEqual(reply.status_code, 200, reply.content)
        return reply.json()["cursor"], reply.json()["events"]

    def start(self) -> int:
        """A test of Harbour begins."""
        body = {"plan": "HARB", "options": {"kind": "test"}}
        reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "events"})
        self.assertEqual(reply.status_code, 201, reply.content)
        return int(reply.json()["id"])


class Everything(Follows):
    def test_runs_changes_and_matters_come_in_one_order_each_once(self) -> None:
        run = self.start()
        here, told = self.follow()
        self.assertEqual(told, [], "what was before nobody is told")
        self.browser.send("POST", f"/runs/{run}/controls", CONTROL, **{"Idempotency-Key": "hold"})
        self.board(LOST)
        there, told = self.follow(here)
        self.assertEqual(
            [one["type"] for one in told if one["type"] != "maestoso.changed"],
            ["maestoso.run-started", "maestoso.run-needs", "maestoso.site-lost", "maestoso.run-log.run.held"],
        )
        held = next(one for one in told if one["type"] == "maestoso.run-log.run.held")
        self.assertEqual(
            (held["specversion"], held["subject"], held["data"]["by"]), ("1.0", f"runs/{run}", "ann")
        )
        self.assertEqual((held["data"]["plan"], held["data"]["seq"]), ("HARB", 2))
        self.assertTrue(held["data"]["link"].endswith(f"/runs/{run}"))
        changed = [one["data"]["did"] for one in told if one["type"] == "maestoso.changed"]
        self.assertEqual(len(changed), 1, told)
        self.assertEqual(len({one["id"] for one in told}), len(told))
        self.assertNotIn("10.20.3.4", str(told), "addresses are not told")
        self.assertEqual(self.follow(there), (there, []))
        self.assertEqual(self.follow(here)[1], told, "the same once more")

    def test_what_a_run_begins_from_is_not_in_it(self) -> None:
        here, _ = self.follow()
        self.start()
        _, told = self.follow(here)
        (began,) = [one for one in told if one["type"] == "maestoso.run-log.run.started"]
        self.assertLess(len(str(began)), 2000)
        self.assertNotIn("inputs", began["data"]["said"])

    def test_more_than_one_answer_holds_is_told_in_several(self) -> None:
        here, _ = self.follow()
        with mock.patch.object(events, "MOST_AT_ONCE", 2):
            self.board(LOST, LAGS)
            self.board()
            self.start()
            found: list[Any] = []
            while told := self.follow(here)[1]:
                self.assertLessEqual(len(told), 2)
                here, _ = self.follow(here)
                found += told
        self.assertGreater(len(found), 4)
        self.assertEqual(len({one["id"] for one in found}), len(found))
        self.assertEqual(StreamedEvent.objects.count(), len(found))


class Whose(Follows):
    def test_a_follower_is_told_what_it_may_see(self) -> None:
        user = make_person("sid", PASSWORD, roles=("viewer",))
        RoleGrant.objects.filter(user=user).update(scope={"plans": ["BOOK"]})
        sid = Browser()
        sid.sign_in("sid")
        here, _ = self.follow("", sid)
        run = self.start()
        self.board(LOST)
        there, told = self.follow(here, sid)
        self.assertEqual([one["type"] for one in told], ["maestoso.site-lost"])
        self.assertNotEqual(there, here, "what is not for it does not come again")
        Run.objects.filter(pk=run).update(plan_code="BOOK")
        self.assertIn("maestoso.run-log.run.started", [one["type"] for one in self.follow(here, sid)[1]])
        viewer = make_person("vera", PASSWORD, roles=("viewer",))
        vera = Browser()
        vera.sign_in(viewer.username)
        types = {one["type"] for one in self.follow(here, vera)[1]}
        self.assertNotIn("maestoso.changed", types, "the trail is for auditors")
        self.assertIn("maestoso.changed", {one["type"] for one in self.follow(here)[1]})

    def test_nobody_follows_without_signing_in(self) -> None:
        self.assertEqual(Browser().get("/api/v1/events").status_code, 403)


class Cursors(Follows):
    def gone(self, after: str) -> Any:
        """The refusal of a cursor behind which something is lost."""
        reply = self.asked(after)
        self.assertEqual((reply.status_code, reply.json()["code"]), (410, "events-gone"), reply.content)
        return reply.json()

    def test_what_cannot_be_known_is_said(self) -> None:
        here, _ = self.follow()
        self.start()
        there, _ = self.follow(here)
        self.assertIn(f"after={there}", self.gone(f"{reign.number()}-999999")["remedy"])
        self.gone(f"{reign.number() + 1}-{there.split('-')[1]}")
        self.clock.moment = SystemClock().now() + events.KEPT + timedelta(days=1)
        EventStream.objects.update(asked_at=self.clock.now())
        events.forget_old_events(self.clock)
        self.assertEqual(StreamedEvent.objects.filter(at__lt=self.clock.now() - events.KEPT).count(), 0)
        self.gone(here)
        for after, wait_s, field in (
            ("seven", "0", "after"), ("1", "0", "after"), ("1-" + "9" * 60, "0", "after"), (there, "21", "wait_s"),
            (there, "-1", "wait_s"), (there, "soon", "wait_s"),
        ):  # fmt: skip
            reply = self.asked(after, wait_s=wait_s)
            self.assertEqual((reply.status_code, reply.json()["field"]), (400, field), (after, wait_s))

    def test_nothing_is_written_while_nobody_follows_and_a_gap_shows(self) -> None:
        self.board(LOST)
        events.write_stream(self.clock)
        self.assertEqual(StreamedEvent.objects.count(), 0)
        here, _ = self.follow()
        self.board()
        here, told = self.follow(here)
        self.assertEqual([one["type"] for one in told], ["maestoso.site-lost.over"])
        self.later(days=8)
        events.write_stream(self.clock)
        self.assertFalse(events.flows())
        self.assertEqual((StreamedEvent.objects.count(), StreamedRun.objects.count()), (0, 0))
        self.start()
        self.gone(here)
        again, told = self.follow()
        self.assertEqual(told, [])
        self.assertEqual(self.follow(again), (again, []))

    def test_who_waits_hears_of_the_first_event(self) -> None:
        here, _ = self.follow()
        seen = iter([[], [], [StreamedEvent(number=9, at=self.clock.now(), part=None)]])
        with (
            mock.patch.object(events, "_after", lambda number: next(seen)),
            mock.patch.object(events.NewsWaiter, "wait"),
            mock.patch.object(events, "_is_for", lambda *args: False),
        ):
            reply = self.asked(here, wait_s="20")
        self.assertEqual(reply.json()["cursor"], f"{reign.number()}-9")
        with mock.patch.object(events, "_waiting", threading.BoundedSemaphore(1)) as places:
            places.acquire()
            self.assertEqual(self.asked(here, wait_s="20").json()["events"], [], "no place is left: at once")

    def test_the_page_for_programs_says_how(self) -> None:
        said = (ROOT / "docs" / "programs.md").read_text()
        for word in ("/api/v1/events", "after", "wait_s", "events-gone", "maestoso.run-log."):
            self.assertIn(word, said)
