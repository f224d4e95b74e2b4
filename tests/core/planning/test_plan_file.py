"""The plan as a file."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.errors import BadValue
from maestoso.core.model.cue import Cue, Hold, Notify, Pause, Probe, ScriptCall
from maestoso.core.model.plan import Member, Part, Plan, Wave
from maestoso.core.planning.plan_file import SCHEMA, from_file, iso, seconds_of, to_file
from tests import worlds

NAMES = st.sampled_from(("db", "app", "web", "a: b", "-"))
TEXT = st.text(min_size=1, max_size=20).filter(str.isprintable)
PART = {
    "hold": st.builds(
        Hold, instruction=TEXT, who=st.sampled_from(((), ("ann", "ben"))), limit_s=st.integers(0, 9999),
        then=st.sampled_from(("go-on", "stop", "abort")), not_right=TEXT, answers=st.integers(1, 3),
    ),
    "script": st.builds(
        ScriptCall, script=NAMES, sha256=st.just("0" * 64), where=st.sampled_from(("site", "guest")),
        workload=NAMES, parameters=st.dictionaries(NAMES, TEXT, max_size=2),
        secrets=st.dictionaries(NAMES, NAMES, max_size=1), limit_s=st.integers(1, 9999),
        ok_codes=st.sampled_from(((0,), (0, 3))),
    ),
    "probe": st.builds(
        Probe, protocol=st.sampled_from(("tcp", "http", "tls", "dns")), workload=NAMES, address=NAMES,
        port=st.integers(1, 65535), path=TEXT, status=st.integers(100, 599), text=TEXT, name=NAMES,
        days=st.integers(0, 99), limit_s=st.integers(1, 9999),
    ),
    "pause": st.builds(Pause, seconds=st.integers(1, 9999)),
    "notify": st.builds(Notify, text=TEXT),
}  # fmt: skip
CUES = st.sampled_from(sorted(PART)).flatmap(
    lambda kind: st.builds(
        Cue, id=NAMES, title=NAMES, at=st.sampled_from(("before", "after")),
        kinds=st.sampled_from((("test",), ("test", "planned", "disaster"), ("planned", "disaster"))),
        on_failure=st.sampled_from(("ask", "go-on", "stop")), **{kind: PART[kind]},
    )
)  # fmt: skip
SOME_CUES = st.lists(CUES, max_size=2).map(tuple)
MEMBERS = st.builds(
    Member, workload=NAMES, delay_s=st.integers(0, 86400), ready_timeout_s=st.integers(1, 7200),
    depends_on=st.lists(NAMES, max_size=2).map(tuple), power_on=st.booleans(),
    ready=st.sampled_from(("heartbeat", "checks", "powered-on", "at-once")),
    on_failure=st.sampled_from(("ask", "go-on", "stop")), cores=st.sampled_from((None, 2)),
    memory_mib=st.sampled_from((None, 2048)), force_off=st.booleans(), shutdown_limit_s=st.integers(1, 999),
    cues=SOME_CUES,
)  # fmt: skip
OPENS = st.sampled_from(("ready", "powered-on", "at-once"))
WAVES = st.builds(
    Wave, name=NAMES, opens=OPENS, tag_rule=st.sampled_from(("", "app=shop")),
    members=st.lists(MEMBERS, max_size=3).map(tuple), cues=SOME_CUES,
)  # fmt: skip
PLANS = st.builds(
    Plan, code=st.just("SHOP"), name=NAMES, source=st.just("A"), target=st.just("B"),
    rto_s=st.integers(1, 10**6), rpo_s=st.integers(1, 10**6), owner=st.sampled_from(("", "ann")),
    drill_every_days=st.integers(1, 400), needs_standby=st.booleans(), tags=st.sampled_from(((), ("tier-1", "shop"))), notes=st.sampled_from(("", "two\nlines")),
    parts=st.lists(st.builds(Part, plan=NAMES, opens=OPENS), max_size=2).map(tuple),
    waves=st.lists(WAVES, max_size=3).map(tuple), cues=SOME_CUES,
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

    def test_what_has_only_its_first_key_is_written_as_that(self) -> None:
        cues = (
            Cue(id="a", title="A", pause=Pause(seconds=90)),
            Cue(id="b", title="B", notify=Notify(text="Up.")),
            Cue(id="c", title="C", hold=Hold(instruction="Call.", limit_s=60)),
        )
        made = to_file(worlds.with_cues(worlds.plan(parts=(Part(plan="CORE"),)), 0, *cues))
        self.assertEqual(made["parts"], ["CORE"])
        self.assertEqual(
            [
                {key: value for key, value in cue.items() if key not in ("id", "title")}
                for cue in made["waves"][0]["cues"]
            ],
            [{"pause": "PT1M30S"}, {"notify": "Up."}, {"hold": {"instruction": "Call.", "limit": "PT1M"}}],
        )

    def test_holds_of_earlier_files_are_read_as_cues(self) -> None:
        made = to_file(worlds.plan())
        made["waves"][0]["holds"] = [
            {"id": "ask", "title": "Office confirms", "instruction": "Call the office."}
        ]
        self.assertEqual(from_file(made), worlds.with_hold(worlds.plan(), 0))

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
        self.refused("waves[0].cues[0]", "title is missing", waves=[{"name": "x", "cues": [{"id": "a"}]}])
        self.refused("plan.code", "", code=7)
        with self.assertRaises(BadValue):
            from_file(["not", "a", "plan"])

    def test_the_schema_in_the_documentation_is_this_one(self) -> None:
        file = Path(__file__).resolve().parents[3] / "docs" / "plan-file.schema.json"
        self.assertEqual(json.loads(file.read_text(encoding="utf-8")), SCHEMA)
