"""The order in which machines write is kept by points of their group, over all their disks."""

from __future__ import annotations

import unittest

from tests.e2e.application import until
from tests.guests.lab import HOME, MEMBERS, needs_real_machines
from tests.guests.points import Points


@needs_real_machines
class Order(Points):
    """With order, and the control: without it, what must not be can be seen."""

    def test_the_order_of_writes_is_kept_over_disks_and_machines_and_would_not_be_without(self) -> None:
        self.protect("shop", MEMBERS)
        for _ in range(3):
            files = self.sync("shop")
            first, second = self.counts("shop", "app", files)
            database, _ = self.counts("shop", "db", files)
            self.assertTrue(first >= second >= database >= first - 1, (first, second, database))
        self.away.done("unprotect", "shop")
        # The same machines in two groups, the one that counts last copied last: so it would be without order.
        self.protect("one", ("app",))
        self.protect("other", ("db",))
        ahead, _ = self.counts("one", "app", self.sync("one"))
        until(lambda: self.sites.count(HOME) > ahead + 1, "it to count on")
        behind, _ = self.counts("other", "db", self.sync("other"))
        self.assertGreater(behind, ahead, "without order, the database is ahead of who counts in it")


if __name__ == "__main__":
    unittest.main()
