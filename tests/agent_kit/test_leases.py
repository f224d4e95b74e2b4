"""A lease is held by one, goes on to one, and only with records that lack nothing."""

from __future__ import annotations

import sqlite3
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from maestoso.agent_kit import leases
from maestoso.agent_kit.leases import Lease, Leases
from maestoso.agent_kit.store import Store
from maestoso.agent_kit.web import Refused

FOR_S = 60.0
EARLIER_S = 10.0


def asked(reign: int, renewals: int, holder: str = "primary", *, if_over: bool = False) -> dict[str, Any]:
    """What somebody wants."""
    return {
        "reign": reign, "renewals": renewals, "for_s": FOR_S, "holder": holder, "if_over": if_over
    }  # fmt: skip


class Rules(unittest.TestCase):
    """Who gets it when."""

    def setUp(self) -> None:
        self.kept: Lease | None = None

    def give(self, now: float, *what: Any, **more: Any) -> None:
        """It is given."""
        self.kept, refusal = leases.given(self.kept, asked(*what, **more), now)
        if refusal is not None:
            raise refusal

    def refused(self, code: str, now: float, *what: Any, **more: Any) -> str:
        """Why it is not given."""
        with self.assertRaises(Refused) as caught:
            self.give(now, *what, **more)
        self.assertEqual(caught.exception.code, code)
        return caught.exception.detail

    def test_a_standby_gets_it_once_it_is_over_and_the_one_before_is_past_once_that_conducts(self) -> None:
        self.give(0, 7, 3)
        said = self.refused("lease-held", 59, 8, 3, "one", if_over=True)
        self.assertEqual(said, "The lease is held by whoever conducts, for another 1 s.")
        self.give(61, 8, 3, "one", if_over=True)
        # It has not begun to conduct: nobody else gets it meanwhile, and nobody is past.
        self.refused("lease-held", 62, 9, 3, "two", if_over=True)
        self.refused("lease-held", 62, 7, 4)
        self.give(70, 8, 3, "one", if_over=True)
        self.give(80, 8, 4, "one of them")
        self.refused("reign-past", 81, 7, 4)
        self.refused("reign-past", 1000, 8, 4, "two", if_over=True)

    def test_who_was_promised_it_and_never_conducted_holds_nobody_up_for_long(self) -> None:
        self.give(0, 7, 3)
        self.give(61, 8, 3, "one", if_over=True)
        self.give(122, 7, 4)
        self.refused("lease-held", 123, 8, 4, "one", if_over=True)
        # Another one, as the first has died for good.
        self.give(183, 8, 4, "one", if_over=True)
        self.give(244, 9, 4, "two", if_over=True)
        self.refused("reign-past", 305, 8, 4, "one", if_over=True)

    def test_records_that_lack_more_than_the_last_renewal_get_nothing(self) -> None:
        self.give(0, 7, 30)
        said = self.refused("records-behind", 61, 8, 28, "one", if_over=True)
        self.assertIn("renewed 30 times", said)
        self.give(61, 8, 29, "one", if_over=True)

    def test_nobody_gets_one_that_nobody_had_and_none_is_without_end(self) -> None:
        self.refused("no-lease", 0, 8, 0, "one", if_over=True)
        for for_s in (0, -1, 3601):
            kept, refusal = leases.given(None, {**asked(1, 1), "for_s": for_s}, 0)
            self.assertIsNone(kept)
            self.assertIn("for_s", str(refusal))

    def test_somebody_who_takes_over_by_hand_waits_for_the_end_of_what_the_one_before_believes(self) -> None:
        self.give(0, 7, 30)
        self.refused("lease-held", 1, 8, 3)
        self.refused("reign-past", 2, 7, 31)
        self.refused("lease-held", 59, 8, 4)
        self.give(60, 8, 5)
        # Where it was over already, or only promised, nobody waits.
        self.give(200, 9, 5)
        self.give(261, 10, 5, "one", if_over=True)
        self.give(262, 11, 6)

    @settings(max_examples=400)
    @given(
        st.lists(
            st.tuples(
                st.integers(0, 40), st.sampled_from(("primary", "one", "two")), st.integers(0, 25),
                st.booleans(), st.booleans(),
            ),
            max_size=40,
        )
    )  # fmt: skip
    def test_of_three_never_two_believe_that_they_hold_it(
        self, turns: list[tuple[int, str, int, bool, bool]]
    ) -> None:
        """Whoever conducts and is given it believes so from before it asked, and not to the end."""
        kept: Lease | None = None
        now, renewals = 0.0, 0
        reigns = {"primary": 1, "one": 2, "two": 3}
        conducts, believes = {"primary"}, dict.fromkeys(reigns, 0.0)
        for pause, who, took, begins, by_hand in turns:
            now += pause
            asked_at = now
            now += took
            if begins and by_hand:
                conducts.add(who)
            mine = who in conducts
            renewals += mine
            kept, refusal = leases.given(kept, asked(reigns[who], renewals, who, if_over=not mine), now)
            if refusal is not None:
                continue
            if not mine:
                conducts |= {who} if begins else set()
                continue
            until = asked_at + FOR_S - EARLIER_S
            if until > now:
                self.assertEqual([one for one in reigns if one != who and believes[one] > now], [])
            believes[who] = until


class Kept(unittest.TestCase):
    """Over a restart of the agent."""

    def test_it_is_there_after_a_restart(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        file = Path(folder.name) / "agent.db"
        first = Store(file)
        said = first.leases.give("ours", asked(7, 3))
        self.assertEqual((said["reign"], said["renewals"]), (7, 3))
        self.assertGreater(said["left_s"], FOR_S - 1)
        first.close()
        again = Store(file)
        self.addCleanup(again.close)
        with self.assertRaisesRegex(Refused, "is held by whoever conducts"):
            again.leases.give("ours", asked(8, 3, "one", if_over=True))
        # That of another installation is its own.
        with self.assertRaisesRegex(Refused, "Nobody has held"):
            again.leases.give("theirs", asked(8, 3, "one", if_over=True))

    def test_of_many_that_ask_at_once_one_gets_it(self) -> None:
        db = sqlite3.connect(":memory:", isolation_level=None, check_same_thread=False)
        self.addCleanup(db.close)
        kept = Leases(db, threading.RLock())
        kept.give("ours", {**asked(1, 1), "for_s": 1e-6})
        got: list[str] = []
        begin = threading.Barrier(8)

        def ask(name: str) -> None:
            begin.wait()
            for _ in range(50):
                try:
                    kept.give("ours", asked(2, 1, name, if_over=True))
                except Refused:
                    continue
                got.append(name)
                return

        threads = [threading.Thread(target=ask, args=(str(number),)) for number in range(8)]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        self.assertEqual(len(got), 1)


if __name__ == "__main__":
    unittest.main()
