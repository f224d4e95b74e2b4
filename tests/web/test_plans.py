"""Plans as they are edited: waves and members, cues, the table and what is pasted into it, completion, drafts."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.web.typescript import TypeScript

NAMES = ("a", "b", "c", "d", "e")


def member(workload: str, **changes: Any) -> dict[str, Any]:
    """As a workload joins a plan."""
    made = {
        "workload": workload, "delay_s": 0, "depends_on": [], "ready": "checks", "ready_timeout_s": 600,
        "on_failure": "ask", "power_on": True, "shutdown_limit_s": 300, "force_off": True, "cores": None,
        "memory_mib": None, "cues": [],
    }  # fmt: skip
    return {**made, **changes}


def plan(*waves: str) -> dict[str, Any]:
    """A plan whose waves hold workloads of one letter each."""
    return {
        "code": "P", "cues": [],
        "waves": [
            {"name": f"Wave {n}", "opens": "ready", "tag_rule": "", "members": [member(x) for x in wave], "cues": []}
            for n, wave in enumerate(waves, 1)
        ],
    }  # fmt: skip


def shape(value: dict[str, Any]) -> list[str]:
    """The workloads of each wave."""
    return ["".join(one["workload"] for one in wave["members"]) for wave in value["waves"]]


class Waves(TypeScript):
    """features/plans/draft"""

    module = "features/plans/draft"
    PLANS = st.permutations(NAMES).flatmap(
        lambda names: st.lists(st.integers(0, 5), min_size=1, max_size=3).map(
            lambda cuts: plan(
                *("".join(names)[a:b] for a, b in zip([0, *sorted(cuts)], [*sorted(cuts), 5], strict=True))
            )
        )
    )

    def test_workloads_move_in_their_order_and_a_wave_is_made_behind_the_last(self) -> None:
        self.assertEqual(shape(self.changed("moveTo", plan("ab", "cd"), ["a", "c"], 1)), ["b", "cda"])
        self.assertEqual(shape(self.changed("moveTo", plan("ab"), ["b"], 2)), ["a", "", "b"])
        self.assertEqual(shape(self.changed("moveTo", plan("ab"), ["nobody"], 0)), ["ab"])

    @given(PLANS, st.lists(st.sampled_from(NAMES), unique=True), st.integers(0, 4))
    def test_moving_loses_nobody_and_doubles_nobody(self, before: Any, names: list[str], wave: int) -> None:
        after = self.changed("moveTo", before, names, wave)
        self.assertEqual(sorted("".join(shape(after))), sorted(NAMES))
        self.assertTrue(set(names) <= set(shape(after)[wave]))
        stayed = [[one for one in old if one not in names] for old in shape(before)]
        kept = [[one for one in new if one not in names] for new in shape(after)]
        self.assertEqual(kept[: len(stayed)], stayed)

    def test_who_is_brought_moves_or_joins(self) -> None:
        self.assertEqual(shape(self.changed("bringTo", plan("ab", "c"), ["c", "x"], 0)), ["abcx", ""])
        joined = self.changed("bringTo", plan("a"), ["x"], 0)["waves"][0]["members"][1]
        self.assertEqual(joined, member("x"))

    @given(PLANS, st.lists(st.sampled_from(NAMES), unique=True))
    def test_nobody_waits_for_who_was_taken_out(self, before: Any, names: list[str]) -> None:
        for wave in before["waves"]:
            for one in wave["members"]:
                one["depends_on"] = [name for name in NAMES if name != one["workload"]]
        after = self.changed("takeOut", before, names)
        left = set("".join(shape(after)))
        self.assertEqual(left, set(NAMES) - set(names))
        for wave in after["waves"]:
            for one in wave["members"]:
                self.assertEqual(set(one["depends_on"]), left - {one["workload"]})

    def test_one_field_of_several(self) -> None:
        after = self.changed("setAll", plan("ab", "c"), ["a", "c", "nobody"], "delay_s", 30)
        delays = [one["delay_s"] for wave in after["waves"] for one in wave["members"]]
        self.assertEqual(delays, [30, 0, 30])

    def test_a_workload_is_found_with_its_wave(self) -> None:
        self.assertEqual(self.call("find", plan("a", "b"), "b"), [1, member("b")])
        self.assertIsNone(self.call("find", plan("a"), "b"))

    def test_a_new_cue_has_an_id_of_its_own_wherever_others_are(self) -> None:
        made = plan("a")
        made["cues"] = [{"id": "hold-1"}]
        made["waves"][0]["cues"] = [{"id": "hold-2"}]
        made["waves"][0]["members"][0]["cues"] = [{"id": "hold-3"}, {"id": "script-1"}]
        cue = self.call("newCue", made, "hold")
        self.assertEqual((cue["id"], cue["hold"]["limit_s"], cue["script"]), ("hold-4", 0, None))

    def test_a_cue_has_one_kind_and_keeps_what_it_had_of_it(self) -> None:
        cue = self.call("newCue", plan("a"), "pause")
        cue["pause"]["seconds"] = 7
        self.assertEqual(self.call("withKind", cue, "pause")["pause"], {"seconds": 7})
        for kind in self.call("CUE_KINDS"):
            with self.subTest(kind):
                turned = self.call("withKind", cue, kind)
                self.assertEqual([one for one in self.call("CUE_KINDS") if turned[one]], [kind])
                self.assertEqual(self.call("kindOf", turned), kind)

    def test_cues_of_plan_wave_and_member(self) -> None:
        made = plan("a")
        made["cues"], made["waves"][0]["cues"] = [{"id": "p"}], [{"id": "w"}]
        made["waves"][0]["members"][0]["cues"] = [{"id": "m"}]
        self.assert_table(
            "cuesOf",
            (made, {"kind": "plan"}, [{"id": "p"}]),
            (made, {"kind": "wave", "wave": 0}, [{"id": "w"}]),
            (made, {"kind": "wave", "wave": 9}, []),
            (made, {"kind": "member", "workload": "a"}, [{"id": "m"}]),
            (made, {"kind": "member", "workload": "z"}, []),
        )


class Pasting(TypeScript):
    """features/plans/table"""

    module = "features/plans/table"
    ROWS = ("a", "b", "c")

    def paste(self, text: str, row: int, column: int, before: Any = None) -> tuple[Any, list[dict[str, Any]]]:
        answer = self.called("putBlock", before or plan("ab", "c"), text, row, column, list(self.ROWS))
        return answer["args"][0], answer["value"]

    def of(self, value: Any, name: str, field: str) -> Any:
        return next(
            one[field] for wave in value["waves"] for one in wave["members"] if one["workload"] == name
        )

    def at(self, key: str) -> int:
        return [column["key"] for column in self.call("COLUMNS")].index(key)

    def test_times_as_people_write_them(self) -> None:
        for text, wanted in (
            ("90", 90),
            ("90 s", 90),
            ("2 min", 120),
            ("1:30", 90),
            ("1 h", 3600),
            ("", 0),
            (" 5s ", 5),
        ):
            with self.subTest(text):
                after, refused = self.paste(text, 0, self.at("delay_s"))
                self.assertEqual((self.of(after, "a", "delay_s"), refused), (wanted, []))

    def test_times_that_are_none(self) -> None:
        for text in ("soon", "-5", "1:75", "1.5 h", "90000"):
            with self.subTest(text):
                after, refused = self.paste(text, 1, self.at("delay_s"))
                self.assertEqual(self.of(after, "b", "delay_s"), 0)
                said = f"b: Boot delay is '{text}'; give 0 s to 24 h, such as 90, 2 min or 1:30."
                self.assertEqual(refused, [{"row": 2, "said": said}])

    def test_a_time_that_must_not_be_nothing(self) -> None:
        _, refused = self.paste("0", 0, self.at("ready_timeout_s"))
        self.assertIn("give 1 s to 24 h", refused[0]["said"])

    def test_a_block_goes_down_and_to_the_right(self) -> None:
        after, refused = self.paste("30\tb\theartbeat\r\n40\t\tat-once\r\n", 0, self.at("delay_s"))
        self.assertEqual(refused, [])
        self.assertEqual(
            [self.of(after, "a", f) for f in ("delay_s", "depends_on", "ready")], [30, ["b"], "heartbeat"]
        )
        self.assertEqual(
            [self.of(after, "b", f) for f in ("delay_s", "depends_on", "ready")], [40, [], "at-once"]
        )

    def test_what_sticks_out_at_the_right_is_left(self) -> None:
        after, refused = self.paste("no\tx\ty", 0, self.at("force_off"))
        self.assertEqual((self.of(after, "a", "force_off"), refused), (False, []))

    def test_names_that_the_plan_lacks_join_the_last_wave(self) -> None:
        after, refused = self.paste("a\t2\nx\t1\n", 0, -1)
        self.assertEqual((shape(after), refused), (["bx", "ca"], []))

    def test_a_row_without_a_workload_is_said(self) -> None:
        _, refused = self.paste("1\n2", 2, self.at("delay_s"))
        self.assertEqual(refused, [{"row": 4, "said": "There is no workload in this row."}])

    def test_waves_move_before_anybody_waits(self) -> None:
        after, refused = self.paste("2\t\t\n1\t\ta\n", 0, self.at("wave"))
        self.assertEqual((shape(after), refused), (["b", "ca"], []))
        self.assertEqual(self.of(after, "b", "depends_on"), ["a"])

    def test_waits_only_for_others_of_the_plan(self) -> None:
        for text, wrong in (("z", "z"), ("b a", "a"), ("b, y", "y")):
            with self.subTest(text):
                after, refused = self.paste(text, 0, self.at("depends_on"))
                self.assertEqual(self.of(after, "a", "depends_on"), [])
                self.assertIn(f"Waits for '{wrong}'", refused[0]["said"])

    def test_words_and_sizes(self) -> None:
        for key, text, wanted in (
            ("on_failure", "GO-ON", "go-on"), ("power_on", "no", False), ("cores", "4", 4), ("cores", "", None),
            ("memory_mib", "8192", 8192),
        ):  # fmt: skip
            with self.subTest(key=key, text=text):
                after, refused = self.paste(text, 0, self.at(key))
                self.assertEqual((self.of(after, "a", key), refused), (wanted, []))
        for key, text in (
            ("on_failure", "hope"),
            ("power_on", "maybe"),
            ("cores", "0"),
            ("cores", "2.5"),
            ("wave", "21"),
        ):
            with self.subTest(key=key, text=text):
                after, refused = self.paste(text, 0, self.at(key))
                self.assertEqual((after, len(refused)), (plan("ab", "c"), 1))

    @given(st.text(alphabet="abx12 :\t\n;,", max_size=30), st.integers(0, 3), st.integers(-1, 11))
    def test_whatever_is_pasted_the_plan_stays_one(self, text: str, row: int, column: int) -> None:
        after, _ = self.paste(text, row, column)
        everybody = [one["workload"] for wave in after["waves"] for one in wave["members"]]
        self.assertEqual(len(everybody), len(set(everybody)))
        self.assertTrue(set("abc") <= set(everybody))
        for wave in after["waves"]:
            for one in wave["members"]:
                self.assertTrue(set(one["depends_on"]) <= set(everybody) - {one["workload"]})
                self.assertTrue(0 <= one["delay_s"] <= 86_400)


class Completion(TypeScript):
    """features/plans/completion"""

    module = "features/plans/completion"
    SCHEMA = {
        "type": "object",
        "properties": {
            "name": {"type": "string"},
            "waves": {
                "type": "array",
                "items": {
                    "type": "object",
                    "properties": {
                        "members": {
                            "type": "array",
                            "items": {
                                "oneOf": [{"type": "string"}, {"type": "object", "properties": {"delay": {}}}]
                            },
                        }
                    },
                },
            },
        },
    }

    def keys(self, above: str, indent: int) -> list[str]:
        found = self.call("schemaAt", self.SCHEMA, above.splitlines(), indent)
        return sorted(found["properties"]) if found else []

    def test_where_one_stands_by_the_lines_above(self) -> None:
        for above, indent, wanted in (
            ("", 0, ["name", "waves"]),
            ("name: x\nwaves:", 4, ["members"]),
            ("waves:\n  - members:", 8, ["delay"]),
            ("waves:\n  - members:\n      - delay: 1", 4, ["members"]),
            ("waves:\n# a remark\n\n  - members:\n      - dir-01", 8, ["delay"]),
            ("other:\n  - x:", 6, []),
        ):
            with self.subTest(above=above, indent=indent):
                self.assertEqual(self.keys(above, indent), wanted)


class Drafts(TypeScript):
    """ui/draft: undo, redo, what is kept in the browser, and what somebody else saved meanwhile."""

    module = "draft_driver"
    BASE = {"value": {"name": "P", "words": ["one"]}, "version": 1}

    def setUp(self) -> None:
        self.call("forget", "P")

    def play(self, *steps: dict[str, Any], base: Any = None) -> list[dict[str, Any]]:
        seen: list[dict[str, Any]] = self.call("play", base or self.BASE, list(steps))
        return seen

    def test_a_change_is_undone_and_done_again(self) -> None:
        seen = self.play(
            {"do": "add", "word": "two"}, {"do": "undo"}, {"do": "redo"}, {"do": "undo"}, {"do": "undo"}
        )
        self.assertEqual(
            [s["words"] for s in seen], [["one"], ["one", "two"], ["one"], ["one", "two"], ["one"], ["one"]]
        )
        self.assertEqual([s["changed"] for s in seen], [False, True, False, True, False, False])
        self.assertEqual([s["kept"] for s in seen], [False, True, False, True, False, False])

    def test_a_change_behind_an_undo_ends_what_could_be_done_again(self) -> None:
        seen = self.play(
            {"do": "add", "word": "a"}, {"do": "undo"}, {"do": "add", "word": "b"}, {"do": "redo"}
        )
        self.assertEqual((seen[-1]["words"], seen[-1]["canRedo"]), (["one", "b"], False))

    def test_what_changes_nothing_is_no_step(self) -> None:
        self.assertFalse(self.play({"do": "drop", "word": "never there"})[-1]["canUndo"])

    def test_a_draft_outlives_the_page(self) -> None:
        self.play({"do": "add", "word": "two"})
        (found,) = self.play()
        self.assertEqual((found["words"], found["changed"], found["version"]), (["one", "two"], True, 1))

    def test_a_draft_that_was_cut_short_is_none(self) -> None:
        self.call("keepNonsense", "P")
        self.assertEqual(self.play()[0]["words"], ["one"])

    def test_what_another_saved_is_taken_where_nothing_was_changed(self) -> None:
        other = {"do": "saved", "value": {"name": "P", "words": ["theirs"]}, "version": 2}
        seen = self.play(other)
        self.assertEqual((seen[-1]["words"], seen[-1]["version"]), (["theirs"], 2))

    def test_what_another_saved_takes_nothing_away_that_was_typed(self) -> None:
        other = {"do": "saved", "value": {"name": "P", "words": ["theirs"]}, "version": 2}
        seen = self.play({"do": "add", "word": "mine"}, other)
        self.assertEqual(
            (seen[-1]["words"], seen[-1]["version"], seen[-1]["changed"]), (["one", "mine"], 1, True)
        )

    def test_going_on_from_what_was_saved_or_from_another_ground(self) -> None:
        value = {"name": "P", "words": ["one", "mine"]}
        seen = self.play({"do": "add", "word": "mine"}, {"do": "settle", "value": value, "version": 2})
        self.assertEqual((seen[-1]["changed"], seen[-1]["canUndo"], seen[-1]["kept"]), (False, False, False))
        ground = {"name": "P", "words": ["theirs"]}
        seen = self.play({"do": "rebase", "value": value, "version": 3, "ground": ground})
        self.assertEqual((seen[-1]["changed"], seen[-1]["version"]), (True, 3))

    WORDS = st.sampled_from("xyz")
    EDITS = st.lists(
        st.builds(lambda word, what: {"do": what, "word": word}, WORDS, st.sampled_from(("add", "drop")))
    )

    @given(EDITS)
    def test_undo_and_redo_are_inverse_all_the_way(self, edits: list[dict[str, str]]) -> None:
        self.call("forget", "P")
        forth = self.play(*edits)
        self.call("forget", "P")
        most = len(edits)
        seen = self.play(*edits, *[{"do": "undo"}] * most, *[{"do": "redo"}] * most)
        self.assertEqual(seen[2 * most]["words"], ["one"])
        self.assertEqual(seen[-1]["words"], forth[-1]["words"])
        self.call("forget", "P")


if __name__ == "__main__":
    unittest.main()
