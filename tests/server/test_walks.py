"""Walks through the application: whatever people and sites do, in any order, what is said is so."""

from __future__ import annotations

import os
from contextlib import ExitStack
from typing import ClassVar

from django.core.cache import cache
from django.db import transaction
from django.test import TestCase

from maestoso.cli.testing import FIRST_TREE, TREES
from maestoso.practice.world import World
from maestoso.server.keeper import tasks
from tests.server.people import make_person
from tests.server.tidewell import own_keys
from tests.walks import country
from tests.walks.checks import disagreements
from tests.walks.sites import Clock
from tests.walks.walker import Walk

TRUNK, FORKS, WAYS = 4, 2, 8
"""Walks share their first steps: the 64 walks of a tree, each of six steps, are 76 steps."""


class Country(TestCase):
    """A test case with the small estate, and walks from there."""

    worlds: ClassVar[dict[str, World]]

    @classmethod
    def setUpClass(cls) -> None:
        own_keys(cls.addClassCleanup)
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        cache.clear()
        make_person("ann")
        walk = Walk("set-up", country.worlds(), Clock(country.START))
        with patched(walk):
            country.make_records(walk.clock)
            walk.engine.keep()
            walk.engine.pass_time(900)
        cls.worlds = {code: site.world for code, site in walk.sites.items()}
        cls.begin = walk.clock.now()

    def tree(self, name: str) -> list[str]:
        """Walk from the beginning, then in several directions from everywhere one comes; what was not so."""
        walk = Walk("begin", self.worlds, Clock(self.begin)).fork(name)
        with transaction.atomic():
            found = [one for _ in range(TRUNK) for one in self._step(walk)]
            found += self._branches(walk, FORKS)
            transaction.set_rollback(True)
        return found

    def assert_all_is_so(self, name: str) -> None:
        """Whatever happens on the walks of a tree, what is said is so."""
        found = self.tree(name)
        self.assertEqual(found, [], f"{len(found)} things were said that were not so, first:\n{found[:1]}")

    def _branches(self, walk: Walk, left: int) -> list[str]:
        found = []
        for way in range(WAYS if left else 0):
            with transaction.atomic():
                other = walk.fork(f"{walk.name}.{way}")
                found += self._step(other)
                found += self._branches(other, left - 1)
                transaction.set_rollback(True)
        return found

    def _step(self, walk: Walk) -> list[str]:
        tasks._heard.clear()  # what another walk heard and told later is not known yet
        tasks._told.clear()
        with patched(walk):
            walk.step()
            return ["\n  ".join([said, walk.name, *walk.log]) for said in disagreements(walk)]


class Walks(Country):
    def test_whatever_happens_what_is_said_is_so(self) -> None:
        first = int(os.environ.get(FIRST_TREE, "0"))
        for number in range(first, first + int(os.environ.get(TREES, "2"))):
            with self.subTest(number):
                self.assert_all_is_so(f"tree {number}")


def patched(walk: Walk) -> ExitStack:
    """The application speaks to the sites of a walk, at its time."""
    stack = ExitStack()
    for patch in walk.patched():
        stack.enter_context(patch)
    return stack
