"""What pages say of times, sizes, chances and places."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import example, given
from hypothesis import strategies as st

from tests.web.typescript import TypeScript

NOW = datetime(2026, 11, 12, 15, 0, tzinfo=UTC)


def seconds_of(text: str) -> float:
    """A duration read back."""
    sizes = {"s": 1, "min": 60, "h": 3600, "days": 86_400}
    words = text.split()
    return sum(float(number) * sizes[unit] for number, unit in zip(words[::2], words[1::2], strict=True))


class Headlines(TypeScript):
    """ui/waiting"""

    module = "ui/waiting"

    def test_what_a_run_waits_for_is_said_with_how_long(self) -> None:
        now = NOW.timestamp() * 1000
        for kind, title, ago_s, said in (
            ("hold", "Till office confirms", 300, "Waiting for you: Till office confirms, for 5 min"),
            ("hold", "Till office confirms", 2, "Waiting for you: Till office confirms"),
            ("failure", "db: Boot failed", 40, "db: Boot failed, and waits for you, for 40 s"),
            ("verdict", "The test waits for your verdict", 4, "Waiting for your verdict"),
            ("decision", "Commit, or roll back?", 120, "Waiting for you to commit or roll back, for 2 min"),
            ("held", "The run is held", 7, "Held until you resume it, for 7 s"),
        ):
            since = (NOW - timedelta(seconds=ago_s)).isoformat()
            with self.subTest(kind, ago=ago_s):
                waiting = {"kind": kind, "title": title, "since": since}
                self.assertEqual(self.call("headline", waiting, now), said)
        self.assertEqual(
            self.call("headline", {"kind": "acknowledge", "title": "2 copies are not confirmed off",
                                   "since": None}, now),
            "Waiting for you: 2 copies are not confirmed off",
        )  # fmt: skip


class Formats(TypeScript):
    """ui/format"""

    module = "ui/format"

    def test_durations(self) -> None:
        self.assert_table(
            "duration",
            (None, "unknown"), (0, "0 s"), (40, "40 s"), (99.4, "99 s"), (100, "1 min 40 s"), (120, "2 min"),
            (130, "2 min 10 s"), (299, "4 min 59 s"), (300, "5 min"), (840, "14 min"), (7140, "119 min"),
            (7200, "2 h"), (4800 + 3600, "2 h 20 min"), (48 * 3600, "2 days"), (6 * 86_400, "6 days"),
        )  # fmt: skip

    @given(st.floats(0, 3e6))
    @example(136289.5)
    @example(388770.0)
    def test_a_duration_read_back_is_near(self, value: float) -> None:
        near = 0.5 if value < 300 else 30.0 if value < 172_000 else 43_200.0
        self.assertLessEqual(abs(seconds_of(self.call("duration", value)) - value), near + 1e-6)

    def test_how_a_time_stands_to_its_objective(self) -> None:
        self.assert_table(
            "against",
            (1951, 1800, "2:31 over its objective"), (1800, 1800, "0:00 inside its objective"),
            (1800.9, 1800, "0:00 inside its objective"), (153, 1800, "27:27 inside its objective"),
        )  # fmt: skip

    def test_clocks(self) -> None:
        self.assert_table(
            "clock",
            (0, "0:00"), (522, "8:42"), (3723, "1:02:03"), (-5, "−0:05"), (59.9, "0:59"), (60, True, "01:00"),
        )  # fmt: skip

    @given(st.integers(-400_000, 400_000), st.booleans())
    def test_a_clock_reads_back_as_the_same_second(self, value: int, pad: bool) -> None:
        text = self.call("clock", value, pad)
        total = 0
        for part in text.lstrip("−").split(":"):
            total = total * 60 + int(part)
        self.assertEqual(-total if text.startswith("−") else total, value)

    def test_moments(self) -> None:
        self.assert_table(
            "moment",
            ("2026-11-12T03:04:05Z", False, 2026, "12 Nov, 03:04"),
            ("2026-11-12T03:04:05Z", True, 2026, "12 Nov, 03:04:05"),
            ("2026-01-01T00:00:00+01:00", False, 2026, "31 Dec 2025, 23:00"),
        )

    def test_moments_are_those_of_whoever_reads(self) -> None:
        self.addCleanup(self.call, "readAs", {"time_zone": "", "dates": "words"})
        self.call("readAs", {"time_zone": "Asia/Kathmandu", "dates": "numbers"})
        self.assert_table(
            "moment",
            ("2026-11-12T20:04:05Z", False, 2026, "2026-11-13 01:49"),
            ("2026-11-12T20:04:05Z", True, 2026, "2026-11-13 01:49:05"),
            ("nothing", False, 2026, "unknown"),
        )
        self.assert_table("exactMoment", ("2026-11-12T20:04:05Z", "2026-11-13 01:49:05 UTC+5:45"))
        self.call("readAs", {"time_zone": "America/St_Johns", "dates": "words"})
        self.assert_table("exactMoment", ("2026-11-12T03:04:05Z", "11 Nov 2026, 23:34:05 UTC−3:30"))
        self.call("readAs", {"time_zone": "Nowhere/Island", "dates": "words"})
        self.assert_table("exactMoment", ("2026-11-12T03:04:05Z", "12 Nov 2026, 03:04:05 UTC"))

    @given(
        # Later than that, two machines may know different rules.
        st.datetimes(datetime(1990, 1, 1), datetime(2020, 1, 1)),  # noqa: DTZ001
        st.sampled_from(
            ["Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu", "Pacific/Apia"]
        ),
    )
    def test_what_the_clock_on_the_wall_says_is_the_moment_that_is_meant(
        self, at: datetime, name: str
    ) -> None:
        self.call("readAs", {"time_zone": name, "dates": "words"})
        zone, at = ZoneInfo(name), at.replace(microsecond=0, tzinfo=UTC)
        wall = self.call("wallClock", at.isoformat())
        self.assertEqual(wall, at.astimezone(zone).strftime("%Y-%m-%dT%H:%M:%S"))
        # Of an hour that comes twice the first is meant.
        meant = datetime.fromisoformat(wall).replace(tzinfo=zone).astimezone(UTC)
        self.assertEqual(datetime.fromisoformat(self.call("instant", wall)), meant)
        self.call("readAs", {"time_zone": "", "dates": "words"})

    def test_an_hour_that_is_left_out_means_the_next(self) -> None:
        self.addCleanup(self.call, "readAs", {"time_zone": "", "dates": "words"})
        self.call("readAs", {"time_zone": "Europe/Lisbon", "dates": "words"})
        self.assert_table("instant", ("2026-03-29T01:30", "2026-03-29T01:30:00.000Z"))
        self.assertEqual(self.call("wallClock", "2026-03-29T01:30:00Z"), "2026-03-29T02:30:00")

    def test_evidence_says_the_year_and_the_zone(self) -> None:
        self.assert_table("exactMoment", ("2026-11-12T03:04:05Z", "12 Nov 2026, 03:04:05 UTC"))

    def test_how_long_ago(self) -> None:
        now = NOW.timestamp() * 1000
        for back, said in (
            (timedelta(seconds=30), "just now"), (timedelta(seconds=-30), "just now"),
            (timedelta(seconds=90), "90 s ago"), (timedelta(hours=23), "23 h ago"),
            (timedelta(days=1, hours=2), "1 day ago"), (timedelta(days=6), "6 days ago"),
        ):  # fmt: skip
            with self.subTest(said):
                self.assertEqual(self.call("ago", (NOW - back).isoformat(), now), said)

    def test_a_chance_never_promises(self) -> None:
        self.assert_table(
            "chance",
            (1, "over 99 %"), (0.995, "over 99 %"), (0.994, "99 %"), (0.58, "58 %"), (0.006, "1 %"), (0, "under 1 %"),
        )  # fmt: skip

    @given(st.floats(0, 1))
    def test_a_chance_is_near_what_is_said(self, share: float) -> None:
        said = self.call("chance", share)
        self.assertNotIn(said, ("100 %", "0 %"))
        if said[0].isdigit():
            self.assertLessEqual(abs(int(said.split()[0]) / 100 - share), 0.005 + 1e-9)

    def test_counts_lists_and_numerals(self) -> None:
        self.assert_table(
            "count",
            (1, "workload", "1 workload"),
            (0, "workload", "0 workloads"),
            (2, "copy", "copies", "2 copies"),
        )
        self.assert_table(
            "list", ([], ""), (["a"], "a"), (["a", "b"], "a and b"), (["a", "b", "c"], "a, b and c")
        )
        self.assert_table("roman", (1, "I"), (4, "IV"), (9, "IX"), (14, "XIV"), (20, "XX"))

    @given(st.integers(1, 60))
    def test_a_numeral_reads_back(self, number: int) -> None:
        worth = {"I": 1, "V": 5, "X": 10}
        values = [worth[letter] for letter in self.call("roman", number)]
        pairs = zip(values, [*values[1:], 0], strict=True)
        self.assertEqual(sum(-one if one < after else one for one, after in pairs), number)

    def test_rates_and_sizes(self) -> None:
        self.assert_table(
            "rate",
            (0, "0 bit/s"), (125, "1 kbit/s"), (125_000_000, "1 Gbit/s"), (1_562_500, "12.5 Mbit/s"), (12, "96 bit/s"),
        )  # fmt: skip
        self.assert_table(
            "size", (0, "0 bytes"), (1023, "1023 bytes"), (1024, "1 KiB"), (1536, "1.5 KiB"), (3 * 2**30, "3 GiB"),
            (2**40, "1 TiB"),
        )  # fmt: skip

    @given(st.integers(0, 2**50))
    def test_a_size_is_within_half_a_percent(self, value: int) -> None:
        number, unit = self.call("size", value).split()
        worth = {"bytes": 1, "KiB": 2**10, "MiB": 2**20, "GiB": 2**30, "TiB": 2**40}[unit]
        self.assertLessEqual(abs(float(number) * worth - value), value * 0.005 + 1e-9)


class Landed(TypeScript):
    """ui/landing"""

    module = "ui/landing"

    def test_where_an_adapter_lands(self) -> None:
        side = {"connected": True, "dhcp": False, "addresses": []}
        self.assert_table(
            "landed",
            (None, "nowhere"),
            ({**side, "connected": False}, "disconnected"),
            (side, "no address"),
            ({**side, "addresses": ["10.2.0.5/24", "10.2.0.6/24"]}, "10.2.0.5/24, 10.2.0.6/24"),
            ({**side, "dhcp": True}, "DHCP"),
            ({**side, "dhcp": True, "addresses": ["10.2.0.5/24"]}, "10.2.0.5/24 by DHCP"),
        )


class Bursts(TypeScript):
    """ui/pointTimeline"""

    module = "ui/pointTimeline"

    def test_how_many_times_the_usual(self) -> None:
        self.assert_table(
            "timesUsual",
            (3.04, "3.0 × the usual"), (99.9, "99.9 × the usual"),
            (1.1e10, "over 100 × the usual"),
        )  # fmt: skip


class RunFilters(TypeScript):
    """features/runs/runFilter"""

    module = "features/runs/runFilter"

    def test_what_an_address_asks_for(self) -> None:
        found = self.call("filterOf", {"plan": "BOOK", "kind": ["test", "planned"], "page": "2"})
        self.assertEqual(
            found, {"plan": "BOOK", "kind": "", "outcome": "", "since": "", "until": "", "find": ""}
        )

    @given(
        st.dictionaries(st.sampled_from(("plan", "kind", "outcome", "since", "find")), st.text(min_size=1))
    )
    def test_a_view_that_is_kept_asks_for_the_same(self, wanted: dict[str, str]) -> None:
        filled = {
            name: wanted.get(name, "") for name in ("plan", "kind", "outcome", "since", "until", "find")
        }
        self.assertEqual(self.call("asked", filled), wanted)

    def test_what_is_kept_is_a_query(self) -> None:
        self.assert_table(
            "asQuery", ({"plan": "A B", "kind": "", "find": "x&y"}, "plan=A+B&find=x%26y"), ({"plan": ""}, "")
        )


class Recurring(TypeScript):
    """features/evidence/rule"""

    module = "features/evidence/rule"

    def test_rules_as_they_are_chosen_and_written(self) -> None:
        plain = {"unit": "once", "every": 1, "days": [], "place": 0, "own": ""}
        for rule, chosen in (
            ("", plain),
            ("FREQ=DAILY", {**plain, "unit": "DAILY"}),
            (
                "FREQ=WEEKLY;INTERVAL=2;BYDAY=MO,TH",
                {**plain, "unit": "WEEKLY", "every": 2, "days": ["MO", "TH"]},
            ),
            ("FREQ=MONTHLY;BYDAY=-1SU", {**plain, "unit": "MONTHLY", "place": -1, "days": ["SU"]}),
            ("FREQ=YEARLY", {**plain, "unit": "YEARLY"}),
            ("FREQ=MONTHLY;BYDAY=5MO", {**plain, "unit": "own", "own": "FREQ=MONTHLY;BYDAY=5MO"}),
            ("FREQ=WEEKLY;COUNT=3", {**plain, "unit": "own", "own": "FREQ=WEEKLY;COUNT=3"}),
            ("FREQ=DAILY;INTERVAL=x", {**plain, "unit": "own", "own": "FREQ=DAILY;INTERVAL=x"}),
        ):
            with self.subTest(rule):
                self.assertEqual(self.call("recurrenceOf", rule), chosen)
                self.assertEqual(self.call("ruleOf", chosen), rule)

    def test_days_are_written_in_the_order_of_the_week(self) -> None:
        chosen = {"unit": "WEEKLY", "every": 1, "days": ["SU", "MO"], "place": 0, "own": ""}
        self.assertEqual(self.call("ruleOf", chosen), "FREQ=WEEKLY;BYDAY=MO,SU")

    @given(st.text(alphabet="FREQ=DAILYWKM;INTVB123-,:", max_size=40))
    def test_whatever_cannot_be_chosen_stays_as_it_was_written(self, rule: str) -> None:
        chosen = self.call("recurrenceOf", rule)
        if chosen["unit"] == "own":
            self.assertEqual(self.call("ruleOf", chosen), rule)


class Things(TypeScript):
    """features/estate/things"""

    module = "features/estate/things"

    LIST = {"key": "dns", "label": "", "type": "list"}
    PAIRS = {"key": "reservations", "label": "", "type": "pairs"}

    @given(st.lists(st.text("abc.:/09", min_size=1)))
    def test_a_list_comes_back_as_it_was(self, lines: list[str]) -> None:
        self.assertEqual(self.call("fromText", self.LIST, self.call("toText", self.LIST, lines)), lines)

    @given(st.dictionaries(st.text("ab:09", min_size=1), st.text("ab.=09")))
    def test_pairs_come_back_as_they_were(self, pairs: dict[str, str]) -> None:
        self.assertEqual(self.call("fromText", self.PAIRS, self.call("toText", self.PAIRS, pairs)), pairs)

    def test_numbers_and_what_may_be_nothing(self) -> None:
        number = {"key": "vlan", "label": "", "type": "number"}
        stretched = {"key": "stretched_with", "label": "", "type": "text"}
        self.assert_table(
            "fromText",
            (number, "12", 12), (number, "x", 0), (stretched, " ", None), (stretched, "HIL/net ", "HIL/net"),
            (self.LIST, " a \n\n b", ["a", "b"]),
        )  # fmt: skip

    def test_what_is_new_is_nobody_elses(self) -> None:
        self.assertEqual(self.call("fresh", "networks")["reservations"], {})
        self.assertEqual(
            set(self.call("fresh", "host_pools")), {f["key"] for f in self.call("FIELDS")["host_pools"]}
        )


class Uses(TypeScript):
    """features/estate/uses"""

    module = "features/estate/uses"
    NAMES = st.sampled_from("abcdef")
    PAIRS = st.lists(st.fixed_dictionaries({"user": NAMES, "provider": NAMES}), max_size=12)

    @given(PAIRS)
    def test_everybody_stands_in_one_column_also_in_circles(self, pairs: list[dict[str, str]]) -> None:
        columns = self.call("columns", pairs)
        placed = [name for column in columns for name in column]
        self.assertEqual(sorted(placed), sorted({name for pair in pairs for name in pair.values()}))

    @given(PAIRS)
    def test_what_is_needed_stands_to_the_left(self, pairs: list[dict[str, str]]) -> None:
        forward = [pair for pair in pairs if pair["user"] > pair["provider"]]  # has no circles
        at = {name: index for index, column in enumerate(self.call("columns", forward)) for name in column}
        for pair in forward:
            self.assertLess(at[pair["provider"]], at[pair["user"]])

    def test_around_follows_both_ways_and_not_through_siblings(self) -> None:
        pairs = [
            {"user": user, "provider": provider}
            for user, provider in (("web", "app"), ("app", "db"), ("jobs", "db"), ("x", "y"))
        ]
        self.assertEqual(self.call("around", pairs, "app"), pairs[:2])
        self.assertEqual(self.call("around", pairs, "db"), pairs[:3])
        self.assertEqual(self.call("around", pairs, "nobody"), [])

    TAGS = st.dictionaries(st.sampled_from(["app", "tier"]), st.sampled_from("xyz"), max_size=2)

    @given(PAIRS, st.fixed_dictionaries(dict.fromkeys("abcdef", TAGS)))
    def test_put_together_by_a_tag_no_use_between_groups_is_lost(
        self, pairs: list[dict[str, str]], tags: dict[str, dict[str, str]]
    ) -> None:
        rows = [{"name": name, "tags": own} for name, own in tags.items()]
        group = {name: own.get("app", "without it") for name, own in tags.items()}
        between = [one for one in pairs if group[one["user"]] != group[one["provider"]]]
        folded = self.call("folded", pairs, rows, "app")
        self.assertEqual(sum(one["times"] for one in folded), len(between))
        ways = {(group[one["user"]], group[one["provider"]]) for one in between}
        self.assertEqual([(one["user"], one["provider"]) in ways for one in folded], [True] * len(ways))

    def test_tags_that_tell_workloads_apart(self) -> None:
        rows = [
            {"name": "a", "tags": {"app": "x", "lone": "1"}},
            {"name": "b", "tags": {"app": "x", "tier": "t"}},
        ]
        self.assertEqual(
            self.call("tagKeys", [*rows, {"name": "c", "tags": {"tier": "t", "app": "y"}}]), ["app", "tier"]
        )


if __name__ == "__main__":
    unittest.main()
