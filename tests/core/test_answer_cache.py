"""Answers that are kept."""

from __future__ import annotations

import unittest

from maestoso.core.answer_cache import AnswerCache


class Kept(unittest.TestCase):
    """The same question about the same thing is worked out once."""

    def setUp(self) -> None:
        self.worked = 0
        self.lately: AnswerCache[list[int], str, int] = AnswerCache(2)

    def ask(self, about: list[int], question: str) -> int:
        def work() -> int:
            self.worked += 1
            return len(about)

        return self.lately.answer(about, question, work)

    def test_the_same_is_worked_out_once(self) -> None:
        about = [1, 2, 3]
        self.assertEqual([self.ask(about, "how many"), self.ask(about, "how " + "many")], [3, 3])
        self.assertEqual(self.worked, 1)

    def test_another_thing_that_looks_alike_is_another_thing(self) -> None:
        self.ask([1], "how many")
        self.ask([1], "how many")
        self.assertEqual(self.worked, 2)

    def test_the_oldest_answer_goes_first(self) -> None:
        about = [1]
        for question in ("a", "b", "c", "b", "a"):
            self.ask(about, question)
        self.assertEqual(self.worked, 4)


if __name__ == "__main__":
    unittest.main()
