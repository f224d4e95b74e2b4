"""What a filter finds, and what it says of one that cannot be read."""

from __future__ import annotations

import unittest
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.codec import to_data
from maestoso.core.estate.filter import BadFilter, compile_filter
from maestoso.core.estate.row import Row, row_of
from tests import worlds

ROWS = tuple(
    row_of(to_data(workload), "A", group)
    for workload, group in (
        (replace(worlds.workload("db-01", 11), tags={"app": "shop", "tier": "data"}, cores=16), "shop"),
        (replace(worlds.workload("web-01", 12), tags={"app": "shop", "tier": "web"}), "shop"),
        (replace(worlds.workload("mail-01", 13), tags={"app": "office"}, owner="post room"), ""),
        (replace(worlds.workload("key-01", 14), needs_key=True, guest_agent=False), ""),
    )
)


def found(text: str, rows: tuple[Row, ...] = ROWS) -> list[str]:
    """Names that a filter lets through."""
    test = compile_filter(text)
    return [row.name for row in rows if test(row)]


class Filters(unittest.TestCase):
    """The language, by example."""

    def test_terms_beside_each_other_must_all_hold(self) -> None:
        self.assertEqual(found("site:a tag:app=shop tag:tier=web"), ["web-01"])
        self.assertEqual(found("tier=web AND app=shop"), ["web-01"])

    def test_an_empty_filter_holds_for_all(self) -> None:
        self.assertEqual(len(found("  ")), 4)

    def test_or_binds_less_than_beside(self) -> None:
        self.assertEqual(found("app=office OR app=shop tier=data"), ["db-01", "mail-01"])
        self.assertEqual(found("(app=office OR app=shop) tier=data"), ["db-01"])

    def test_a_minus_and_not_turn_a_term_around(self) -> None:
        self.assertEqual(found("-protected"), ["mail-01", "key-01"])
        self.assertEqual(found("NOT (app=shop OR key)"), ["mail-01"])

    def test_a_prefix_finds_the_adapters_inside_it(self) -> None:
        self.assertEqual(found("nic:10.1.0.12/31"), ["web-01", "mail-01"])
        self.assertEqual(found("nic:10.1.0.14"), ["key-01"])
        self.assertEqual(found("nic:2001:db8::/32"), [])

    def test_numbers_are_compared(self) -> None:
        self.assertEqual(found("cores>8"), ["db-01"])
        self.assertEqual(found("cores:2 memory<=4 size>=40"), ["web-01", "mail-01", "key-01"])

    def test_stars_and_case(self) -> None:
        self.assertEqual(found("name:*-01 name:DB*"), ["db-01"])

    def test_quotes_keep_spaces_together(self) -> None:
        self.assertEqual(found('owner:"post room"'), ["mail-01"])

    def test_a_word_alone_is_a_flag_or_part_of_a_name(self) -> None:
        self.assertEqual(found("key"), ["key-01"])
        self.assertEqual(found('"key"'), ["key-01"])
        self.assertEqual(found("ail"), ["mail-01"])
        self.assertEqual(found("tag:tier -agent"), [])


class WhatCannotBeRead(unittest.TestCase):
    """The place, and a suggestion."""

    def test_a_misspelt_key_is_pointed_at_and_corrected(self) -> None:
        with self.assertRaises(BadFilter) as caught:
            compile_filter("tier=web sit:QUA")
        self.assertEqual(caught.exception.more, {"at": 9, "length": 7, "suggestion": "tier=web site:QUA"})
        self.assertIn("site", caught.exception.remedy)

    def test_each_kind_of_mistake_has_its_place(self) -> None:
        for text, at in (
            ("cores>many", 0),
            ("app=x nic:10.20.0.0/99", 6),
            ("site:", 0),
            ("(app=x", 0),
            ("app=x )", 6),
            ("app=x OR", 8),
            ('owner:"post', 6),
            ("-", 0),
            ("app=x AND", 9),
            ("name>3", 0),
        ):
            with self.subTest(text), self.assertRaises(BadFilter) as caught:
                compile_filter(text)
            self.assertEqual(caught.exception.more["at"], at)

    def test_deep_parentheses_and_long_texts_are_refused(self) -> None:
        for text in ("(" * 60 + "a" + ")" * 60, "a" * 501, "-" * 90 + "a"):
            with self.subTest(text[:3]), self.assertRaises(BadFilter):
                compile_filter(text)

    @given(st.text(alphabet='abc:=<>()-"*OR AND 1./', max_size=40))
    def test_any_text_is_a_filter_or_a_bad_filter(self, text: str) -> None:
        try:
            test = compile_filter(text)
        except BadFilter as error:
            self.assertLessEqual(error.more["at"], len(text))
        else:
            for row in ROWS:
                test(row)


if __name__ == "__main__":
    unittest.main()
