"""Walks through the application: whatever people and sites do, in any order, what is said is so."""

from __future__ import annotations

import copy
import os
from contextlib import ExitStack
from typing import ClassVar

from django.contrib.auth.models import User
from django.core.cache import cache
from django.test import TestCase

from maestoso.practice.world import World
from tests.server.tidewell import own_keys
from tests.walks import country
from tests.walks.checks import disagreements
from tests.walks.sites import Clock
from tests.walks.walker import Walk

STEPS = 10


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
        clock = Clock(country.START)
        walk = Walk(0, country.worlds(), clock)
        with ExitStack() as stack:
            for patch in walk.patched():
                stack.enter_context(patch)
            country.make_records(clock)
            walk.engine.keep()
            walk.engine.pass_time(900)
        cls.worlds = {code: site.world for code, site in walk.sites.items()}
        cls.begin = clock.now()

    def walk(self, seed: int) -> list[str]:
        found = []
        walk = Walk(seed, copy.deepcopy(self.worlds), Clock(self.begin))
        with ExitStack() as stack:
            for patch in walk.patched():
                stack.enter_context(patch)
            for _ in range(STEPS):
                walk.step()
                for said in disagreements(walk):
                    found.append(said)
                    walk.log.append(f"    !! {said}")
        if found and os.environ.get("WALK_LOG"):
            print("\n".join([f"--- seed {seed}", *walk.log]))
        return found
