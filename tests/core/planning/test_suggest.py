"""Waves from what uses what."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.model.estate import Service, Workload
from maestoso.core.model.plan import Member
from maestoso.core.planning.suggest import Suggestion, suggest, suggest_changes
from tests import worlds


def machine(name: str, *uses: str, tier: str = "") -> Workload:
    """A workload that offers a service of its own name."""
    return Workload(
        name=name, cores=1, memory_mib=1, disks=(), nics=(), uses=uses, tags={"tier": tier} if tier else {},
        offers=(Service(name=name, protocol="tcp", port=80),),
    )  # fmt: skip


def waves(made: Suggestion) -> dict[str, int]:
    """The wave of every workload."""
    return {piece.workload: piece.wave for piece in made.pieces if piece.kind == "wave"}


@st.composite
def estates(draw: st.DrawFn) -> list[Workload]:
    """A handful of workloads that use each other in any way."""
    count = draw(st.integers(0, 8))
    names = [f"w{n}" for n in range(count)]
    return [
        machine(name, *draw(st.lists(st.sampled_from(names), max_size=3)),
                tier=draw(st.sampled_from(("", "data", "app", "web"))))
        for name in names
    ]  # fmt: skip


class Suggested(unittest.TestCase):
    """Nobody comes up before what it uses."""

    def test_tiers_become_waves_in_the_order_of_their_uses(self) -> None:
        made = suggest(
            [machine("web", "app", tier="web"), machine("app", "db", tier="app"),
             machine("db", tier="data"), machine("db-2", "db", tier="data")]
        )  # fmt: skip
        self.assertEqual(made.waves, ("Data", "App", "Web"))
        self.assertEqual(waves(made), {"db": 0, "db-2": 0, "app": 1, "web": 2})
        (dependency,) = [piece for piece in made.pieces if piece.kind == "dependency"]
        self.assertEqual((dependency.workload, dependency.on), ("db-2", "db"))
        self.assertEqual(dependency.reason, "it uses db of db")

    def test_without_tags_each_comes_a_wave_behind_what_it_uses(self) -> None:
        made = suggest([machine("web", "app"), machine("app", "db"), machine("db")])
        self.assertEqual(
            (made.waves, waves(made)), (("Wave 1", "Wave 2", "Wave 3"), {"db": 0, "app": 1, "web": 2})
        )

    @given(estates())
    def test_a_provider_is_never_later_unless_they_use_each_other(self, estate: list[Workload]) -> None:
        made = suggest(estate)
        at = waves(made)
        self.assertEqual(set(at), {workload.name for workload in estate})
        self.assertEqual(set(at.values()), set(range(len(made.waves))))
        waits = {(piece.workload, piece.on) for piece in made.pieces if piece.kind == "dependency"}
        reach = {w.name: set(w.uses) for w in estate}
        for _ in estate:
            reach = {n: seen | {far for near in seen for far in reach[near]} for n, seen in reach.items()}
        for workload in estate:
            for provider in workload.uses:
                if provider == workload.name or workload.name in reach[provider]:
                    continue
                self.assertLessEqual(at[provider], at[workload.name])
                self.assertEqual((workload.name, provider) in waits, at[provider] == at[workload.name])


class Changes(unittest.TestCase):
    """What a plan lacks, piece by piece."""

    def test_a_move_and_a_dependency(self) -> None:
        estate = {w.name: w for w in (machine("db"), machine("app", "db"), machine("web", "app"))}
        plan = worlds.plan((Member(workload="app"),), (Member(workload="db"), Member(workload="web")))
        found = suggest_changes(plan, estate)
        self.assertEqual(
            [(piece.kind, piece.workload, piece.wave, piece.on) for piece in found],
            [("wave", "app", 1, ""), ("dependency", "app", 0, "db")],
        )
        self.assertIn("which comes up in wave II", found[0].reason)

    def test_nothing_where_all_is_in_order(self) -> None:
        estate = {w.name: w for w in (machine("db"), machine("app", "db"))}
        plan = worlds.plan((Member(workload="db"),), (Member(workload="app"),))
        self.assertEqual(suggest_changes(plan, estate), ())
        plan = worlds.plan((Member(workload="db"), Member(workload="app", depends_on=("db",))))
        self.assertEqual(suggest_changes(plan, estate), ())
