"""Every order in which engines, site, person and messages can do things to a run keeps every promise."""

from __future__ import annotations

import unittest

from tests.engine.interleavings import Bounds, Broken, Rules, explore


class Interleavings(unittest.TestCase):
    def test_every_promise_holds_in_every_state(self) -> None:
        found = explore(Bounds(claims=3, crashes=2))
        print(f"{found.states} states with {found.logs} logs were visited")
        self.assertEqual(found.ends, {"passed", "aborted"})

    def test_what_is_visited_grows_with_the_bounds(self) -> None:
        small = Bounds(claims=1, crashes=0, failures=0, aborts=0)
        sizes = [explore(one).states for one in (small, Bounds(crashes=0, aborts=0), Bounds(aborts=0))]
        self.assertEqual(sizes, sorted(set(sizes)))
        self.assertGreater(sizes[-1], 20 * sizes[0])

    def breaks(self, promise: str, **rule: bool) -> None:
        """Without a rule of the design the exploration finds what it is for."""
        with self.assertRaisesRegex(Broken, promise):
            explore(rules=Rules(**rule))

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
