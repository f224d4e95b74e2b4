"""What a Maestoso is told of the lab of real machines: all that it lacks, once."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path
from typing import Any, cast

from maestoso.real_lab import command, ledger
from maestoso.real_lab.command import Maestoso, NotThere
from maestoso.real_lab.sites import RealLab


class Told:
    """A Maestoso that knows ``known`` and notes what it is sent. A crosswalk that is not made yet is an empty one."""

    def __init__(self, **known: Any) -> None:
        self.known = known
        self.sent: list[tuple[str, str]] = []

    def get(self, path: str) -> Any:
        """What it knows under an address."""
        if path == "/sites":
            return {"sites": []}
        if path.startswith("/crosswalks/"):
            return {"revision": self.known.get("crosswalks", 0)}
        if path.strip("/").replace("/", "_") in self.known:
            return {}
        raise NotThere("There is none.", "")

    def send(self, method: str, path: str, body: Any = None) -> Any:
        """Note it."""
        self.sent.append((method, path))


class Telling(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.lab = RealLab(Path(folder.name), Path(folder.name), "tst", line=1, door=ledger.DOOR)
        self.lab.write_settings()

    def told(self, **known: Any) -> list[tuple[str, str]]:
        """What is sent to one that knows this."""
        one = Told(**known)
        command._register(self.lab, cast(Maestoso, one), lambda said: None)
        return one.sent

    def test_everything_that_it_lacks_is_made_crosswalks_as_well(self) -> None:
        sent = self.told()
        self.assertEqual(sent.count(("POST", "/sites")), 2)
        self.assertEqual(sent.count(("POST", "/crosswalks")), 2, "one that is empty is not made yet")
        self.assertEqual(sent.count(("POST", "/groups")), 2)
        self.assertEqual(sent.count(("POST", "/plans")), 1)

    def test_what_is_there_stays_as_it_is(self) -> None:
        known = {f"groups_{code}": True for code in ledger.GROUPS} | {f"plans_{ledger.PLAN}": True}
        sent = self.told(crosswalks=3, **known)
        self.assertEqual([one for one in sent if one[1] in ("/crosswalks", "/groups", "/plans")], [])


if __name__ == "__main__":
    unittest.main()
