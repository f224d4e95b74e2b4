"""Walks through the application: whatever people and sites do, in any order, what is said is so."""

from __future__ import annotations

from contextlib import ExitStack
from typing import ClassVar

from django.contrib.auth.models import User
from django.core.cache import cache
from django.db import transaction
from django.test import TestCase

from maestoso.practice.world import World
from maestoso.server.protection import keeper
from tests.server.tidewell import own_keys
from tests.walks import country
from tests.walks.checks import disagreements
from tests.walks.sites import Clock
from tests.walks.walker import Walk

TRUNK = 3
FORKS = 6
"""Every walk of a tree shares its first steps with others: 64 walks of nine steps are 129 steps."""


class Walks(TestCase):
    worlds: ClassVar[dict[str, World]]

    @classmethod
    def setUpClass(cls) -> None:
        own_keys(cls.addClassCleanup)
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        cache.clear()
        User.objects.create_user("ann")
        walk = Walk("set-up", country.worlds(), Clock(country.START))
        with patched(walk):
            country.make_records(walk.clock)
            walk.engine.keep()
            walk.engine.pass_time(900)
        cls.worlds = {code: site.world for code, site in walk.sites.items()}
        cls.begin = walk.clock.now()

    def tree(self, name: str) -> list[str]:
        """Walk from the beginning, then in both of two directions again and again; what was not so."""
        walk = Walk("begin", self.worlds, Clock(self.begin)).fork(name)
        with transaction.atomic():
            found = [one for _ in range(TRUNK) for one in self._step(walk)]
            found += self._branches(walk, FORKS)
            transaction.set_rollback(True)
        return found

    def _branches(self, walk: Walk, left: int) -> list[str]:
        found = []
        for side in "lr" if left else "":
            with transaction.atomic():
                other = walk.fork(walk.name + side)
                found += self._step(other)
                found += self._branches(other, left - 1)
                transaction.set_rollback(True)
        return found

    def _step(self, walk: Walk) -> list[str]:
        keeper._heard.clear()  # what another walk heard later is not known yet
        with patched(walk):
            walk.step()
            return ["\n  ".join([said, walk.name, *walk.log]) for said in disagreements(walk)]


def patched(walk: Walk) -> ExitStack:
    """The application speaks to the sites of a walk, at its time."""
    stack = ExitStack()
    for patch in walk.patched():
        stack.enter_context(patch)
    return stack
