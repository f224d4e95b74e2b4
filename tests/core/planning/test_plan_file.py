"""The plan as a file."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.errors import BadValue
from maestoso.core.model.plan import HoldCue, Member, Plan, Wave
from maestoso.core.planning.plan_file import SCHEMA, from_file, iso, seconds_of, to_file
from tests import worlds

NAMES = st.sampled_from(("db", "app", "web", "a: b", "-"))
MEMBERS = st.builds(
    Member, workload=NAMES, delay_s=st.integers(0, 86400), ready_timeout_s=st.integers(1, 7200),
    depends_on=st.lists(NAMES, max_size=2).map(tuple), power_on=st.booleans(),
    ready=st.sampled_from(("heartbeat", "checks", "powered-on", "at-once")),
    on_failure=st.sampled_from(("ask", "go-on", "stop")),
)  # fmt: skip
HOLDS = st.builds(
    HoldCue, id=st.just("h"), title=NAMES, instruction=st.text(max_size=20).filter(str.isprintable),
    kinds=st.sampled_from((("test",), ("test", "planned", "disaster"), ("planned", "disaster"))),
)  # fmt: skip
WAVES = st.builds(
    Wave, name=NAMES, opens=st.sampled_from(("ready", "powered-on", "at-once")),
    members=st.lists(MEMBERS, max_size=3).map(tuple), holds=st.lists(HOLDS, max_size=2).map(tuple),
)  # fmt: skip
PLANS = st.builds(
    Plan, code=st.just("SHOP"), name=NAMES, source=st.just("A"), target=st.just("B"),
    rto_s=st.integers(1, 10**6), rpo_s=st.integers(1, 10**6), owner=st.sampled_from(("", "ann")),
    drill_every_days=st.integers(1, 400), notes=st.sampled_from(("", "two\nlines")),
    waves=st.lists(WAVES, max_size=3).map(tuple),
)  # fmt: skip


class PlanFile(unittest.TestCase):
    """Written and read it is the same; what does not fit is named by its path."""

    @given(PLANS)
    def test_written_and_read_it_is_the_same(self, plan: Plan) -> None:
        self.assertEqual(from_file(json.loads(json.dumps(to_file(plan)))), plan)

    def test_what_is_usual_is_left_out(self) -> None:
        made = to_file(worlds.plan())
        self.assertEqual(made["waves"][0], {"name": "Wave 1", "members": ["db", "queue"]})
        self.assertEqual(
            made["waves"][1]["members"], [{"workload": "app", "delay": "PT30S", "depends_on": ["db"]}]
        )
        self.assertNotIn("drill_every", made)

    @given(st.integers(0, 10**8))
    def test_a_duration_reads_back(self, seconds: int) -> None:
        self.assertEqual(seconds_of(iso(seconds), "x"), seconds)

    def test_durations_people_write(self) -> None:
        for text, seconds in (("PT1H30M", 5400), ("P1DT1S", 86401), ("P30D", 2592000), ("PT90S", 90)):
            self.assertEqual(seconds_of(text, "x"), seconds)
        for wrong in ("", "P", "PT", "P1DT", "90", "PT-1S", "1h", 90, None, "PT1.5S"):
            with self.subTest(wrong), self.assertRaises(BadValue):
                seconds_of(wrong, "x")

    def refused(self, at: str, words: str, **changes: object) -> None:
        with self.assertRaises(BadValue) as caught:
            from_file({**to_file(worlds.plan()), **changes})
        self.assertEqual(caught.exception.field, at)
        self.assertIn(words, f"{caught.exception.sentence} {caught.exception.remedy}")

    def test_what_does_not_fit_is_named_by_its_path(self) -> None:
        self.refused("maestoso", "plan/1", maestoso="plan/9")
        self.refused("rto", "PT2M", rto="half an hour")
        self.refused("ownr", "Did you mean owner?", ownr="ann")
        self.refused("drill_every", "whole days", drill_every="PT5H")
        self.refused("waves", "no list", waves="none")
        self.refused("waves[0]", "name is missing", waves=[{"members": []}])
        self.refused("waves[0].members[0].delya", "Did you mean delay?",
                     waves=[{"name": "x", "members": [{"workload": "db", "delya": "PT1S"}]}])  # fmt: skip
        self.refused("waves[0].members[0].ready", "one of", waves=[
            {"name": "x", "members": [{"workload": "db", "ready": "soon"}]}])  # fmt: skip
        self.refused("waves[0].holds[0]", "title is missing", waves=[{"name": "x", "holds": [{"id": "a"}]}])
        self.refused("plan.code", "", code=7)
        with self.assertRaises(BadValue):
            from_file(["not", "a", "plan"])

    def test_the_schema_in_the_documentation_is_this_one(self) -> None:
        file = Path(__file__).resolve().parents[3] / "docs" / "plan-file.schema.json"
        self.assertEqual(json.loads(file.read_text(encoding="utf-8")), SCHEMA)
