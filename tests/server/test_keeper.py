"""The keeper: each site in its turn and in nobody's way, and of several keepers one."""

from __future__ import annotations

import threading
from collections.abc import Callable
from datetime import timedelta
from unittest import mock

from django.db import connection

from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation
from maestoso.server.estate.models import Site
from maestoso.server.keeper import keep, leases
from maestoso.server.keeper.models import KeeperLease
from maestoso.server.reign import lease
from tests.server.tidewell import Tidewell

CLOCK = SystemClock()


class Leases(Tidewell):
    """Of several keepers exactly one has a duty."""

    def test_one_has_it_until_it_runs_out_or_is_given_back(self) -> None:
        self.assertTrue(leases.take("HIL", "one/host:1:1"))
        self.assertFalse(leases.take("HIL", "two/host:2:2"))
        self.assertTrue(leases.take("HIL", "one/host:1:1"), "it is kept by who has it")
        self.assertTrue(leases.take("QUA", "two/host:2:2"), "another site is another duty")
        KeeperLease.objects.filter(duty="HIL").update(until=CLOCK.now() - timedelta(seconds=1))
        self.assertTrue(leases.take("HIL", "two/host:2:2"))
        leases.release("two/host:2:2")
        self.assertTrue(leases.take("HIL", "one/host:1:1"))

    def test_one_that_is_known_to_be_gone_is_not_waited_for(self) -> None:
        own = incarnation("keeper of this machine")
        name, _, process = own.rpartition("/")
        host, _, _ = process.split(":")
        self.assertTrue(leases.take("HIL", f"{name}/{host}:999999999:1"))
        self.assertTrue(leases.take("HIL", own))


class Looking(Tidewell):
    """Look by look, whatever goes wrong in one of them."""

    def setUp(self) -> None:
        super().setUp()
        # A thread of its own would not see what this transaction holds; closing would end it.
        for name, stand_in in (("close_old_connections", mock.Mock()), ("EVERY_S", 0.01)):
            patched = mock.patch.object(keep, name, stand_in)
            patched.start()
            self.addCleanup(patched.stop)
        closed = mock.patch.object(connection, "close")
        closed.start()
        self.addCleanup(closed.stop)

    def test_trouble_in_one_look_keeps_nobody_from_the_next(self) -> None:
        stop, seen = threading.Event(), []

        def fails() -> None:
            seen.append("fails")
            raise ValueError("odd")

        def works() -> None:
            seen.append("works")
            if len(seen) >= 6:
                stop.set()

        with self.assertLogs("maestoso.keeper", "ERROR") as said:
            keep.perform_duty("HIL", lambda: [fails, works], quickly(stop), "one/host:1:1")
        self.assertEqual(seen, ["fails", "works"] * 3)
        self.assertEqual(len(said.records), 3)

    def test_the_lease_at_the_witness_outlives_the_machine_of_the_keeper_that_renewed_it(self) -> None:
        """Another keeper has the duty, and looks once more, before the last renewal is over."""
        stop, began = threading.Event(), SystemClock().now()
        held_s = keep.HELD_S[keep.WITNESS]
        keep.perform_duty(keep.WITNESS, lambda: [stop.set], quickly(stop), "one/host:1:1", held_s)
        until = KeeperLease.objects.get(duty=keep.WITNESS).until
        assert until is not None
        took_s = (SystemClock().now() - began).total_seconds()
        self.assertLessEqual((until - began).total_seconds(), held_s + took_s)
        good_for_s = lease.FOR_S - lease.EARLIER_S
        self.assertLess(held_s + 2 * keep.RENEW_LEASE_EVERY_S, good_for_s)

    def test_who_has_not_the_lease_does_not_look(self) -> None:
        leases.take("HIL", "two/host:2:2")
        stop, tries = threading.Event(), []

        def taken(duty: str, owner: str, lease_s: float) -> bool:
            tries.append(duty)
            if len(tries) > 3:
                stop.set()
            return leases.take(duty, owner, lease_s)

        with mock.patch.object(keep, "take", taken):
            keep.perform_duty("HIL", lambda: self.fail("it looked"), quickly(stop), "one/host:1:1")
        self.assertGreater(len(tries), 3)

    def test_a_site_that_was_retired_is_not_looked_after_any_more(self) -> None:
        self.assertEqual(len(keep._of_site("HIL", CLOCK)), len(keep.SITE_TASKS))
        self.assertEqual(keep._of_site("GONE", CLOCK), ())
        keep.perform_duty(
            "GONE", lambda: keep._of_site("GONE", CLOCK), quickly(threading.Event()), "one/host:1:1"
        )

    def test_a_slow_site_delays_no_other(self) -> None:
        stop, slow, quick = threading.Event(), threading.Event(), threading.Event()

        def look(site: Site, clock: object) -> None:
            if site.code == "HIL":
                slow.set()
                stop.wait(30)
            elif site.code == "QUA" and slow.is_set():
                quick.set()

        with (
            mock.patch.object(keep, "SITE_TASKS", (look,)), mock.patch.object(keep, "RECORD_TASKS", ()), mock.patch.object(keep, "refresh_board"),
            mock.patch.object(keep, "take", return_value=True),
            mock.patch.object(keep, "release"),
            mock.patch.object(keep, "Site", mock.Mock(objects=Codes())),
        ):  # fmt: skip
            keeper = threading.Thread(target=keep.keep, args=(stop, CLOCK, "one/host:1:1"))
            keeper.start()
            reached = quick.wait(30)
            stop.set()
            keeper.join(30)
        self.assertTrue(reached)


def quickly(stop: threading.Event) -> Callable[[], bool]:
    """A short pause between looks, until ``stop``."""
    return lambda: stop.wait(0.01)


class Codes:
    """Sites for threads, which do not see the rows of a test."""

    def values_list(self, *_: object, **__: object) -> list[str]:
        """Their codes."""
        return ["HIL", "QUA"]

    def filter(self, code: str) -> mock.Mock:
        """All are there."""
        return mock.Mock(first=lambda: Site(code=code))
