"""What changed between two versions, and both people's changes in one."""

from __future__ import annotations

import unittest
from collections.abc import Callable
from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from maestoso.core.model.plan import Member, Part, Plan, Wave
from maestoso.core.planning.diff import changes, roman
from maestoso.core.planning.merge import merge
from tests import worlds

BASE = worlds.plan()


def member(plan: Plan, name: str, **values: object) -> Plan:
    """The plan with fields of one member changed."""
    waves = tuple(
        replace(
            wave,
            members=tuple(replace(m, **values) if m.workload == name else m for m in wave.members),  # type: ignore[arg-type]
        )
        for wave in plan.waves
    )
    return replace(plan, waves=waves)


def moved(plan: Plan, name: str, wave: int) -> Plan:
    """The plan with one member in another wave."""
    found = next(m for _, m in plan.members() if m.workload == name)
    waves = [replace(w, members=tuple(m for m in w.members if m.workload != name)) for w in plan.waves]
    waves[wave] = replace(waves[wave], members=(*waves[wave].members, found))
    return replace(plan, waves=tuple(waves))


def without(plan: Plan, name: str) -> Plan:
    """The plan without one member."""
    return replace(
        plan,
        waves=tuple(
            replace(w, members=tuple(m for m in w.members if m.workload != name)) for w in plan.waves
        ),
    )


class Changes(unittest.TestCase):
    """Every change has its sentence."""

    def test_nothing_changed_says_nothing(self) -> None:
        self.assertEqual(changes(BASE, BASE), ())

    def test_each_change_is_said(self) -> None:
        cases: list[tuple[Plan, str]] = [
            (moved(BASE, "app", 2), "app moved from wave II to III"),
            (member(BASE, "app", delay_s=75), "app waits 45 s longer"),
            (member(BASE, "app", delay_s=0), "app waits 30 s less"),
            (member(BASE, "web", depends_on=("queue",)), "web now waits for queue"),
            (member(BASE, "app", depends_on=()), "app no longer waits for db"),
            (member(BASE, "db", ready="heartbeat"), "db is ready by heartbeat instead of checks"),
            (member(BASE, "db", ready_timeout_s=60), "db is given 60 s instead of 600 s"),
            (member(BASE, "db", on_failure="stop"), "when db fails: stop instead of ask"),
            (member(BASE, "web", power_on=False), "web is left off"),
            (without(BASE, "queue"), "queue taken out"),
            (replace(BASE, rto_s=60), "RTO objective changed from 1800 to 60"),
            (replace(BASE, owner="ops"), "owner changed from nothing to ops"),
            (replace(BASE, tags=("tier-1", "shop")), "tags changed from nothing to tier-1, shop"),
            (replace(BASE, waves=BASE.waves[:2]), "1 wave taken out"),
            (worlds.with_hold(BASE, 1), "the cue Office confirms added at wave II"),
            (member(BASE, "web", cores=8), "web gets 8 cores at the target instead of its own size"),
            (member(BASE, "web", force_off=False), "web may take 300 s to shut down and is never forced off"),
            (replace(BASE, parts=(Part(plan="CORE"),)), "CORE is now a part"),
            (
                replace(BASE, waves=(replace(BASE.waves[0], tag_rule="app=shop"), *BASE.waves[1:])),
                "the tag rule of wave I is app=shop instead of none",
            ),
        ]
        for after, said in cases:
            with self.subTest(said):
                self.assertIn(said, changes(BASE, after))

    def test_a_part_that_comes_twice_is_a_change(self) -> None:
        once = replace(BASE, parts=(Part(plan="CORE"),))
        said = changes(once, replace(BASE, parts=(Part(plan="CORE"), Part(plan="CORE"))))
        self.assertEqual(said, ("the parts come in the order CORE, CORE",))

    def test_a_new_member_and_a_renamed_wave(self) -> None:
        first = replace(
            BASE.waves[0],
            name="Stores",
            opens="at-once",
            members=(*BASE.waves[0].members, Member(workload="x")),
        )
        said = changes(BASE, replace(BASE, waves=(first, *BASE.waves[1:])))
        self.assertEqual(
            said,
            (
                "x added to wave I",
                "wave I is called Stores instead of Wave 1",
                "wave I opens at-once instead of ready",
            ),
        )

    def test_wave_numerals(self) -> None:
        self.assertEqual([roman(n) for n in (1, 4, 6, 9, 14, 20)], ["I", "IV", "VI", "IX", "XIV", "XX"])


