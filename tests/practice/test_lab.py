"""Every way to misbehave that the practice lab offers, and putting it right."""

from __future__ import annotations

import typing
import unittest

from maestoso.practice.lab import BY_KEY, PRESETS, Preset
from maestoso.practice.spec import Fault, Switch, Trouble
from maestoso.practice.verbs import VERBS
from tests.practice.test_world import Site

SUBJECTS = {"site": "", "workload": "db*", "group": "shop", "link": "A", "pool": "b-hosts", "script": "hello"}

OVER_AT_ONCE = ("forgets", "host-lost", "host-lost-for-good", "burst", "machine-killed")
"""These have happened once they are told; nothing of the site is broken then."""


def breaks(site: Site, preset: Preset, times: int | None = None, factor: float | None = None) -> None:
    """Break it at a practice site."""
    if preset.verb:
        site.copy()
        assert site.do(preset.verb, "db--t1").status == "done"
        return
    broken, now = preset.broken(SUBJECTS[preset.about], times, factor), site.world.now
    if isinstance(broken, Fault):
        site.world.add_fault(broken, now)
    elif isinstance(broken, Trouble):
        site.world.add_trouble(broken, now)
    else:
        site.world.throw(broken, now)


class Presets(unittest.TestCase):
    """What is offered can be done."""

    def test_each_is_one_kind_of_misbehaviour_with_a_name_of_its_own(self) -> None:
        self.assertEqual(len(BY_KEY), len(PRESETS))
        for preset in PRESETS:
            with self.subTest(preset.key):
                kinds = (preset.fault, preset.trouble, preset.switch, preset.verb)
                self.assertEqual(len([one for one in kinds if one]), 1)
                self.assertTrue(preset.title and preset.sentence.endswith("."))

    def test_faults_are_about_verbs_that_sites_know(self) -> None:
        for preset in PRESETS:
            if preset.fault is not None:
                self.assertIn(preset.fault.verb, {*VERBS, "*"}, preset.key)
            self.assertIn(preset.verb, {*VERBS, ""}, preset.key)

    def test_each_can_be_broken_is_listed_and_put_right(self) -> None:
        for preset in PRESETS:
            with self.subTest(preset.key):
                site = Site()
                sound = site.world.broken()
                breaks(site, preset)
                if preset.key not in OVER_AT_ONCE:
                    self.assertNotEqual(site.world.broken(), sound)
                site.world.clear_faults(site.world.now)
                self.assertEqual(site.world.broken(), sound)

    def test_how_often_and_how_much_can_be_chosen(self) -> None:
        hangs = BY_KEY["boot-hangs"].broken("db", 2)
        self.assertEqual(typing.cast(Fault, hangs).times, 2)
        slow = BY_KEY["site-slow"].broken("", None, 8.0)
        self.assertEqual((typing.cast(Fault, slow).factor, typing.cast(Fault, slow).subject), (8.0, "*"))
        link = BY_KEY["link-slow"].broken("A", None, 100.0)
        self.assertEqual(
            (typing.cast(Trouble, link).factor, typing.cast(Trouble, link).subject), (100.0, "A")
        )
        lost = BY_KEY["host-lost"].broken("b-hosts", None)
        self.assertEqual(typing.cast(Switch, lost).subject, "b-hosts")


class Effects(unittest.TestCase):
    """What they do to what is asked for."""

    def test_a_fault_that_is_told_once_happens_once(self) -> None:
        site = Site()
        breaks(site, BY_KEY["storage-full"], times=1)
        point = {"workload": "db", "group": "shop", "mark": "t1", "point": site.point()}
        self.assertEqual(site.do("clone-point", "db--t1", **point).code, "no-space")
        self.assertEqual(site.do("clone-point", "db--t1", **point).status, "done")

    def test_a_dark_site_has_no_power_and_its_copies_come_back_with_it(self) -> None:
        site = Site()
        site.copy()
        self.assertTrue(site.world.copies["db--t1"].powered)
        breaks(site, BY_KEY["site-down"])
        self.assertTrue(site.world.dark)
        self.assertFalse(site.world.copies["db--t1"].powered)
        site.world.clear_faults(site.world.now)
        self.assertFalse(site.world.dark)

    def test_an_old_agent_is_old_until_all_is_put_right(self) -> None:
        site = Site()
        breaks(site, BY_KEY["old-agent"])
        self.assertTrue(site.world.old_agent)
        site.world.clear_faults(site.world.now)
        self.assertFalse(site.world.old_agent)


if __name__ == "__main__":
    unittest.main()
