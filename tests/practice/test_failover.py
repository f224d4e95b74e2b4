"""Live runs on two practice sites in virtual time, and what their journals say afterwards."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta

from maestoso.core.codec import to_data
from maestoso.core.evidence.report import report
from maestoso.core.landing.ground import Ground
from maestoso.core.landing.twin import twin
from maestoso.core.model.cue import Cue, Hold, NameRecord, Names
from maestoso.core.model.names import KnownName
from maestoso.core.model.plan import Member, Plan
from maestoso.core.planning.inputs import GroupCopy, RunInputs
from maestoso.core.planning.turned import turned
from maestoso.core.runs.events import Draft
from maestoso.core.runs.journal import Effect, broken_promises
from maestoso.core.runs.progress import measures
from maestoso.core.runs.state import RunState, fold
from maestoso.core.runs.watching import outages
from maestoso.core.runs.words import sentence
from maestoso.practice.live import checksum
from maestoso.practice.rehearsal import Person, Rehearsal
from maestoso.practice.spec import Fault
from maestoso.practice.world import World
from maestoso.sites.contract import Submission
from tests import worlds
from tests.typed_verbs import speaks_as_agreed

ALL_ON = set(worlds.NAMES)


def on(world: World) -> set[str]:
    """What has power at a site."""
    copies = {copy.name for copy in world.copies.values() if copy.powered}
    return copies | {copy.name for copy in world.own() if copy.powered}


def never_forced() -> Plan:
    """The plan of the shop, by which no guest that ignores its shutdown loses its power."""
    plan = worlds.plan()
    waves = [replace(w, members=tuple(replace(m, force_off=False) for m in w.members)) for w in plan.waves]
    return replace(plan, waves=tuple(waves))


class Sites(unittest.TestCase):
    """Site A, where the shop is at home, and site B, which holds its copies."""

    def setUp(self) -> None:
        self.a, self.b = worlds.source_world(), worlds.world()
        self.now = worlds.NOW
        self.runs = 0
        self.broken: tuple[str, ...] = ()
        self.addCleanup(lambda: speaks_as_agreed(self, self.a, self.b))

    def lose_a(self) -> dict[str, World]:
        """Site A has no power and does not answer."""
        self.a.set_dark(True, self.now.timestamp())
        return {"B": self.b}

    def run_through(
        self, inputs: RunInputs, person: Person = worlds.decide_for("commit"), **places: World
    ) -> RunState:
        """Play a run to its end, or until it waits for somebody who says nothing."""
        self.runs += 1
        there = places or {"A": self.a, "B": self.b}
        rehearsal = Rehearsal(f"r{self.runs}", inputs, there, self.now, "ann")
        rehearsal.play(person)
        self.log = rehearsal.log
        self.now = rehearsal.now
        self.assertEqual(to_data(fold(self.log).steps), to_data(rehearsal.state.steps))
        self.assertEqual(self.promises(rehearsal.run), self.broken)
        return rehearsal.state

    def promises(self, run: str) -> tuple[str, ...]:
        """What a run broke, by the journals of both sites."""
        effects = [
            Effect(
                site=site, at=entry.at, key=entry.key, verb=entry.verb, subject=entry.subject,
                effect=entry.effect,
            )
            for site, world in (("A", self.a), ("B", self.b))
            for entry in world.journal
        ]  # fmt: skip
        return broken_promises(run, self.log, effects)


class Planned(Sites):
    def test_production_moves_and_nothing_is_lost(self) -> None:
        state = self.run_through(worlds.live_inputs("planned"))
        self.assertEqual(state.outcome, "committed")
        self.assertEqual((on(self.a), on(self.b)), (set(), ALL_ON))
        self.assertEqual({w.name for w in self.b.inventory.workloads}, ALL_ON)
        self.assertEqual(self.a.inventory.workloads, ())
        fences = {e.subject: e.effect["checksum"] for e in self.a.journal if e.verb == "fence"}
        promoted = next(e.effect["checksums"] for e in self.b.journal if e.verb == "promote")
        self.assertEqual(promoted, fences)

    def test_names_lead_there_and_back_when_it_is_rolled_back(self) -> None:
        name = "shop.tidewell.example"
        cue = Cue(
            id="n",
            title="The front",
            at="after",
            names=Names(records=(NameRecord(name=name, workload="web"),)),
        )
        known = {(name, "A"): KnownName(name=name, type="A", values=("10.1.0.14",), ttl_s=300)}
        ctx = worlds.context(plan=worlds.plan(cues=(cue,)), zones={"tidewell.example": ""}, known_names=known)
        state = self.run_through(worlds.live_inputs("planned", ctx), worlds.decide_for("roll-back"))
        self.assertEqual(state.outcome, "rolled back")
        order = [event.data["step"] for event in self.log if event.kind == "step.done"]
        self.assertLess(order.index("names:n"), order.index("old-answers:n"))
        self.assertLess(order.index("decision") if "decision" in order else 0, order.index("names-back:n"))
        self.assertLess(
            max(order.index(f"start-again:{one}") for one in worlds.NAMES), order.index("names-back:n")
        )
        waited = [event.run_s for event in self.log if event.data.get("step") in ("names:n", "old-answers:n")]
        self.assertGreaterEqual(waited[-1] - waited[0], 300)
        said = [sentence(event, state.graph) for event in self.log if event.data.get("step") == "names:n"]
        self.assertEqual(said[0], "The front, asked of the name servers.")
        self.assertIn(f"The front, done. {name} leads to 10.2.0.14, and led to 10.1.0.14.", said)

    def test_a_name_that_never_changed_is_not_put_back(self) -> None:
        cue = Cue(
            id="n",
            title="The front",
            at="after",
            names=Names(records=(NameRecord(name="a.tidewell.example", workload="web"),)),
        )
        ctx = worlds.context(plan=worlds.plan(cues=(cue,)), zones={"tidewell.example": ""})
        inputs = worlds.live_inputs("planned", ctx)

        hold = replace(
            inputs.plan,
            cues=(Cue(id="h", title="Wait", hold=Hold(instruction="Call.", limit_s=5, then="abort")), cue),
        )
        state = self.run_through(
            replace(inputs, plan=hold),
            lambda state: None if "hold:h" in state.persons else worlds.judge(state),
        )
        self.assertEqual(state.outcome, "aborted")
        self.assertEqual((state.steps["names:n"].attempt, state.steps["names-back:n"].attempt), (0, 0))

    def test_the_source_closes_down_in_the_reverse_of_the_boot_order(self) -> None:
        self.run_through(worlds.live_inputs("planned"))
        down = [entry.subject for entry in self.a.journal if entry.verb == "shut-down"]
        self.assertEqual(down[:2], ["web", "app"])
        self.assertEqual(set(down[2:]), {"db", "queue"})

    def test_rolled_back_the_source_is_up_again_and_copied_again(self) -> None:
        state = self.run_through(worlds.live_inputs("planned"), worlds.decide_for("roll-back"))
        self.assertEqual(state.outcome, "rolled back")
        self.assertEqual((on(self.a), on(self.b)), (ALL_ON, set()))
        self.assertEqual(self.b.remains(state.inputs.mark), [])
        ups = [e.subject for e in self.a.journal if e.verb == "power-on"]
        self.assertEqual((set(ups[:2]), ups[2:]), ({"db", "queue"}, ["app", "web"]))
        self.b.advance((self.now + timedelta(minutes=5)).timestamp())
        self.assertGreater(self.b.points("shop")[-1].at, self.now)

    def test_a_window_that_nobody_answers_rolls_back_by_itself(self) -> None:
        inputs = worlds.live_inputs("planned", decide_within_s=120, then="roll-back")
        state = self.run_through(inputs, lambda state: None)
        self.assertEqual((state.outcome, on(self.a)), ("rolled back", ALL_ON))
        waits = next(e for e in self.log if e.kind == "step.waits" and e.data["step"] == "decision")
        given = next(e for e in self.log if e.kind == "decision.given")
        self.assertEqual(round((given.at - waits.at).total_seconds()), 120)
        self.assertEqual(given.by, "engine")

    def test_aborted_anywhere_the_source_comes_back(self) -> None:
        for step in (
            "sync:shop",
            "shut-down:app",
            "fence:db",
            "promote:shop",
            "register:app",
            "power-on:web",
        ):
            with self.subTest(step):
                self.setUp()

                def abort(state: RunState, at: str = step) -> tuple[Draft, float] | None:
                    if at in state.failed and state.aborted_because is None:
                        return Draft(kind="run.aborted", data={"reason": "Enough."}, by="ann"), 5.0
                    return worlds.decide_for("commit")(state)

                verb, subject = step.split(":")
                fault = Fault(verb=verb, subject=subject, effect="fail", times=None)
                place = self.a if verb in ("shut-down", "fence") else self.b
                place.add_fault(fault, place.now)
                state = self.run_through(worlds.live_inputs("planned"), abort)
                self.assertEqual(state.outcome, "aborted")
                self.assertEqual((on(self.a), on(self.b)), (ALL_ON, set()))

    def test_no_target_machine_has_power_before_its_source_is_fenced(self) -> None:
        self.a.add_fault(Fault(verb="shut-down", subject="db", effect="ignored", times=None), self.a.now)
        ctx = worlds.context(plan=never_forced())
        state = self.run_through(worlds.live_inputs("planned", ctx), lambda state: None)
        self.assertEqual(state.steps["shut-down:db"].status, "failed")
        self.assertIn("its power may not be cut", state.steps["shut-down:db"].reason)
        self.assertEqual(on(self.b), set())


class Choices(Sites):
    """What a person may choose beside the plan."""

    def test_a_damaged_copy_comes_from_an_older_point_than_its_group(self) -> None:
        inputs = worlds.live_inputs("disaster", acknowledged=True)
        newest, older = inputs.groups[0].point, self.b.points("shop")[-20]
        assert newest is not None
        copy = replace(inputs.groups[0], apart={"db": older})
        state = self.run_through(replace(inputs, groups=(copy,)), **self.lose_a())
        sums = next(e.effect["checksums"] for e in self.b.journal if e.verb == "promote")
        self.assertEqual(sums["db"], checksum("db", older.at.timestamp()))
        self.assertEqual(sums["app"], checksum("app", newest.at.timestamp()))
        lost = (state.started_at - older.at).total_seconds()
        self.assertEqual(measures(state).rpo_s, {"shop": lost})
        self.assertEqual(report("r1", 1, self.log).groups[0].apart, {"db": older.at})

    def test_a_group_taken_from_another_point_later_takes_all_its_members_along(self) -> None:
        inputs, older = worlds.live_inputs("disaster", acknowledged=True), self.b.points("shop")[-20]
        copy = replace(inputs.groups[0], apart={"db": self.b.points("shop")[-30]})

        def person(state: RunState) -> tuple[Draft, float] | None:
            if "decision" in state.persons and not state.points:
                data = {"group": "shop", "point": to_data(older)}
                return Draft(kind="point.changed", data=data, by="ann"), 30.0
            return worlds.decide_for("commit")(state)

        state = self.run_through(replace(inputs, groups=(copy,)), person, **self.lose_a())
        sums = [e.effect["checksums"] for e in self.b.journal if e.verb == "promote"]
        self.assertEqual(sums[-1]["db"], checksum("db", older.at.timestamp()))
        self.assertEqual(measures(state).rpo_s["shop"], (state.started_at - older.at).total_seconds())

    def test_a_point_that_is_not_held_any_more_is_said(self) -> None:
        inputs = worlds.live_inputs("disaster", acknowledged=True)
        gone = replace(self.b.points("shop")[-1], id="shop@1")
        copy = replace(inputs.groups[0], apart={"db": gone})
        state = self.run_through(replace(inputs, groups=(copy,)), lambda state: None, **self.lose_a())
        self.assertIn("shop@1 of shop is not held here", state.steps["promote:shop"].reason)
        self.assertEqual(on(self.b), set())

    def test_power_is_cut_after_a_while_where_that_was_chosen(self) -> None:
        self.a.add_fault(Fault(verb="shut-down", subject="db", effect="ignored", times=None), self.a.now)
        ctx = worlds.context(plan=never_forced())
        state = self.run_through(worlds.live_inputs("planned", ctx, force_after_s=90))
        self.assertEqual(state.outcome, "committed")
        self.assertTrue(state.steps["shut-down:db"].result["forced"])
        self.assertEqual(state.graph["shut-down:db"].args, {"limit_s": 90.0, "force": True})


class LeftOff(Sites):
    """A member that stays off holds nothing up."""

    def test_neither_its_addresses_nor_its_guest_agent_stop_the_run(self) -> None:
        plan = worlds.plan((Member(workload="db"), Member(workload="queue", power_on=False)))
        group = replace(worlds.GROUP, members=("db", "queue"))
        for agent in (True, False):
            self.setUp()
            estate = {**worlds.WORKLOADS, "queue": replace(worlds.WORKLOADS["queue"], guest_agent=agent)}
            ctx = worlds.context(plan=plan, groups=(group,), workloads=estate)
            self.b.add_fault(
                Fault(verb="set-addresses", subject="queue", effect="fail", times=None), self.b.now
            )
            state = self.run_through(worlds.live_inputs("planned", ctx))
            with self.subTest(agent=agent):
                self.assertEqual(state.outcome, "committed")
                self.assertEqual(state.steps["set-addresses:queue"].status if agent else "skipped", "skipped")


class Clocks(Sites):
    """How long services were away, and what a site never ends."""

    def away(self, state: RunState) -> dict[str, list[tuple[int, bool]]]:
        """Seconds of every outage by service, and whether it is over."""
        found: dict[str, list[tuple[int, bool]]] = {}
        for one in outages(state):
            seconds = round((one.to_s or state.run_s) - one.from_s)
            found.setdefault(one.service, []).append((seconds, one.to_s is not None))
        return found

    def test_a_service_is_away_from_when_it_went_off_until_it_is_up(self) -> None:
        state = self.run_through(worlds.live_inputs("planned"))
        closed, up = state.steps["shut-down:db"], state.steps["await-heartbeat:db"]
        took = round((up.settled_s or 0) - (closed.settled_s or 0))
        self.assertEqual(self.away(state)["db-service"], [(took, True)])
        self.assertEqual(set(measures(state).rpo_s.values()), {0.0})

    def test_rolled_back_it_was_away_twice_and_the_run_waits_until_it_answers(self) -> None:
        mute = replace(worlds.WORKLOADS["queue"], guest_agent=False)
        ctx = worlds.context(workloads={**worlds.WORKLOADS, "queue": mute})
        for inputs in (worlds.live_inputs("planned"), worlds.live_inputs("planned", ctx)):
            found = outages(self.run_through(inputs, worlds.decide_for("roll-back")))
            self.assertEqual({(one.spells, one.to_s is not None) for one in found}, {(2, True)})

    def test_in_a_disaster_it_counts_from_the_declared_moment(self) -> None:
        declared = worlds.NOW - timedelta(minutes=10)
        inputs = worlds.live_inputs("disaster", go_on=True, declared_at=declared)
        state = self.run_through(inputs, **self.lose_a())
        self.assertGreater(min(seconds for times in self.away(state).values() for seconds, _ in times), 600)
        found = measures(state)
        self.assertEqual(found.rto_s, (state.ready_s or 0) + 600)
        self.assertLess(found.rpo_s["shop"], measures(replace_declared(state)).rpo_s["shop"])

    def test_what_a_site_never_ends_is_given_up_and_can_be_tried_again(self) -> None:
        self.b.add_fault(Fault(verb="register", subject="db", effect="hang", times=1), self.b.now)
        state = self.run_through(worlds.live_inputs("planned"))
        self.assertEqual((state.outcome, state.steps["register:db"].attempt), ("committed", 2))
        failed = next(e for e in self.log if e.kind == "step.failed")
        self.assertEqual(failed.data["code"], "overdue")


def replace_declared(state: RunState) -> RunState:
    """The same run, as if nobody had declared when the outage began."""
    live = state.inputs.live
    assert live is not None
    state.inputs = replace(state.inputs, live=replace(live, declared_at=None))
    return state


class Disaster(Sites):
    def test_a_source_that_is_gone_is_waited_for_shortly_and_acknowledged(self) -> None:
        state = self.run_through(worlds.live_inputs("disaster", go_on=True), **self.lose_a())
        self.assertEqual(state.outcome, "committed")
        self.assertEqual(on(self.b), ALL_ON)
        asked = state.steps["ask-site:source"]
        self.assertEqual(round((asked.settled_s or 0) - (asked.asked_s or 0)), 8)
        self.assertEqual(state.steps["fence:db"].status, "skipped")
        self.assertEqual(state.steps["acknowledge"].status, "done")

    def test_a_source_that_answers_is_closed_down_and_there_is_nothing_to_acknowledge(self) -> None:
        state = self.run_through(worlds.live_inputs("disaster", go_on=True))
        self.assertEqual((state.steps["acknowledge"].status, on(self.a)), ("skipped", set()))
        self.assertEqual(state.steps["final-sync:shop"].status, "done")

    def test_another_point_can_be_taken_before_commit(self) -> None:
        older = self.b.points("shop")[-5]
        said = []

        def person(state: RunState) -> tuple[Draft, float] | None:
            if "decision" in state.persons and not said:
                said.append(state.ready_s)
                data = {"group": "shop", "point": to_data(older)}
                return Draft(kind="point.changed", data=data, by="ann"), 30.0
            return worlds.decide_for("commit")(state)

        state = self.run_through(worlds.live_inputs("disaster", go_on=True), person, **self.lose_a())
        self.assertEqual(state.outcome, "committed")
        used = [e.effect["point"] for e in self.b.journal if e.verb == "promote"]
        self.assertEqual(used[1], older.id)
        self.assertEqual(state.steps["power-on:db"].attempt, 2)
        self.assertGreater(state.ready_s or 0, said[0] or 0)
        self.assertEqual(on(self.b), ALL_ON)

    def test_rolled_back_without_a_source_nothing_is_left_at_the_target(self) -> None:
        state = self.run_through(
            worlds.live_inputs("disaster", go_on=True), worlds.decide_for("roll-back"), **self.lose_a()
        )
        self.assertEqual((state.outcome, on(self.b)), ("rolled back", set()))
        self.assertEqual(self.b.remains(state.inputs.mark), [])


class ThereAndBack(Sites):
    def reprotect(self) -> RunState:
        """Copy the differences home."""
        definition = replace(worlds.GROUP, source="B", target="A")
        made = replace(
            worlds.live_inputs("planned"),
            kind="re-protect",
            plan=replace(worlds.plan(), source="B", target="A"),
            workloads=self.b.inventory.workloads,
            groups=(GroupCopy(code="shop", members=worlds.NAMES, point=None, definition=definition),),
            link=self.b.spec.links[0],
            live=None,
        )
        return self.run_through(made)

    def test_only_what_differs_is_copied_home(self) -> None:
        self.run_through(worlds.live_inputs("planned"))
        self.now += timedelta(minutes=30)
        state = self.reprotect()
        self.assertEqual(state.outcome, "protected")
        copying = self.a.replication.copying["shop"]
        whole = sum(w.size_gib for w in worlds.WORKLOADS.values()) * 2**30
        self.assertLess(copying.seed_bytes, whole / 10)
        self.assertGreater(copying.seed_bytes, 1e6)
        self.assertNotIn("shop", self.b.replication.copying)

    def test_an_interrupted_copy_home_goes_on_where_it_was(self) -> None:
        self.run_through(worlds.live_inputs("planned"))
        self.now += timedelta(hours=8)
        begin = self.now.timestamp()
        args = {
            "group": to_data(replace(worlds.GROUP, source="B", target="A")),
            "workloads": to_data(self.b.inventory.workloads),
            "link": to_data(self.b.spec.links[0]),
            "digest": "another-way",
            "changed_bytes": 30_000_000_000,
        }
        submission = Submission(verb="reverse-copying", subject="shop", run="r9", fence=1, args=args)
        self.a.submit("r9:reverse-copying:shop:1", submission, begin)

        def at(seconds: float) -> tuple[float, str]:
            self.a.advance(begin + seconds)
            self.a.care()
            state = self.a.operation("r9:reverse-copying:shop:1")
            assert state is not None
            return self.a.replication.copying["shop"].seeded, state.status

        half, status = at(120)
        self.assertEqual(status, "running")
        (told,) = self.a.under_way()
        self.assertEqual((told.key, told.done_bytes), ("r9:reverse-copying:shop:1", int(half)))
        self.assertGreater(told.rate_bps, 0)
        self.a.set_away("B", "does not answer", begin + 120)
        self.assertEqual(at(600), (half, "running"))
        self.a.set_away("B", "", begin + 600)
        more, status = at(660)
        self.assertGreater(more, half)
        self.assertEqual((status, at(1200)[1]), ("running", "done"))
        self.assertEqual(self.a.under_way(), ())

    def test_home_again_and_protected_as_at_the_start(self) -> None:
        self.run_through(worlds.live_inputs("planned"))
        self.now += timedelta(minutes=30)
        self.reprotect()
        away = Ground({"A": self.a.inventory, "B": self.b.inventory})
        ctx = worlds.context(
            plan=turned(worlds.plan(), {}),
            workloads={w.name: w for w in self.b.inventory.workloads},
            ground=away,
            crosswalk=twin(worlds.crosswalk(), worlds.ground()).crosswalk,
            groups=(replace(worlds.GROUP, source="B", target="A"),),
            newest={"shop": self.a.points("shop")[-1]},
        )
        home = worlds.live_inputs("planned", ctx)
        state = self.run_through(home)
        self.assertEqual(state.outcome, "committed")
        self.assertEqual((on(self.a), on(self.b)), (ALL_ON, set()))
        addresses = {w.name: w.nics[0].addresses for w in self.a.inventory.workloads}
        self.assertEqual(addresses, {n: w.nics[0].addresses for n, w in worlds.WORKLOADS.items()})


if __name__ == "__main__":
    unittest.main()
