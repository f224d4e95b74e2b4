"""Known traps: written down, shown where they matter, and marked when they are solved."""

from __future__ import annotations

from typing import Any

from maestoso.engine.clock import SystemClock
from maestoso.server.readiness import run_book
from maestoso.server.runs.models import Run
from tests.server.tidewell import Tidewell

DISK = "Its second disk comes up offline: bring it online."


class Traps(Tidewell):
    """With the past runs of the demo."""

    history = True

    def add(self, about: str, name: str, text: str = DISK, run: int | None = None) -> Any:
        """Write one down."""
        return self.browser.send("POST", "/traps", {"about": about, "name": name, "text": text, "run": run})

    def ask(self, path: str) -> Any:
        """The body of a reply."""
        reply = self.browser.get(f"/api/v1{path}")
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        return reply.json()

    def preflight(self, plan: str) -> Any:
        """What a start of this plan shows."""
        return self.browser.send("POST", f"/plans/{plan}/preflight", {}).json()

    def test_a_trap_of_machine_group_and_plan_is_shown_at_the_start_of_what_it_matters_to(self) -> None:
        for about, name in (("workload", "db-book-01"), ("group", "booking-app"), ("plan", "BOOK")):
            reply = self.add(about, name)
            self.assertEqual((reply.status_code, reply.json()["by"]), (201, "ann"), reply.content)
        shown = [(trap["about"], trap["name"]) for trap in self.preflight("BOOK")["traps"]]
        self.assertEqual(shown, [("workload", "db-book-01"), ("group", "booking-app"), ("plan", "BOOK")])
        self.assertEqual(self.preflight("REPT")["traps"], [])

    def test_it_is_in_the_run_book_until_it_is_solved(self) -> None:
        trap = self.add("workload", "db-book-01").json()["id"]
        self.assertIn(DISK, run_book.page("BOOK", SystemClock().now()))
        self.browser.send("PUT", f"/traps/{trap}/solved", {})
        self.assertNotIn(DISK, run_book.page("BOOK", SystemClock().now()))

    def test_who_solved_it_in_which_run_is_kept_and_can_be_taken_back(self) -> None:
        run = Run.objects.filter(plan_code="BOOK").latest("pk").pk
        trap = self.add("workload", "db-book-01", run=run).json()
        self.assertEqual((trap["run"], trap["solved_at"]), (run, None))
        solved = self.browser.send("PUT", f"/traps/{trap['id']}/solved", {"run": run}).json()
        self.assertEqual((solved["solved_by"], solved["solved_run"]), ("ann", run))
        self.assertEqual(self.preflight("BOOK")["traps"], [])
        (kept,) = self.ask("/traps?about=workload&name=db-book-01")
        self.assertEqual(kept, solved)
        again = self.browser.send("PUT", f"/traps/{trap['id']}/solved", {})
        self.problem(again, 409, "refused")
        self.browser.send("DELETE", f"/traps/{trap['id']}/solved")
        self.assertEqual([one["id"] for one in self.preflight("BOOK")["traps"]], [trap["id"]])
        self.assertIn(trap["id"], [one["id"] for one in self.ask("/traps")])

    def test_a_run_shows_what_is_open_and_what_was_solved_since_it_began(self) -> None:
        run = Run.objects.filter(plan_code="BOOK").latest("pk").pk
        first, second = (self.add("workload", "db-book-01", text).json()["id"] for text in (DISK, "Slow."))
        self.browser.send("PUT", f"/traps/{first}/solved", {"run": run})
        self.add("workload", "ware-01")
        self.assertEqual([trap["id"] for trap in self.ask(f"/runs/{run}/traps")], [first, second])

    def test_what_makes_no_sense_is_refused(self) -> None:
        self.problem(self.add("workload", "nobody"), 404, "not-found")
        self.problem(self.add("group", "nobody"), 404, "not-found")
        self.problem(self.add("plan", "NONE"), 404, "not-found")
        self.problem(self.add("plan", "BOOK", run=9999), 404, "not-found")
        for text in ("  ", "x" * 1001):
            self.assertEqual(
                self.problem(self.add("plan", "BOOK", text), 400, "bad-value")["field"], "body.text"
            )
        self.problem(self.add("network", "BOOK"), 400, "bad-value")
        self.problem(self.browser.get("/api/v1/traps?about=x"), 400, "bad-value")
        self.problem(self.browser.send("PUT", "/traps/9999/solved", {}), 404, "not-found")

    def test_notes_of_all_earlier_runs_are_at_the_start_newest_first(self) -> None:
        runs = list(Run.objects.filter(plan_code="BOOK").exclude(outcome="").order_by("-pk"))
        self.browser.send("POST", f"/runs/{runs[0].pk}/notes", {"text": "Ask for the token early."})
        said = self.preflight("BOOK")["notes"]
        wanted = [run.pk for run in runs if run.notes or run.pk == runs[0].pk]
        self.assertEqual([one["run"] for one in said], wanted)
        self.assertIn("Ask for the token early.", said[0]["notes"])
        self.assertGreater(len(said), 1)
