"""Everything that people, two processes, one site and a lossy line can do to what is asked of one subject.

What becomes of a request is for the real rules (``core.outbox``) to say. A process that brings something has it to
itself until its claim runs out, which may be while it still waits; it goes by what it read when it began.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from maestoso.core.outbox import DONE, WAITING, WITHDRAWN, Request, answered, unheard, withdrawn
from maestoso.core.runs.operations import OperationState
from tests.engine.exploring import Explored, explored


@dataclass(frozen=True)
class Word:
    """What a person wants of the subject: a value, or what stood there before (``back``)."""

    value: str
    insists: bool = False
    back: bool = False


FENCED_AND_BACK = (Word("fenced", insists=True), Word("lifted", insists=True, back=True))
"""A run fences a source that is away, and is rolled back."""
TO_AND_FRO = (Word("A"), Word("B"), Word("A"))
"""A policy is changed, and changed back; the keeper compares what the site holds with it."""


MOST_KEYS = 6
"""More than failures and processes that go by what they read earlier can account for."""


@dataclass(frozen=True)
class Bounds:
    """How often each of these may happen."""

    crashes: int = 1
    failures: int = 1
    unheard: int = 2
    looks: int = 2


@dataclass(frozen=True)
class Rules:
    """What the design says; a test switches one off to see that the exploration finds what it is for."""

    own_key_for_each_request: bool = True
    another_key_after_a_failure: bool = True
    fences_grow: bool = True
    in_their_order: bool = True
    nothing_is_taken_back_that_was_sent: bool = True


@dataclass(frozen=True)
class Asked:
    """A row: what for, and how it stands. ``held``: a process has it to itself."""

    value: str
    rule: Request
    held: bool = False


@dataclass(frozen=True)
class Bringing:
    """What a process does: the number of the row, and the row as it read it."""

    row: int
    read: Asked


Message = tuple[str, str, int]
"""Key, value and fence."""


@dataclass(frozen=True)
class State:
    """All there is at one moment. ``effects`` are numbers of rows, in the order in which the site did them."""

    left: Bounds
    said: int = 0
    rows: tuple[Asked, ...] = ()
    hands: tuple[Bringing | None, Bringing | None] = (None, None)
    sent: frozenset[Message] = frozenset()
    known: frozenset[tuple[str, str]] = frozenset()
    site_fence: int = -1
    effects: tuple[int, ...] = ()
    value: str = ""


class OneSubject:
    """People speak in the order of ``words``; the keeper asks for the last value that they wanted once more."""

    def __init__(self, words: tuple[Word, ...], bounds: Bounds, rules: Rules) -> None:
        self.words, self.rules = words, rules
        self.first = State(left=bounds)

    def moves(self, now: State) -> Iterator[tuple[str, State]]:
        """All that can happen next, in words, with what is then."""
        if now.said < len(self.words):
            yield self._speaks(now, self.words[now.said])
        elif not self._insisted(now) and now.left.looks and not self.over(now) and self._at_rest(now):
            left = replace(now.left, looks=now.left.looks - 1)
            yield "the keeper asks", self._ask(replace(now, left=left), self.wanted(now), insists=False)
        for hand in range(len(now.hands)):
            yield from self._of_hand(now, hand)
        for number, row in enumerate(now.rows):
            if row.held:
                yield f"the claim on {number} runs out", _with_row(now, number, replace(row, held=False))
        for key, value, fence in sorted(now.sent):
            yield from self._arrives(now, key, value, fence)

    def wanted(self, now: State) -> str:
        """What the site should hold by the records."""
        return self.words[now.said - 1].value if now.said else ""

    def _speaks(self, now: State, word: Word) -> tuple[str, State]:
        then, taken_back = replace(now, said=now.said + 1), False
        if word.back:
            rows = list(then.rows)
            for number, row in enumerate(rows):
                after = withdrawn(row.rule)
                if after is None and not self.rules.nothing_is_taken_back_that_was_sent:
                    after = replace(row.rule, status=WITHDRAWN)
                if after is not None:
                    rows[number], taken_back = replace(row, rule=after), True
            then = replace(then, rows=tuple(rows))
        if taken_back:
            return "ann takes it back", then
        return f"ann wants {word.value}", self._ask(then, word.value, insists=word.insists)

    def _ask(self, now: State, value: str, *, insists: bool) -> State:
        return replace(now, rows=(*now.rows, Asked(value=value, rule=Request(insists=insists))))

    def _of_hand(self, now: State, hand: int) -> Iterator[tuple[str, State]]:
        doing, who = now.hands[hand], f"process {hand}"
        if doing is None:
            waiting = [number for number, row in enumerate(now.rows) if row.rule.status == WAITING]
            for number in waiting[:1] if self.rules.in_their_order else waiting:
                if not now.rows[number].held:
                    yield f"{who} sends {number}", self._sends(now, hand, number)
            return
        freed = _with_hand(now, hand, None)
        if now.left.crashes:
            left = replace(now.left, crashes=now.left.crashes - 1)
            yield f"{who} dies", replace(freed, left=left)
        key = self._key(doing.row, doing.read)
        for known, status in sorted(now.known):
            if known == key:
                state = OperationState(key=key, status=status)  # type: ignore[arg-type]
                yield (
                    f"{who} hears that {key} is {status}",
                    self._learns(freed, doing, answered(doing.read.rule, state)),
                )
        if now.left.unheard:
            left = replace(now.left, unheard=now.left.unheard - 1)
            yield (
                f"{who} hears nothing",
                self._learns(replace(freed, left=left), doing, unheard(doing.read.rule)),
            )

    def _sends(self, now: State, hand: int, number: int) -> State:
        row = replace(now.rows[number], held=True, rule=replace(now.rows[number].rule, sent=True))
        message = (self._key(number, row), row.value, number if self.rules.fences_grow else 0)
        sent = _with_hand(_with_row(now, number, row), hand, Bringing(row=number, read=row))
        return replace(sent, sent=now.sent | {message})

    def _learns(self, now: State, doing: Bringing, after: Request) -> State:
        row = now.rows[doing.row]
        if row.rule.status != WAITING:
            return now
        if not self.rules.another_key_after_a_failure:
            after = replace(after, generation=1)
        return _with_row(now, doing.row, replace(row, held=False, rule=after))

    def _key(self, number: int, row: Asked) -> str:
        token = str(number) if self.rules.own_key_for_each_request else row.value
        return f"{token}/{row.rule.generation}"

    def _arrives(self, now: State, key: str, value: str, fence: int) -> Iterator[tuple[str, State]]:
        known = any(one == key for one, _ in now.known)
        if fence < now.site_fence:
            if not known:
                # It is refused, and not remembered: who asked hears that it failed.
                yield f"{key} is refused", replace(now, known=now.known | {(key, "failed")})
            return
        heard = replace(now, site_fence=fence)
        if known:
            if heard != now:
                yield f"{key} arrives again", heard
            return
        number = fence if self.rules.fences_grow else int(key.split("/")[0])
        done = replace(heard, known=now.known | {(key, "done")}, effects=(*now.effects, number), value=value)
        yield f"{key} arrives and is done", done
        if now.left.failures:
            left = replace(now.left, failures=now.left.failures - 1)
            yield f"{key} arrives and fails", replace(heard, known=now.known | {(key, "failed")}, left=left)

    def _at_rest(self, now: State) -> bool:
        return now.hands == (None, None) and all(row.rule.status != WAITING for row in now.rows)

    def broken(self, before: State, now: State) -> str:
        """Which promise a move broke; empty where it kept them all."""
        if len(set(now.effects)) < len(now.effects):
            return "Something was done twice."
        if list(now.effects) != sorted(now.effects):
            return "What was asked for earlier was done after what was asked for later."
        for number, row in enumerate(now.rows):
            if row.rule.generation > MOST_KEYS:
                return f"{number} is asked for again for ever."
            if row.rule.status == WITHDRAWN and not row.rule.sent and number in now.effects:
                return f"{number} was taken back unsent, and done."
            if row.rule.status == DONE and number not in now.effects and self.rules.own_key_for_each_request:
                return f"{number} is said to be done, and is not."
        if self._insisted(now) and self._at_rest(now) and now.value not in ("", self.wanted(now)):
            return f"The site holds {now.value!r}, and nobody will ever ask for {self.wanted(now)!r}."
        return ""

    def _insisted(self, now: State) -> bool:
        """Whether nobody compares, so that the rows alone must bring it about."""
        return now.said == len(self.words) and any(word.insists for word in self.words)

    def over(self, now: State) -> bool:
        """Nothing waits, and the site holds what the records say; or nothing was ever sent there."""
        return now.said == len(self.words) and self._at_rest(now) and (
            now.value == self.wanted(now) or (self._insisted(now) and not now.sent)
        )  # fmt: skip

    def may_rest(self, now: State) -> bool:
        """Where the keeper may look no more, the bounds end it."""
        return not self._insisted(now) and not now.left.looks


def _with_row(now: State, number: int, row: Asked) -> State:
    return replace(now, rows=tuple(row if at == number else one for at, one in enumerate(now.rows)))


def _with_hand(now: State, hand: int, doing: Bringing | None) -> State:
    hands = tuple(doing if at == hand else one for at, one in enumerate(now.hands))
    # Which of the two it is makes no difference to what may happen.
    if hands[0] is None or (hands[1] is not None and hands[1].row < hands[0].row):
        hands = hands[::-1]
    return replace(now, hands=hands)  # type: ignore[arg-type]


def explore(
    words: tuple[Word, ...], bounds: Bounds | None = None, rules: Rules | None = None
) -> Explored[State]:
    """Visit every state. Raises Broken for a promise that is not kept, with the way there."""
    return explored(OneSubject(words, bounds or Bounds(), rules or Rules()))
