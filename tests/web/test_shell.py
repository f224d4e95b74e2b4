"""The frame of every page: the site line at any width, the plans in the side bar, help, and what can be read."""

from __future__ import annotations

import re
import unittest
from collections.abc import Sequence
from typing import Any

from maestoso.server.config.options import ROOT
from tests.web.typescript import TypeScript

SOURCE = ROOT / "web" / "src"


def station(code: str, **more: Any) -> dict[str, Any]:
    """A site on the line."""
    return {
        "code": code, "name": f"Site {code}", "kind": "", "practice": True, "running": 3, "copies": 0,
        "lost_because": None, **more,
    }  # fmt: skip


def flow(source: str, target: str, **more: Any) -> dict[str, Any]:
    """Protection between two."""
    return {"source": source, "target": target, "groups": 2, "oldest_s": 30, "without_point": 0, **more}


def run(source: str, target: str, **more: Any) -> dict[str, Any]:
    """A run under way."""
    return {
        "id": 7, "plan_name": "Booking end to end", "kind": "test", "source": source, "target": target,
        "run_s": 61, "waits": None, **more,
    }  # fmt: skip


def line(
    codes: str, flows: Sequence[Any] = (), runs: Sequence[Any] = (), links: Sequence[Any] = (), **lost: str
) -> Any:
    """A site line of sites with one letter each."""
    stations = [station(code, lost_because=lost.get(code)) for code in codes]
    return {"stations": stations, "flows": [*flows], "links": [*links], "runs": [*runs], "told": []}


class SentAgain(TypeScript):
    """api/again"""

    module = "again_driver"

    def test_what_gets_no_answer_is_sent_again_and_later_each_time(self) -> None:
        lost, ok = 0, 201
        self.assert_table(
            "sends",
            ([ok], {"answer": ok, "sent": 1, "waits": []}),
            ([409], {"answer": 409, "sent": 1, "waits": []}),
            ([lost, lost, ok], {"answer": ok, "sent": 3, "waits": [1000, 2000]}),
            ([503, lost, 409], {"answer": 409, "sent": 3, "waits": [1000, 2000]}),
            ([503] * 9, {"answer": 503, "sent": 6, "waits": [1000, 2000, 4000, 8000, 16000]}),
            ([lost] * 9, {"answer": "TypeError: lost", "sent": 6, "waits": [1000, 2000, 4000, 8000, 16000]}),
        )


class Pressed(TypeScript):
    """api/pressed"""

    module = "pressed_driver"

    def test_what_comes_while_a_pointer_is_down_waits_until_the_click_has_counted(self) -> None:
        hour = 3_600_000
        self.assert_table(
            "goes",
            (["a", "b"], hour, ["a", "b"]),
            (["a", "pointerdown", "b", "c", "wait 30"], hour, ["a"]),
            (["pointerdown", "a", "b", "pointerup", "click", "wait 30", "c"], hour, ["click", "a", "b", "c"]),
            (["pointerdown", "a", "pointercancel", "wait 30", "b"], hour, ["a", "b"]),
            # Two fingers, or a second click at once: it ends with the last of them.
            (["pointerdown", "a", "pointerup", "pointerdown", "b", "wait 30"], hour, []),
            (["pointerup", "a"], hour, ["a"]),
            (["other button down", "a"], hour, ["a"]),
            # A pointer that never comes up again does not keep the page from going on.
            (["pointerdown", "a", "wait 60", "b"], 10, ["a", "b"]),
        )


