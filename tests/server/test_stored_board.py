"""The stored board, and the list of plans that is read from it."""

from __future__ import annotations

from datetime import datetime, timedelta
from unittest import mock

from maestoso.engine.clock import SystemClock
from maestoso.server.board import stored
from maestoso.server.board.models import StoredBoard
from tests.server.tidewell import Tidewell


class At:
    """A clock that stands."""

    def __init__(self, moment: datetime) -> None:
        self.moment = moment

    def now(self) -> datetime:
        """That moment."""
        return self.moment


def written(moment: datetime) -> str:
    """A moment as the API gives it."""
    return moment.isoformat()


class Stored(Tidewell):
    """Whoever opens the board reads what the keeper reckoned."""

    def setUp(self) -> None:
        super().setUp()
        self.now = SystemClock().now()

    def keep(self, after_s: float = 0.0) -> bool:
        """The keeper looks; whether it reckoned."""
        before = StoredBoard.objects.values_list("made_at", flat=True).first()
        stored.refresh_board(At(self.now + timedelta(seconds=after_s)))
        return StoredBoard.objects.get().made_at != before

    def test_what_was_stored_is_read_with_its_moment_and_nothing_is_reckoned(self) -> None:
        self.assertTrue(self.keep())
        with mock.patch.object(stored, "readiness", side_effect=AssertionError("reckoned")):
            board = self.browser.get("/api/v1/readiness").json()
        self.assertEqual(board["now"], written(self.now))
        self.assertEqual({plan["code"] for plan in board["plans"]}, {"HARB", "BOOK", "FLEET", "ALL", "REPT"})

    def test_without_a_keeper_it_is_reckoned_for_who_asks(self) -> None:
        self.keep()
        StoredBoard.objects.update(made_at=self.now - timedelta(minutes=10))
        self.assertGreaterEqual(self.browser.get("/api/v1/readiness").json()["now"], written(self.now)[:19])

    def test_it_is_made_anew_seldom_while_nobody_looks_and_at_once_when_somebody_does(self) -> None:
        self.keep()
        self.assertFalse(self.keep(after_s=30))
        self.assertTrue(self.keep(after_s=61))
        stored.watch_board(self.now + timedelta(seconds=61))
        StoredBoard.objects.update(took_s=0.1)
        self.assertTrue(self.keep(after_s=65))

    def test_of_a_large_estate_it_takes_a_quarter_of_the_time_at_most(self) -> None:
        self.keep()
        stored.watch_board(self.now)
        StoredBoard.objects.update(took_s=2.0)
        self.assertFalse(self.keep(after_s=7))
        self.assertTrue(self.keep(after_s=9))

    def test_a_clock_that_was_set_back_does_not_stop_it(self) -> None:
        self.keep()
        self.assertTrue(self.keep(after_s=-3600))

    def test_the_first_who_looks_has_it_made_anew(self) -> None:
        with mock.patch.object(stored.news, "ring") as ring:
            stored.watch_board(self.now)
            stored.watch_board(self.now + timedelta(seconds=10))
        self.assertEqual(ring.call_count, 1)

    def test_who_keeps_it_is_told_whether_somebody_looks(self) -> None:
        self.assertFalse(stored.refresh_board(At(self.now)))
        stored.watch_board(self.now)
        self.assertTrue(stored.refresh_board(At(self.now)))
        self.assertFalse(stored.refresh_board(At(self.now + timedelta(minutes=1))))

    def test_the_list_of_plans_says_how_each_stood_and_as_of_when(self) -> None:
        self.keep()
        found = self.browser.get("/api/v1/plans").json()
        self.assertEqual(found["as_of"], written(self.now))
        board = {plan["code"]: plan for plan in self.browser.get("/api/v1/readiness").json()["plans"]}
        self.assertEqual(len(found["plans"]), 5)
        for line in found["plans"]:
            row = board[line["code"]]
            self.assertEqual(line["standing"], {name: row[name] for name in line["standing"]})
            self.assertEqual((line["name"], line["workloads"]), (row["name"], row["workloads"]))

    def test_a_plan_that_changed_since_has_no_standing_yet(self) -> None:
        self.keep()
        plan = {**self.browser.get("/api/v1/plans/BOOK").json()["plan"], "name": "Bookings"}
        reply = self.browser.send("PUT", "/plans/BOOK", {"plan": plan}, **{"If-Match": '"BOOK-1"'})
        self.assertEqual(reply.status_code, 201, reply.content)
        lines = {line["code"]: line for line in self.browser.get("/api/v1/plans").json()["plans"]}
        self.assertEqual((lines["BOOK"]["name"], lines["BOOK"]["standing"]), ("Bookings", None))
        self.assertIsNotNone(lines["HARB"]["standing"])