EDITS: dict[str, Callable[[Plan], Plan]] = {
    "delay db": lambda plan: member(plan, "db", delay_s=15),
    "delay web": lambda plan: member(plan, "web", delay_s=90),
    "move queue": lambda plan: moved(plan, "queue", 1),
    "web left off": lambda plan: member(plan, "web", power_on=False),
    "objective": lambda plan: replace(plan, rto_s=900),
    "name a wave": lambda plan: replace(plan, waves=(replace(plan.waves[0], name="Stores"), *plan.waves[1:])),
    "without app": lambda plan: without(plan, "app"),
    "hold": lambda plan: worlds.with_hold(plan, 2),
    "add a wave": lambda plan: replace(
        plan, waves=(*plan.waves, Wave(name="Late", members=(Member(workload="late"),)))
    ),
}


class Merge(unittest.TestCase):
    """Laws of the three-way merge."""

    @given(st.sampled_from(sorted(EDITS)))
    def test_with_nothing_of_mine_theirs_stays(self, theirs: str) -> None:
        after = EDITS[theirs](BASE)
        self.assertEqual(merge(BASE, BASE, after), after)

    @given(st.sampled_from(sorted(EDITS)))
    def test_with_nothing_of_theirs_mine_stays(self, mine: str) -> None:
        after = EDITS[mine](BASE)
        self.assertEqual(changes(after, merge(BASE, after, BASE)), ())

    @given(st.sampled_from(sorted(EDITS)), st.sampled_from(sorted(EDITS)))
    def test_both_changes_are_in_the_merge(self, mine: str, theirs: str) -> None:
        merged = merge(BASE, EDITS[mine](BASE), EDITS[theirs](BASE))
        wanted = set(changes(BASE, EDITS[mine](BASE))) | set(changes(BASE, EDITS[theirs](BASE)))
        self.assertEqual(set(changes(BASE, merged)), wanted)

    def test_where_both_changed_one_field_mine_stays(self) -> None:
        merged = merge(BASE, member(BASE, "db", delay_s=10), member(BASE, "db", delay_s=99))
        self.assertEqual(merged.waves[0].members[0].delay_s, 10)

    def test_different_fields_of_one_member_both_stay(self) -> None:
        merged = merge(BASE, member(BASE, "db", delay_s=10), member(BASE, "db", on_failure="stop"))
        self.assertEqual(
            (merged.waves[0].members[0].delay_s, merged.waves[0].members[0].on_failure), (10, "stop")
        )

    def test_what_they_took_out_stays_out(self) -> None:
        merged = merge(BASE, member(BASE, "db", delay_s=10), without(BASE, "queue"))
        self.assertNotIn("queue", merged.workloads())

    def test_what_both_added_is_there_once(self) -> None:
        def added(plan: Plan, delay: int) -> Plan:
            first = replace(
                plan.waves[0], members=(*plan.waves[0].members, Member(workload="x", delay_s=delay))
            )
            return replace(plan, waves=(first, *plan.waves[1:]))

        merged = merge(BASE, added(BASE, 5), added(BASE, 7))
        self.assertEqual([m.delay_s for _, m in merged.members() if m.workload == "x"], [5])

    def test_a_wave_that_i_put_in_between_makes_no_other_wave_of_theirs(self) -> None:
        first, *rest = BASE.waves
        between = Wave(name="Between", members=(Member(workload="x"),))
        mine = replace(BASE, waves=(first, between, *rest))
        theirs = replace(BASE, waves=(first, *(replace(wave, opens="at-once") for wave in rest)))
        for merged in (merge(BASE, mine, theirs), merge(BASE, theirs, mine)):
            self.assertEqual([w.name for w in merged.waves], [first.name, "Between", *(w.name for w in rest)])
            self.assertEqual([w.opens for w in merged.waves[2:]], ["at-once"] * len(rest))
            self.assertEqual([w.members for w in merged.waves[2:]], [w.members for w in rest])

    def test_a_wave_that_they_took_out_comes_back_for_what_i_moved_there_only(self) -> None:
        *rest, last = BASE.waves
        gone = replace(
            BASE, waves=(*rest[:-1], replace(rest[-1], members=(*rest[-1].members, *last.members)))
        )
        self.assertEqual(len(merge(BASE, member(BASE, "db", delay_s=10), gone).waves), len(rest))
        moved = replace(last, members=(*last.members, Member(workload="x")))
        back = merge(BASE, replace(BASE, waves=(*rest, moved)), gone)
        self.assertEqual([m.workload for m in back.waves[-1].members], ["x"])

    def test_renamed_and_moved_waves_keep_what_the_other_changed_in_them(self) -> None:
        first, *rest = BASE.waves
        mine = replace(BASE, waves=(*rest, replace(first, name="Renamed")))
        merged = merge(BASE, mine, member(BASE, "db", delay_s=77))
        self.assertEqual([wave.name for wave in merged.waves], [*(w.name for w in rest), "Renamed"])
        self.assertEqual(merged.waves[-1].members[0].delay_s, 77)


if __name__ == "__main__":
    unittest.main()