class SiteLine(TypeScript):
    """app/siteLine"""

    module = "app/siteLine"

    def test_neighbours_are_drawn_in_the_given_order(self) -> None:
        made = self.call("drawn", line("ABC", [flow("A", "B"), flow("B", "C")]), 1280)
        self.assertEqual([one["station"]["code"] for one in made["row"]], ["A", "B", "C"])
        self.assertEqual(made["places"][0]["label"], "2 groups, points up to 30 s old")

    def test_a_site_that_others_go_to_is_put_between_them(self) -> None:
        made = self.call("drawn", line("ABC", [flow("A", "C"), flow("A", "B")]), 1280)
        self.assertEqual([one["station"]["code"] for one in made["row"]], ["B", "A", "C"])

    def test_what_goes_both_ways_has_a_thread_above_and_one_below(self) -> None:
        made = self.call("drawn", line("AB", [flow("A", "B"), flow("B", "A")]), 1280)
        self.assertEqual([one["below"] for one in made["places"]], [False, True])

    def test_no_station_and_no_caption_is_ever_over_another(self) -> None:
        for codes in ("A", "AB", "ABC", "ABCD", "ABCDE", "ABCDEFGH"):
            flows = [flow(one, other) for one, other in zip(codes, codes[1:], strict=False)]
            for width in (390, 560, 768, 1280, 1920, 2560):
                made = self.call("drawn", line(codes, flows), width)
                if made is None:
                    continue
                with self.subTest(codes, width=width):
                    ends = [(one["x"], one["x"] + one["wide"]) for one in made["row"]]
                    self.assertTrue(
                        all(end < begin for (_, end), (begin, _) in zip(ends, ends[1:], strict=False))
                    )
                    self.assertLessEqual(ends[-1][1], width)
                    for place in made["places"]:
                        # In two lines, by how wide its letters are on average.
                        self.assertLess(len(place["label"]) * 6.2, 2 * (place["x2"] - place["x1"] - 16))

    def test_where_it_would_not_fit_it_is_folded(self) -> None:
        self.assertIsNone(self.call("drawn", line("ABC", [flow("A", "B"), flow("B", "C")]), 390))
        self.assertIsNone(
            self.call("drawn", line("ABC", [flow("A", "B"), flow("B", "C"), flow("A", "C")]), 1280)
        )

    def test_of_eight_sites_those_with_news_stay_in_sight(self) -> None:
        flows = [flow("A", other) for other in "BCDEFGH"]
        made = self.call("folded", line("ABCDEFGH", flows, [run("A", "C")], D="No answer."), False)
        self.assertEqual({one["code"] for one in made["stations"]}, {"A", "C", "D"})
        self.assertEqual(len(made["quiet"]), 5)
        self.assertEqual({way["key"] for way in made["ways"]}, {"A-C", "A-D"})
        self.assertEqual(len(made["more"]), 5)

    def test_on_a_phone_it_says_what_needs_somebody(self) -> None:
        waits = {"kind": "hold", "title": "Till office confirms", "since": None}
        made = self.call("folded", line("AB", [flow("A", "B")], [run("A", "B", waits=waits)]), True)
        self.assertEqual(
            [way["label"] for way in made["ways"]], ["Booking end to end: test, 1:01 in, needs you"]
        )

    def test_a_link_that_is_cut_and_a_site_that_is_lost_are_seen(self) -> None:
        cut = {"one": "A", "other": "B", "cut_because": "The line is broken."}
        ways = self.call("ways", line("ABC", [flow("A", "B"), flow("A", "C")], links=[cut], C="No answer."))
        self.assertEqual([way["lost"] for way in ways], [True, True])
        self.assertEqual(ways[0]["label"], "cut: nothing is copied")

    def test_a_run_against_what_is_copied_is_seen_too(self) -> None:
        ways = self.call("ways", line("AB", [flow("B", "A")], [run("A", "B", kind="planned")]))
        self.assertEqual([(way["key"], way["run"]) for way in ways], [("A-B", 7), ("B-A", None)])


class Standing(TypeScript):
    """ui/standing"""

    module = "ui/standing"

    def standing(self, **more: Any) -> dict[str, Any]:
        """How a plan stands that could run."""
        kinds = [{"kind": kind, "blocking": [], "warns": 1} for kind in ("test", "planned", "disaster")]
        forecast = {"p80_s": 500, "objective_s": 600}
        proof = {
            "run": 3,
            "overdue": False,
            "verdict": "passed",
            "version": 1,
            "ended_at": "2026-11-12T15:00:00Z",
        }
        return {"kinds": kinds, "forecast": forecast, "last_proof": proof, "active_run": None, **more}

    def test_plans_are_narrowed_by_how_they_stand(self) -> None:
        blocked = [{"kind": "test", "blocking": ["No way."], "warns": 0}]
        for standing, words in (
            (self.standing(), ["ready"]),
            (self.standing(kinds=blocked), ["blocked"]),
            (self.standing(last_proof=None), ["ready", "never tested"]),
            (self.standing(active_run=4), ["ready", "under way"]),
            (self.standing(forecast={"p80_s": 700, "objective_s": 600}), ["ready", "too slow"]),
            (None, []),
        ):
            with self.subTest(words):
                self.assertEqual(self.call("wordsOf", standing), words)

    def test_kinds_that_stand_alike_are_said_once(self) -> None:
        made = self.call("verdicts", self.standing()["kinds"])
        self.assertEqual([one["kinds"] for one in made], [["test", "planned", "disaster"]])
        self.assertEqual(
            self.call("why", {"kinds": [], "blocking": ["A.", "B.", "C."], "warns": [0]}),
            "A. And 2 more things.",
        )
        self.assertEqual(self.call("why", {"kinds": [], "blocking": [], "warns": [2, 5]}), "2 to 5 warnings")


