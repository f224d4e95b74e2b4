"""Every order in which people, engines, keeper, sites and messages can do things keeps every promise."""

from __future__ import annotations

import unittest

from tests.engine import interleavings, outbox_interleavings
from tests.engine.exploring import Broken
from tests.engine.outbox_interleavings import FENCED_AND_BACK, TO_AND_FRO, Word
from tests.engine.schedules import Piece, play


class OfARun(unittest.TestCase):
    """Two engines, a person and a site at one run."""

    def test_every_promise_holds_in_every_state(self) -> None:
        states, logs, ends = interleavings.explore(interleavings.Bounds(claims=3, crashes=2))
        print(f"{states} states with {logs} logs were visited")
        self.assertEqual(ends, {"passed", "aborted"})

    def test_what_is_visited_grows_with_the_bounds(self) -> None:
        bounds = interleavings.Bounds
        small = bounds(claims=1, crashes=0, failures=0, aborts=0)
        sizes = [
            interleavings.explore(one)[0] for one in (small, bounds(crashes=0, aborts=0), bounds(aborts=0))
        ]
        self.assertEqual(sizes, sorted(set(sizes)))
        self.assertGreater(sizes[-1], 20 * sizes[0])

    def breaks(self, promise: str, **rule: bool) -> None:
        """Without a rule of the design the exploration finds what it is for."""
        with self.assertRaisesRegex(Broken, promise):
            interleavings.explore(rules=interleavings.Rules(**rule))

    def test_sent_before_it_is_durable_something_is_done_that_nobody_asked_for(self) -> None:
        self.breaks("the log does not ask for it", send_after_commit=False)

    def test_with_a_new_key_for_each_message_something_is_done_twice(self) -> None:
        self.breaks("Something was done twice", one_key_for_an_attempt=False)

    def test_a_site_without_a_memory_does_things_twice(self) -> None:
        self.breaks("Something was done twice", site_remembers=False)

    def test_not_asked_again_after_a_crash_a_run_is_stuck(self) -> None:
        self.breaks("cannot come to its end", ask_again_after_a_crash=False)

    def test_who_writes_behind_what_it_has_not_read_breaks_the_log(self) -> None:
        self.breaks("The log cannot be read any more", log_refuses_who_is_behind=False)


class OfTheOutbox(unittest.TestCase):
    """People and two processes, as a page and the keeper, at what one site is asked of one subject."""

    def test_every_promise_holds_in_every_state(self) -> None:
        bounds = outbox_interleavings.Bounds(crashes=2, failures=2)
        for words in (FENCED_AND_BACK, TO_AND_FRO):
            found = outbox_interleavings.explore(words, bounds)
            print(f"{found.states} states of the outbox were visited")
            self.assertTrue(found.ends)

    def test_what_is_visited_grows_with_the_bounds(self) -> None:
        bounds = outbox_interleavings.Bounds
        small = bounds(crashes=0, failures=0, unheard=0, looks=0)
        sizes = [
            outbox_interleavings.explore(TO_AND_FRO, one).states
            for one in (small, bounds(crashes=0), bounds())
        ]
        self.assertEqual(sizes, sorted(set(sizes)))
        self.assertGreater(sizes[-1], 20 * sizes[0])

    def breaks(self, promise: str, words: tuple[Word, ...], **rule: bool) -> None:
        """Without a rule of the design the exploration finds what it is for."""
        with self.assertRaisesRegex(Broken, promise):
            outbox_interleavings.explore(words, rules=outbox_interleavings.Rules(**rule))

    def test_with_keys_that_are_used_again_a_site_holds_the_wrong_policy_for_ever(self) -> None:
        self.breaks("cannot come to its end", TO_AND_FRO, own_key_for_each_request=False)

    def test_asked_again_under_its_old_key_what_failed_fails_for_ever(self) -> None:
        self.breaks("cannot come to its end", FENCED_AND_BACK, another_key_after_a_failure=False)

    def test_without_fences_that_grow_a_late_message_undoes_what_came_after_it(self) -> None:
        self.breaks("done after what was asked for later", TO_AND_FRO, fences_grow=False)

    def test_out_of_its_order_a_fence_is_refused_for_ever(self) -> None:
        self.breaks("is asked for again for ever", FENCED_AND_BACK, in_their_order=False)

    def test_a_fence_that_is_being_delivered_while_its_run_is_rolled_back_stays_for_ever(self) -> None:
        self.breaks(
            "nobody will ever ask for 'lifted'", FENCED_AND_BACK, nothing_is_taken_back_that_was_sent=False
        )


class BySchedules(unittest.TestCase):
    def test_some_of_the_schedules_that_soak_plays(self) -> None:
        moves, broken = play(Piece(seed=7, first=0, count=400))
        self.assertEqual(broken, "")
        self.assertGreater(moves, 400 * 5)
        self.assertEqual(play(Piece(seed=7, first=0, count=400)), (moves, ""), "the same seed plays the same")
