"""Plans begun from templates."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.estate.filter import compile_filter
from maestoso.core.planning.templates import BY_KEY, TEMPLATES, from_template
from tests import worlds

TIERS = BY_KEY["tiers"]


class Templates(unittest.TestCase):
    """Who comes into which wave."""

    def test_every_rule_can_be_read_and_every_key_is_there_once(self) -> None:
        self.assertEqual(len(BY_KEY), len(TEMPLATES))
        for template in TEMPLATES:
            for wave in template.waves:
                compile_filter(wave.tag_rule)
            self.assertFalse(any(wave.members for wave in template.waves))

    def test_each_workload_comes_into_the_first_wave_that_names_it(self) -> None:
        tiers = {"db": "data", "app": "app", "web": "web"}
        workloads = [replace(worlds.WORKLOADS[name], tags={"tier": tier}) for name, tier in tiers.items()]
        made = from_template(TIERS, workloads)
        self.assertEqual(made.waves, ("Core", "Data", "Services", "Faces"))
        placed = {piece.workload: (piece.wave, piece.reason) for piece in made.pieces if piece.kind == "wave"}
        self.assertEqual(placed["db"], (1, "matches tier=data"))
        self.assertEqual(placed["app"], (2, "matches tier=app"))
        self.assertEqual(placed["web"], (3, "matches tier=web"))

    def test_what_no_rule_names_comes_last_and_says_so(self) -> None:
        made = from_template(TIERS, [worlds.WORKLOADS["queue"]])
        self.assertEqual(made.pieces[0].wave, 3)
        self.assertEqual(made.pieces[0].reason, "matches no rule of the template")

    def test_within_a_wave_who_uses_waits_for_who_offers(self) -> None:
        db = replace(worlds.WORKLOADS["db"], tags={"tier": "app"})
        app = replace(worlds.WORKLOADS["app"], tags={"tier": "app"}, uses=("db-service",))
        waits = [piece for piece in from_template(TIERS, [db, app]).pieces if piece.kind == "dependency"]
        self.assertEqual([(piece.workload, piece.on) for piece in waits], [("app", "db")])

    def test_between_waves_nothing_is_proposed_because_the_waves_keep_them_apart(self) -> None:
        db = replace(worlds.WORKLOADS["db"], tags={"tier": "data"})
        app = replace(worlds.WORKLOADS["app"], tags={"tier": "app"}, uses=("db-service",))
        waits = [piece for piece in from_template(TIERS, [db, app]).pieces if piece.kind == "dependency"]
        self.assertEqual(waits, [])


if __name__ == "__main__":
    unittest.main()
