"""The plan for the day when everything is down."""

from __future__ import annotations

import hashlib
import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, Hold, ScriptCall
from maestoso.core.model.plan import Member
from maestoso.core.planning.inputs import ScriptText
from maestoso.core.readiness.run_book import Book, Line, run_book
from tests import worlds

HELLO = ScriptText(
    name="hello", interpreter="sh", text="echo hello\n", sha256=hashlib.sha256(b"echo hello\n").hexdigest()
)


def lines(book: Book) -> list[Line]:
    """All of it in order."""
    return [*book.before, *(line for wave in book.waves for line in wave.lines), *book.after]


class Binding(unittest.TestCase):
    """What stands in it."""

    def test_a_machine_stands_with_its_place_size_addresses_and_checks(self) -> None:
        line = next(one for one in lines(run_book(worlds.context())) if one.workload == "app")
        self.assertEqual((line.size, line.place, line.group), ("2 cores, 4 GiB", "b-hosts", "Shop"))
        self.assertEqual(line.disks, "disk0 40 GiB on b-disk")
        self.assertEqual(line.waits, "after db, 30 s later")
        self.assertEqual(line.ready, "all its services answer")
        self.assertEqual(line.checks, ("app-service: tcp 1013",))
        (nic,) = line.adapters
        self.assertEqual(
            (nic.before, nic.network, nic.after, nic.gateway),
            ("10.1.0.13/24", "b-net", "10.2.0.13/24", "10.2.0.1"),
        )

    def test_lines_are_numbered_through_and_cues_stand_where_they_are_done(self) -> None:
        ask = Cue(id="ask", title="Ask", hold=Hold(instruction="Call."))
        told = Cue(id="told", title="Look", at="after", hold=Hold(instruction="Look."))
        members = (Member(workload="db", cues=(ask, told)), Member(workload="web"))
        plan = worlds.plan(members, cues=(replace(ask, id="first"), replace(told, id="last")))
        found = lines(run_book(worlds.context(plan=plan)))
        self.assertEqual([one.number for one in found], [1, 2, 3, 4, 5, 6])
        self.assertEqual(
            [one.workload or (one.cue.id if one.cue else "") for one in found],
            ["first", "ask", "db", "told", "web", "last"],
        )

    def test_waves_say_when_they_open(self) -> None:
        plan = worlds.plan()
        waves = (
            plan.waves[0], replace(plan.waves[1], opens="powered-on"), replace(plan.waves[2], opens="at-once"),
        )  # fmt: skip
        book = run_book(worlds.context(plan=replace(plan, waves=waves)))
        self.assertEqual(
            [wave.opens for wave in book.waves], ["at once", "when wave 1 is powered on", "at once"]
        )

    def test_it_closes_down_in_the_opposite_order(self) -> None:
        plan = worlds.plan(
            (Member(workload="db", shutdown_limit_s=60),), (Member(workload="web", force_off=False),)
        )
        self.assertEqual(
            run_book(worlds.context(plan=plan)).down,
            (
                ("web", "by its guest within 300 s, never cut its power"),
                ("db", "by its guest within 60 s, then cut its power"),
            ),
        )

    def test_owners_are_listed_with_what_is_theirs(self) -> None:
        estate = {
            name: replace(one, owner="ann" if name in ("db", "web") else "")
            for name, one in worlds.WORKLOADS.items()
        }
        book = run_book(worlds.context(workloads=estate))
        self.assertEqual(book.owners, (("ann", ("db", "web")),))

    def test_the_texts_of_scripts_are_in_it_once(self) -> None:
        call = ScriptCall(script="hello", sha256=HELLO.sha256)
        cues = tuple(Cue(id=f"s{n}", title="Say hello", script=call) for n in range(2))
        plan = worlds.plan((Member(workload="db", cues=cues),))
        book = run_book(worlds.context(plan=plan, scripts={"hello": HELLO}))
        self.assertEqual(book.scripts, (HELLO,))

    def test_what_is_left_off_or_does_not_land_is_said_and_not_left_out(self) -> None:
        plan = worlds.plan((Member(workload="db", power_on=False), Member(workload="web")))
        book = run_book(worlds.context(plan=plan, crosswalk=None))
        first, second = lines(book)
        self.assertTrue(first.left_off)
        self.assertEqual((second.place, second.adapters), ("", ()))


if __name__ == "__main__":
    unittest.main()
