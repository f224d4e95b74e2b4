"""Answers that are kept for whoever asks the same again, as every change of a draft does of the estate."""

from __future__ import annotations

from collections.abc import Callable
from typing import Generic, TypeVar

Large = TypeVar("Large")
Question = TypeVar("Question")
Answer = TypeVar("Answer")


class AnswerCache(Generic[Large, Question, Answer]):
    """The last ``most`` answers about something large that never changes, such as a ground.

    Whether it is the same large thing is told by its identity; the question is compared by its value.
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self.kept: tuple[tuple[Large, Question, Answer], ...] = ()

    def answer(self, large: Large, question: Question, work: Callable[[], Answer]) -> Answer:
        """What ``work`` says, or said when the same was asked."""
        for about, asked, said in self.kept:
            if about is large and asked == question:
                return said
        said = work()
        # One assignment, so that threads that ask at once do no harm to each other.
        self.kept = ((large, question, said), *self.kept[: self.most - 1])
        return said
