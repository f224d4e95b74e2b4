"""The hash chain of a run."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import datetime

from maestoso.core.evidence.chain import ROOT, first_broken, link
from tests.player import Player


class Chain(unittest.TestCase):
    """Every event carries the hash of the one before."""

    def test_a_touched_event_is_found_by_its_number(self) -> None:
        play = Player()
        play.until("power-on:db")
        stored, before = [], ROOT
        for event in play.log:
            before = link(before, event)
            stored.append((event, before))
        self.assertIsNone(first_broken(stored))
        touched = list(stored)
        touched[7] = (replace(touched[7][0], by="somebody"), touched[7][1])
        self.assertEqual(first_broken(touched), touched[7][0].seq)
        self.assertEqual(first_broken(stored[:3] + stored[4:]), stored[4][0].seq)

    def test_the_hash_does_not_depend_on_how_a_moment_is_written(self) -> None:
        event = Player().log[0]
        same = replace(event, at=datetime.fromisoformat(event.at.isoformat()))
        self.assertEqual(link(ROOT, event), link(ROOT, same))


if __name__ == "__main__":
    unittest.main()
