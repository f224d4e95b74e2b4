"""Planned beside actual."""

from __future__ import annotations

import unittest
from dataclasses import replace
from typing import Any

from maestoso.core.landing.actual import outcomes
from maestoso.core.landing.resolve import resolve
from maestoso.core.model.crosswalk import Side
from tests import worlds


def said(**changes: Any) -> dict[str, list[dict[str, Any]]]:
    """What a site says of the adapter of db, as planned but for ``changes``."""
    has = {"nic": "nic0", "network": "b-net", "connected": True, "dhcp": False, "addresses": ["10.2.0.11/24"]}
    return {"db": [has | changes]}


class Outcomes(unittest.TestCase):
    """What is not as planned is said in words."""

    def differs(self, answer: dict[str, list[dict[str, Any]]], side: Side = "live", **changes: Any) -> str:
        (one,) = resolve((worlds.WORKLOADS["db"],), worlds.crosswalk(), worlds.ground(), side)
        nic = replace(one.landing.nics[0], **changes)
        (found,) = outcomes((replace(one.landing, nics=(nic,)),), (), {"adapters": answer})
        return found.differs

    def test_as_planned(self) -> None:
        self.assertEqual(self.differs(said()), "")
        self.assertEqual(self.differs(said(network="b-net.sandbox-t7"), "test"), "")
        self.assertEqual(
            self.differs(said(addresses=["10.2.0.60/24"], dhcp=True), dhcp=True, addresses=()), ""
        )

    def test_otherwise(self) -> None:
        self.assertEqual(self.differs(said(addresses=["10.1.0.11/24"])), "it has 10.1.0.11/24")
        self.assertEqual(self.differs(said(addresses=[])), "it has no address")
        self.assertEqual(self.differs(said(network="b-lab")), "it is on b-lab")
        self.assertEqual(self.differs(said(connected=False)), "it is disconnected")
        self.assertEqual(self.differs(said(), connected=False), "it is connected")
        self.assertEqual(
            self.differs(said(addresses=[]), dhcp=True, addresses=()), "nobody gave it an address"
        )

    def test_a_site_that_said_nothing(self) -> None:
        (one,) = resolve((worlds.WORKLOADS["db"],), worlds.crosswalk(), worlds.ground(), "live")
        (found,) = outcomes((one.landing,), (), {})
        self.assertEqual((found.before, found.planned), ("10.1.0.11/24", "10.2.0.11/24 on b-net"))
        self.assertEqual((found.actual, found.differs), (None, ""))
