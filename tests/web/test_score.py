"""The score: rows of a run, the marks in them, headings, axis; and what is said above it."""

from __future__ import annotations

import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.web.typescript import TypeScript

BRING_UP = ("register", "power-on", "await-heartbeat", "probe-service")
STATUSES = ("waits", "asked", "done", "failed", "skipped", "cancelled")


def step(name: str, verb: str, at: tuple[float, float], **changes: Any) -> dict[str, Any]:
    """A step that is expected from ``at[0]`` to ``at[1]``, in seconds."""
    made = {
        "id": name, "verb": verb, "phase": "bring-up", "workload": None, "wave": None, "site": "B", "status": "waits",
        "title": verb, "reason": "", "start_s": None, "finish_s": None, "expected_start_s": at[0],
        "expected_finish_s": at[1], "planned_start_s": at[0], "planned_finish_s": at[1], "attempt": 0,
        "tries": [], "delay_s": 0, "person": False, "critical": False,
    }  # fmt: skip
    return {**made, **changes}


def boots(workload: str, wave: int, begin: float, **changes: Any) -> list[dict[str, Any]]:
    """The steps that bring a workload up, ten seconds each."""
    return [
        step(
            f"{verb}:{workload}",
            verb,
            (begin + 10 * n, begin + 10 * n + 10),
            workload=workload,
            wave=wave,
            **changes,
        )
        for n, verb in enumerate(BRING_UP)
    ]


def done(one: dict[str, Any], **changes: Any) -> dict[str, Any]:
    """The step as it was when it ran as expected."""
    times = {"start_s": one["expected_start_s"], "finish_s": one["expected_finish_s"]}
    return {**one, **times, "status": "done", "attempt": 1, **changes}