class Help(unittest.TestCase):
    """Every page and every finding leads to a section that exists."""

    def anchors(self, topic: str) -> set[str]:
        """The anchors of a document, as they are made of its headings."""
        text = (ROOT / "docs" / f"{topic}.md").read_text()
        found = re.findall(r"^#{1,3} (.*)$", text, re.M)
        return {re.sub(r"\s+", "-", re.sub(r"[^\w\s-]", "", one.lower()).strip()) for one in found}

    def test_the_help_of_every_page_is_there(self) -> None:
        routes = (SOURCE / "app" / "router.ts").read_text()
        given = re.findall(r'help: "([\w-]+)(?:#([\w-]+))?"', routes)
        self.assertGreater(len(given), 30)
        for topic, anchor in given:
            with self.subTest(topic, anchor=anchor):
                self.assertTrue(not anchor or anchor in self.anchors(topic))

    def test_the_topics_are_documents_and_link_to_what_is_there(self) -> None:
        topics = re.findall(r'^  \["([\w-]+)", ', (SOURCE / "ui" / "help.ts").read_text(), re.M)
        self.assertGreater(len(topics), 8)
        for topic in topics:
            text = (ROOT / "docs" / f"{topic}.md").read_text()
            for other, anchor in re.findall(r"\]\(([\w-]*)(?:\.md)?#([\w-]+)\)", text):
                with self.subTest(topic, to=f"{other}#{anchor}"):
                    self.assertIn(anchor, self.anchors(other or topic))


def luminance(colour: str) -> float:
    """Relative luminance of ``#rrggbb`` (WCAG 2.2, 1.4.3)."""
    parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def contrast(one: str, other: str) -> float:
    """Contrast ratio of two colours."""
    light, dark = sorted((luminance(one), luminance(other)), reverse=True)
    return (light + 0.05) / (dark + 0.05)


class Tokens(unittest.TestCase):
    """What is read has a contrast of 4.5, what only shows where something is one of 3."""

    def themes(self) -> dict[str, dict[str, str]]:
        """The colours of both themes by name."""
        day, night = (SOURCE / "styles" / "tokens.css").read_text().split(':root[data-theme="night"]', 1)
        named = {
            name: dict(re.findall(r"--([\w-]+): (#[0-9a-f]{6});", text))
            for name, text in (("day", day), ("night", night))
        }
        return {"day": named["day"], "night": {**named["day"], **named["night"]}}

    def test_every_name_of_a_colour_or_size_that_is_used_stands_for_something(self) -> None:
        files = [one for one in SOURCE.rglob("*") if one.suffix in (".vue", ".css", ".ts")]
        texts = {str(file.relative_to(SOURCE)): file.read_text() for file in files}
        there = {name for text in texts.values() for name in re.findall(r"(--[\w-]+)[\"']?\s*:", text)}
        used = {(name, file) for file, text in texts.items() for name in re.findall(r"var\((--[\w-]+)", text)}
        self.assertGreater(len(used), 100)
        # Those of the library are its own.
        lost = {one for one in used if one[0] not in there and not one[0].startswith("--el-")}
        self.assertEqual(lost, set())

    def test_texts_and_marks_can_be_seen_on_everything_they_stand_on(self) -> None:
        grounds = ("paper", "sheet")
        texts = ("ink-1", "ink-2", "brass", "test", "planned", "disaster")
        soft = [(one, f"{one}-soft") for one in ("test", "planned", "disaster", "brass")] + [
            ("ink-1", "brass-soft"),
            ("ink-2", "brass-soft"),
        ]
        for theme, colours in self.themes().items():
            for text, ground in [(text, ground) for text in texts for ground in grounds] + soft:
                with self.subTest(theme, text=text, on=ground):
                    self.assertGreaterEqual(contrast(colours[text], colours[ground]), 4.5)
            for mark in ("edge", "ink-3"):
                for ground in grounds:
                    with self.subTest(theme, mark=mark, on=ground):
                        self.assertGreaterEqual(contrast(colours[mark], colours[ground]), 3.0)
            with self.subTest(theme, text="on-ink"):
                self.assertGreaterEqual(contrast(colours["on-ink"], colours["ink-1"]), 4.5)


if __name__ == "__main__":
    unittest.main()
