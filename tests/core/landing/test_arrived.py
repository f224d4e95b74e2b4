"""A workload as it is once it has come down for good."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_interface

from maestoso.core.landing.arrived import arrived
from maestoso.core.model.estate import Disk
from tests import worlds


class Arrived(unittest.TestCase):
    """By its live landing."""

    def test_it_has_what_its_landing_gives_it(self) -> None:
        inputs = worlds.live_inputs("planned")
        landing = next(one for one in inputs.landings if one.workload == "db")
        there = arrived(worlds.WORKLOADS["db"], replace(landing, cores=3, folder="kept"))
        self.assertEqual(there.nics[0].network, "b-net")
        self.assertEqual(there.nics[0].addresses, (ip_interface("10.2.0.11/24"),))
        self.assertEqual((there.host_pool, there.cores, there.folder), ("b-hosts", 3, "kept"))
        self.assertEqual(there.disks[0].storage_pool, "b-disk")
        self.assertEqual((there.name, there.offers), ("db", worlds.WORKLOADS["db"].offers))

    def test_a_disk_that_was_left_out_is_not_there(self) -> None:
        landing = next(one for one in worlds.live_inputs("planned").landings if one.workload == "db")
        scratch = Disk(name="tmp", size_gib=9, storage_pool="a-disk", left_out_because="scratch")
        before = worlds.WORKLOADS["db"]
        there = arrived(replace(before, disks=(*before.disks, scratch)), landing)
        self.assertEqual([disk.name for disk in there.disks], ["disk0"])


if __name__ == "__main__":
    unittest.main()
