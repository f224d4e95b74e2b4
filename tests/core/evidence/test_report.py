"""Reports: everything they say is in the log, and nothing else is needed."""

from __future__ import annotations

import csv
import io
import json
import unittest
from dataclasses import replace
from xml.etree import ElementTree

from maestoso.core.codec import from_data, to_data
from maestoso.core.evidence.check_by_hand import SCRIPT
from maestoso.core.evidence.facts import facts
from maestoso.core.evidence.report import COLUMNS, Report, as_csv, heading, report
from maestoso.core.evidence.score_drawing import ROWS_A_PICTURE, drawings
from maestoso.core.runs.events import Event
from maestoso.core.runs.words import sentence
from maestoso.core.wording import lasting, on_clock
from tests import worlds
from tests.player import Player, finished_test

PLAYED = finished_test()
MADE = report("abc-7", 7, PLAYED.log)


class OfATest(unittest.TestCase):
    """A test that passed, with one step that was tried twice."""

    def test_the_sentence_says_what_ran_and_how_it_met_its_objectives(self) -> None:
        self.assertRegex(MADE.sentence, r"^Shop was tested at B and passed: everything was up after \d+ s ")
        self.assertIn("1 try failed on the way", MADE.sentence)
        self.assertEqual(heading(MADE), "Isolated test of Shop, run 7")
        self.assertEqual((MADE.outcome, MADE.verdict, MADE.notes), ("passed", "passed", "All well."))
        self.assertEqual((MADE.facts.failures, MADE.facts.skipped), (1, 0))

    def test_every_step_of_the_graph_is_there_once_and_in_order(self) -> None:
        self.assertEqual({step.step for step in MADE.steps}, set(PLAYED.state.graph.index))
        begun = [step.start_s for step in MADE.steps if step.start_s is not None]
        self.assertEqual(begun, sorted(begun))
        self.assertEqual([step.number for step in MADE.steps], list(range(1, len(MADE.steps) + 1)))

    def test_both_tries_of_a_step_are_told_with_what_came_of_them(self) -> None:
        power = next(step for step in MADE.steps if step.step == "power-on:db")
        self.assertEqual([one.outcome for one in power.attempts], ["failed", "done"])
        self.assertEqual(power.attempts[0].reason, "The host was busy.")
        self.assertEqual(power.verb, "power-on")

    def test_people_are_told_by_name_and_what_the_engine_did_is_not_theirs(self) -> None:
        self.assertEqual({said.by for said in MADE.people}, {"ann"})
        told = [said.sentence for said in MADE.people]
        self.assertEqual(told[0], "ann started the test.")
        self.assertIn("ann asked to try again: db: power on.", told)
        self.assertEqual(told[-1], "ann: the test passed. All well.")

    def test_waiting_for_people_is_kept_apart(self) -> None:
        play = Player()
        play.until("power-on:db")
        play.fail("power-on:db")
        while flying := sorted(play.state.in_flight):
            play.done(flying[0])
        play.go(600.0)
        play.tell("retry", step="power-on:db")
        play.until("verdict")
        play.tell("verdict", verdict="failed")
        play.to_the_end()
        found = facts(play.log)
        self.assertGreaterEqual(found.people_s, 600.0)
        self.assertLess(found.machine_s, 600.0)

    def test_a_run_that_goes_on_has_a_report_too(self) -> None:
        play = Player()
        play.until("power-on:db")
        made = report("abc-8", 8, play.log)
        self.assertIsNone(made.ended_at)
        self.assertIsNone(made.rto_met)
        self.assertIn("is still under way: it never came up as a whole", made.sentence)

    def test_a_run_that_was_killed_and_resumed_has_the_same_report(self) -> None:
        """The report is a function of the log: written down and read again, it says the same."""
        again = [from_data(Event, json.loads(json.dumps(to_data(event)))) for event in PLAYED.log]
        self.assertEqual(report("abc-7", 7, again), MADE)


class AsTable(unittest.TestCase):
    """The steps as CSV."""

    def rows(self, made: Report) -> list[dict[str, str]]:
        return list(csv.DictReader(io.StringIO(as_csv(made).removeprefix("\ufeff"))))

    def test_one_row_a_step_with_times_tries_and_answers(self) -> None:
        rows = self.rows(MADE)
        self.assertEqual(tuple(rows[0]), COLUMNS)
        self.assertEqual(len(rows), len(MADE.steps))
        power = next(row for row in rows if row["step"] == "power-on:db")
        self.assertEqual((power["attempts"], power["status"]), ("2", "done"))
        self.assertAlmostEqual(float(power["took_s"]), float(power["finish_s"]) - float(power["start_s"]), 2)

    def test_what_looks_like_a_formula_stays_text(self) -> None:
        evil = replace(MADE.steps[0], reason="=HYPERLINK(1)", title="+1", workload="@x")
        row = self.rows(replace(MADE, steps=(evil,)))[0]
        self.assertEqual((row["reason"], row["title"], row["workload"]), ("'=HYPERLINK(1)", "'+1", "'@x"))


class AsPicture(unittest.TestCase):
    """The score as SVG."""

    def test_it_is_well_formed_and_every_workload_has_a_row(self) -> None:
        (picture,) = drawings(MADE)
        labels = [
            node.text for node in ElementTree.fromstring(picture).iter("{http://www.w3.org/2000/svg}text")
        ]
        for workload in ("db", "app"):
            self.assertIn(workload, labels)

    def test_a_name_that_looks_like_markup_is_text(self) -> None:
        steps = tuple(replace(step, workload="<b>&" if step.workload else "") for step in MADE.steps)
        (picture,) = drawings(replace(MADE, steps=steps))
        labels = [
            node.text for node in ElementTree.fromstring(picture).iter("{http://www.w3.org/2000/svg}text")
        ]
        self.assertIn("<b>&", labels)

    def test_a_failed_try_has_a_cross_and_its_own_bar(self) -> None:
        (picture,) = drawings(MADE)
        self.assertEqual(picture.count("l5 5m0 -5l-5 5"), 1)

    def test_many_rows_go_on_several_pictures(self) -> None:
        step = next(step for step in MADE.steps if step.step == "power-on:db")
        many = tuple(replace(step, workload=f"w{at:03}") for at in range(ROWS_A_PICTURE + 1))
        self.assertEqual(len(drawings(replace(MADE, steps=many))), 2)


class Words(unittest.TestCase):
    """Times and sentences."""

    def test_times_as_people_say_them(self) -> None:
        said = [lasting(seconds) for seconds in (None, 40, 130, 240, 840, 4800, 7 * 86400)]
        self.assertEqual(said, ["not reached", "40 s", "2 min 10 s", "4 min", "14 min", "80 min", "7 days"])
        self.assertEqual([on_clock(s) for s in (None, 522, 3723, -5)], ["–", "8:42", "1:02:03", "−0:05"])

    def test_names_at_the_beginning_of_a_note_are_left_as_they_are(self) -> None:
        given = PLAYED.log[-1].__class__(
            seq=2, at=worlds.NOW, run_s=1.0, kind="run.held", data={"reason": "db-01 smokes"}, by="ann"
        )
        self.assertEqual(sentence(given, PLAYED.state.graph), "The run is held. db-01 smokes.")
        plain = replace(given, data={"reason": "wait for the ferry"})
        self.assertEqual(sentence(plain, PLAYED.state.graph), "The run is held. Wait for the ferry.")

    def test_the_printed_script_has_lines_that_no_page_breaks(self) -> None:
        self.assertLessEqual(max(map(len, SCRIPT.splitlines())), 92)


if __name__ == "__main__":
    unittest.main()