class Layout(TypeScript):
    """ui/score/layout"""

    module = "ui/score/layout"

    def rows(
        self, steps: list[Any], waves: tuple[str, ...] = ("One", "Two"), now: float | None = None
    ) -> list[Any]:
        found: list[Any] = self.call("rowsOf", steps, waves, now)
        return found

    def state(self, *steps: dict[str, Any], lost: tuple[str, ...] = ()) -> tuple[str, str]:
        row = self.call("rowsOf", list(steps), ["One"], 100.0, lost)[0]
        return row["state"], row["stateTone"]

    def test_waves_in_order_and_the_first_of_each_is_marked(self) -> None:
        steps = [*boots("web", 1, 60), *boots("db", 0, 0), *boots("mq", 0, 0)]
        rows = self.rows(steps)
        self.assertEqual(
            [(row["label"], row["wave"], row["first"]) for row in rows],
            [("db", 0, True), ("mq", 0, False), ("web", 1, True)],
        )

    def test_what_all_share_and_groups_come_first(self) -> None:
        steps = [
            step("make-sandbox", "make-sandbox", (0, 5), phase="prepare"),
            step("promote:shop", "promote", (5, 9), phase="hand-over"),
            step("hold:ask", "hold", (9, 19), title="Call", site=None, person=True),
            step("open-wave:1", "open-wave", (19, 19), site=None),
            *boots("db", 0, 20),
            step("notify:end", "notify", (60, 61), title="Tell", site=None),
        ]
        self.assertEqual([row["label"] for row in self.rows(steps)], ["sites", "shop", "Call", "db", "Tell"])
        test = [one for one in steps if one["phase"] != "hand-over"]
        self.assertEqual(self.rows(test)[0]["label"], "sandbox")

    def test_cues_of_a_wave_stand_above_or_below_its_workloads(self) -> None:
        cues = [
            step("hold:before", "hold", (0, 10), wave=0, title="before"),
            step("script:after", "run-script", (50, 60), wave=0, title="after"),
        ]
        rows = self.rows([*cues, *boots("db", 0, 0)])
        self.assertEqual([row["label"] for row in rows], ["before", "db", "after"])

    def test_what_follows_the_verdict_is_drawn_once_it_has_begun(self) -> None:
        cleanup = step("power-off:db", "power-off", (100, 110), phase="cleanup", workload="db", wave=0)
        ahead = self.rows([*boots("db", 0, 0), cleanup], now=50.0)
        self.assertNotIn("cleanup", [bar["mark"] for bar in ahead[0]["bars"]])
        begun = self.rows([*boots("db", 0, 0), done(cleanup)], now=120.0)
        self.assertIn("cleanup", [bar["mark"] for bar in begun[0]["bars"]])

    def test_a_running_step_has_a_part_behind_and_a_part_ahead(self) -> None:
        busy = step(
            "power-on:db", "power-on", (0, 30), workload="db", wave=0, status="asked", attempt=1, start_s=2.0
        )
        bars = self.rows([busy], now=12.0)[0]["bars"]
        self.assertEqual(
            [(bar["from"], bar["to"], bar["ahead"]) for bar in bars], [(2, 12, False), (12, 30, True)]
        )

    def test_a_boot_delay_is_a_rest_before_the_boot(self) -> None:
        bars = self.rows([step("power-on:db", "power-on", (30, 40), workload="db", wave=0, delay_s=20)])[0][
            "bars"
        ]
        self.assertEqual(
            [(bar["mark"], bar["from"], bar["to"]) for bar in bars], [("rest", 10, 30), ("boot", 30, 40)]
        )

    def test_a_forecast_is_a_run_of_which_nothing_has_happened_and_shows_how_its_ends_spread(self) -> None:
        foreseen = {
            "id": "power-on:db", "verb": "power-on", "phase": "bring-up", "workload": "db", "wave": 0, "site": "B",
            "title": "Power on", "delay_s": 0, "person": False, "skippable": False, "start_s": 5.0, "finish_s": 9.0,
            "low_s": 8.0, "high_s": 12.0, "critical": True, "decides": 0.5,
        }  # fmt: skip
        steps = self.call("foreseen", [foreseen])
        self.assertEqual(self.call("span", steps[0], None), [5.0, 9.0, True])
        (row,) = self.rows(steps, ("One",))
        self.assertEqual((row["whisker"], row["ghost"], row["state"]), ([8.0, 12.0], [5.0, 9.0], "waits"))
        self.assertIn("decides the time in 50 % of runs", row["bars"][0]["title"])
        (row,) = self.rows([step("power-on:db", "power-on", (5.0, 9.0), workload="db", wave=0)], ("One",))
        self.assertIsNone(row["whisker"], "a run is no guess")
        self.assertGreater(self.call("extent", steps, 10, None, False), 12.0)

    def test_tries_in_vain_stay_to_be_seen(self) -> None:
        tried = done(
            step("power-on:db", "power-on", (0, 10), workload="db", wave=0),
            attempt=2, start_s=20.0, finish_s=30.0, tries=[{"from_s": 0, "to_s": 12}],
        )  # fmt: skip
        marks = [(bar["mark"], bar["from"], bar["to"]) for bar in self.rows([tried], now=30.0)[0]["bars"]]
        self.assertEqual(marks, [("boot", 0, 12), ("fail", 12, 12), ("boot", 20, 30)])

    def test_what_was_never_tried_and_is_cancelled_has_no_mark(self) -> None:
        for status in ("cancelled", "skipped"):
            with self.subTest(status):
                row = self.rows(
                    [step("power-on:db", "power-on", (0, 9), workload="db", wave=0, status=status)]
                )[0]
                self.assertEqual(row["bars"], [])

    def test_states_in_words(self) -> None:
        boot = boots("db", 0, 0)
        up = [done(one) for one in boot]
        fence = done(step("fence:db", "fence", (0, 5), workload="db", wave=0, phase="hand-over"))
        shut = done(step("shut-down:db", "shut-down", (0, 5), workload="db", wave=0, phase="close-down"))
        asked = {**boot[2], "status": "asked", "start_s": 20.0, "attempt": 1}
        for steps, wanted in (
            (boot, ("waits", "plain")),
            ([*up[:2], asked], ("booting", "busy")),
            (up, ("ready", "done")),
            ([*up[:-1], {**up[-1], "attempt": 2}], ("ready, 2nd try", "done")),
            ([*up[:-1], {**up[-1], "status": "failed"}], ("failed", "bad")),
            ([{**one, "status": "skipped"} for one in boot], ("left out", "plain")),
            ([shut, *boot], ("off", "plain")),
            ([shut, fence, *boot], ("off and fenced", "plain")),
        ):
            with self.subTest(wanted):
                self.assertEqual(self.state(*steps), wanted)
        self.assertEqual(self.state(*up[:2], asked, lost=("B",)), ("unreachable", "bad"))

    @given(
        st.lists(
            st.tuples(st.integers(0, 1), st.integers(0, 90), st.lists(st.sampled_from(STATUSES), min_size=4, max_size=4)),
            min_size=1, max_size=6,
        ),
        st.one_of(st.none(), st.integers(0, 200)),
    )  # fmt: skip
    def test_every_step_stands_in_one_row_and_bars_of_a_row_never_overlap(
        self, members: Any, now: int | None
    ) -> None:
        steps = []
        for number, (wave, begin, statuses) in enumerate(members):
            for one, status in zip(boots(f"w{number}", wave, begin), statuses, strict=True):
                ran = status in ("done", "failed")
                steps.append({**(done(one) if ran else one), "status": status})
        rows = self.rows(steps, now=None if now is None else float(now))
        keys = [row["key"] for row in rows]
        self.assertEqual(sorted(keys), sorted({one["workload"] for one in steps}))
        self.assertEqual(len(keys), len(set(keys)))
        self.assertEqual([row["wave"] for row in rows], sorted(row["wave"] for row in rows))
        for row in rows:
            spans = [(bar["from"], bar["to"]) for bar in row["bars"] if bar["mark"] != "fail"]
            for (_, end), (begin, _) in zip(spans, spans[1:], strict=False):
                self.assertLessEqual(end, begin)

    def test_parts_of_a_live_run_are_named_where_they_begin(self) -> None:
        steps = [
            step("shut-down:db", "shut-down", (0, 20), phase="close-down", workload="db", wave=0),
            step("fence:db", "fence", (20, 25), phase="hand-over", workload="db", wave=0),
            *boots("db", 0, 30),
            step("demote:shop", "demote", (90, 95), phase="roll-back"),
        ]
        self.assertEqual(
            self.call("parts", steps, None),
            [
                {"label": "close-down", "from": 0},
                {"label": "hand-over", "from": 20},
                {"label": "bring-up", "from": 30},
            ],
        )
        self.assertEqual(self.call("parts", boots("db", 0, 0), None), [])
        back = [*steps[:-1], done(steps[-1])]
        self.assertEqual(self.call("parts", back, 100.0)[-1], {"label": "roll back", "from": 90})

    @given(st.lists(st.integers(0, 4000), min_size=1, max_size=5), st.integers(0, 3600), st.integers(0, 5000))
    def test_the_axis_shows_all_there_is(self, begins: list[int], objective: int, now: int) -> None:
        steps = [one for n, begin in enumerate(begins) for one in boots(f"w{n}", 0, float(begin))]
        end = self.call("extent", steps, objective, now, False)
        self.assertGreaterEqual(end, max(objective, now, max(begins) + 40))

    @given(st.floats(1, 400_000), st.integers(50, 3000))
    def test_ticks_are_even_and_there_is_room_for_them(self, end: float, room: int) -> None:
        ticks = self.call("ticks", end, room)
        self.assertEqual(ticks[0], 0)
        self.assertLessEqual(ticks[-1], end)
        self.assertLessEqual(len({after - one for one, after in zip(ticks, ticks[1:], strict=False)}), 1)
        if end < 28_800 * room / 80:
            self.assertLessEqual(len(ticks), max(room / 80, 2) + 1)


if __name__ == "__main__":
    unittest.main()
