"""Front doors at practice sites: they move with their workloads, come back, and of a test nothing is left."""

from __future__ import annotations

from dataclasses import replace
from ipaddress import ip_network

from maestoso.core.landing.actual import outcomes
from maestoso.core.landing.ground import Ground
from maestoso.core.model.crosswalk import DoorRow
from maestoso.core.model.cue import Cue, Doors, Probe
from maestoso.core.model.estate import FrontDoor
from maestoso.core.planning.turned import turned
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.door_rules import moves
from maestoso.core.runs.operations import OperationState
from maestoso.practice import doors
from maestoso.practice.spec import Fault
from maestoso.practice.world import World
from maestoso.sites.contract import Submission
from tests import worlds
from tests.practice.test_failover import Sites

HOME, AWAY, TRIED = "203.0.113.10", "198.51.100.10", "198.51.100.90"
PORT = "tcp/1014"
DOOR = FrontDoor(name="shop-front", address=HOME, ports=(PORT,), workload="web")
OPENS = Cue(id="d", title="The front opens", at="after", doors=Doors(doors=("shop-front",)))
ASKS = Cue(id="p", title="From outside", at="after", probe=Probe(door="shop-front", port=1014))
ROW = DoorRow(source="shop-front", live=AWAY, test=TRIED)


def to(world: World, address: str, source: str = "") -> str:
    """The machine that somebody from outside comes to; empty for none, or one without power."""
    found = doors.behind(world, address, PORT, source)
    return found.name if found is not None and found.powered else ""


class Fronts(Sites):
    def setUp(self) -> None:
        super().setUp()
        self.a.inventory = replace(self.a.inventory, front_doors=(DOOR,))

    def context(self, row: DoorRow = ROW) -> Context:
        """The small plan, which opens its front at B and asks through it."""
        ground = worlds.ground()
        ground.sites["A"] = replace(ground.sites["A"], front_doors=(DOOR,))
        plan = worlds.plan(cues=(OPENS, ASKS))
        return worlds.context(ground=ground, plan=plan, crosswalk=worlds.crosswalk(front_doors=(row,)))

    def test_it_moves_and_is_the_sites_own_when_the_move_is_committed(self) -> None:
        self.assertEqual(to(self.a, HOME), "web")
        state = self.run_through(worlds.live_inputs("planned", self.context()))
        self.assertEqual(state.outcome, "committed")
        self.assertEqual((to(self.a, HOME), to(self.b, AWAY)), ("", "web"))
        self.assertEqual(self.a.inventory.front_doors, ())
        self.assertEqual(self.b.inventory.front_doors, (replace(DOOR, address=AWAY),))
        order = [event.data["step"] for event in self.log if event.kind == "step.done"]
        self.assertLess(
            order.index("withdraw-address:run"), min(order.index(f"shut-down:{one}") for one in worlds.NAMES)
        )
        self.assertLess(order.index("doors:d"), order.index("probe:p"))
        read = state.steps["read-adapters:run"].result
        (door,) = [
            one
            for one in outcomes(state.inputs.landings, state.inputs.all_opened(), read)
            if "front door" in one.nic
        ]
        self.assertEqual((door.before, door.planned, door.actual, door.differs),
                         (f"{HOME}, {PORT}", f"{AWAY}, {PORT}", f"{AWAY}, {PORT}", ""))  # fmt: skip

    def test_it_comes_home_again(self) -> None:
        ctx = self.context()
        self.run_through(worlds.live_inputs("planned", ctx))
        away = {name: self.b.known[name] for name in worlds.NAMES}
        ground = Ground({
            "A": worlds.source(), "B": worlds.target(workloads=tuple(away.values()), front_doors=self.b.inventory.front_doors),
        })  # fmt: skip
        back = DoorRow(source="shop-front", live=HOME)
        crosswalk = replace(worlds.crosswalk(), source="B", target="A", front_doors=(back,))
        home = replace(ctx, plan=turned(ctx.plan, {}), ground=ground, crosswalk=crosswalk, workloads=away)
        (move,) = moves(home, "live")["d"]
        self.assertEqual((move.before, move.after), (AWAY, HOME))

    def test_rolled_back_it_is_as_it_was(self) -> None:
        state = self.run_through(
            worlds.live_inputs("planned", self.context()), worlds.decide_for("roll-back")
        )
        self.assertEqual(state.outcome, "rolled back")
        self.assertEqual((to(self.a, HOME), to(self.b, AWAY)), ("web", ""))
        self.assertEqual((self.a.inventory.front_doors, self.b.inventory.front_doors), ((DOOR,), ()))
        self.assertEqual(self.b.doors, {})

    def test_the_same_address_moves(self) -> None:
        same = self.context(DoorRow(source="shop-front"))
        self.run_through(worlds.live_inputs("planned", same))
        self.assertEqual((to(self.a, HOME), to(self.b, HOME)), ("", "web"))

    def test_in_a_disaster_it_opens_all_the_same_and_the_old_one_goes_when_its_site_is_back(self) -> None:
        inputs = worlds.live_inputs("disaster", self.context())
        state = self.run_through(inputs, **self.lose_a())
        self.assertEqual((state.outcome, to(self.b, AWAY)), ("committed", "web"))
        self.a.set_dark(False, self.now.timestamp())
        self.a.advance(self.now.timestamp() + 60)
        self.assertEqual(to(self.a, HOME), "web")
        self.ask(self.a, "give-up", "run", {"workloads": list(worlds.NAMES), "doors": ["shop-front"]})
        self.assertEqual((to(self.a, HOME), self.a.inventory.front_doors), ("", ()))

    def test_a_test_opens_one_of_its_own_and_leaves_nothing(self) -> None:
        seen: list[tuple[str, str]] = []

        def look(state: object) -> object:
            seen.append((to(self.b, TRIED), to(self.a, HOME)))
            return worlds.judge(state)  # type: ignore[arg-type]

        state = self.run_through(worlds.inputs(self.context()), look)  # type: ignore[arg-type]
        self.assertEqual(state.outcome, "passed")
        self.assertIn(("web--t1", "web"), seen)
        self.assertEqual((self.b.doors, to(self.b, TRIED), to(self.a, HOME)), ({}, "", "web"))
        self.assertFalse([one for one in self.a.journal if one.verb.endswith("-address")])

    def test_a_test_whose_door_does_not_open_says_so_and_goes_on_without(self) -> None:
        self.b.add_fault(
            Fault(
                verb="publish-address",
                effect="fail",
                code="no-answer",
                reason="The edge is down.",
                times=None,
            ),
            self.b.now,
        )
        state = self.run_through(worlds.inputs(self.context()))
        self.assertEqual(
            (state.steps["doors:d"].status, state.steps["probe:p"].status), ("skipped", "skipped")
        )
        self.assertEqual(self.b.remains("t1"), [])

    def ask(self, world: World, verb: str, subject: str, args: dict[str, object]) -> OperationState:
        """One operation, done or failed."""
        self.runs += 1
        key = f"k{self.runs}"
        world.submit(
            key, Submission(verb=verb, subject=subject, run="x", fence=1, args=args, pace=1.0), world.now
        )
        world.advance(world.now + 600)
        found = world.operation(key)
        assert found is not None
        return found

    def test_what_cannot_be_is_refused_and_opens_nothing(self) -> None:
        self.a.inventory = replace(
            self.a.inventory, door_addresses=(ip_network("203.0.113.0/24"),), front_doors=(DOOR,)
        )
        fine = {"name": "fine", "address": "203.0.113.20", "ports": ["tcp/1"], "machine": "db"}
        for change, code in (
            ({"machine": "nobody"}, "no-such-copy"), ({"address": "x"}, "bad-value"), ({"ports": ["1"]}, "bad-value"), ({"address": "192.0.2.1"}, "address-not-here"),
            ({"address": HOME, "ports": [PORT, "tcp/2"]}, "address-taken"),
        ):  # fmt: skip
            told = {
                "mark": "x",
                "doors": [fine, {**fine, "name": "wrong", "address": "203.0.113.21", **change}],
            }
            self.assertEqual(self.ask(self.a, "publish-address", "d", told).code, code)
            self.assertEqual(self.a.doors, {})
        once = self.ask(self.a, "withdraw-address", "d", {"mark": "", "doors": ["shop-front"]})
        again = self.ask(self.a, "withdraw-address", "d", {"mark": "", "doors": ["shop-front", "nothing"]})
        self.assertEqual((once.status, again.status, to(self.a, HOME)), ("done", "done", ""))
        self.assertEqual(self.a.inventory.front_doors, (DOOR,))
        self.assertEqual(len([one for one in self.a.journal if one.verb == "withdraw-address"]), 1)

    def test_two_of_one_request_do_not_share_an_address(self) -> None:
        one = {"name": "one", "address": "203.0.113.20", "ports": ["tcp/1"], "machine": "db"}
        told = {"mark": "x", "doors": [one, {**one, "name": "two", "ports": ["tcp/2", "tcp/1"]}]}
        self.assertEqual(self.ask(self.a, "publish-address", "d", told).code, "address-taken")
        self.assertEqual(self.a.doors, {})

    def test_isolation_is_not_proved_where_a_door_of_the_test_would_be_one_of_production(self) -> None:
        told = {"mark": "t9", "networks": [], "doors": [HOME]}
        said = self.ask(self.a, "prove-isolation", "networks", told)
        self.assertEqual((said.status, said.code), ("failed", "not-isolated"))
        self.assertIn(f"would open at {HOME}, which is shop-front of production", said.reason)
        self.ask(self.a, "withdraw-address", "run", {"mark": "", "doors": ["shop-front"]})
        self.assertEqual(self.ask(self.a, "prove-isolation", "networks", told).code, "not-isolated")
        self.assertEqual(
            self.ask(self.a, "prove-isolation", "networks", {**told, "doors": [TRIED]}).status, "done"
        )

    def test_what_one_run_opened_another_does_not_close(self) -> None:
        told = {"name": "shop-front", "address": AWAY, "ports": [PORT], "machine": "web"}
        self.ask(self.a, "publish-address", "d", {"mark": "t1", "doors": [told]})
        self.ask(self.a, "withdraw-address", "d", {"mark": "t2", "doors": ["shop-front"]})
        self.assertEqual((to(self.a, HOME), to(self.a, AWAY)), ("web", "web"))
        self.ask(self.a, "withdraw-address", "d", {"mark": "t1", "doors": ["shop-front"]})
        self.assertEqual((to(self.a, HOME), to(self.a, AWAY)), ("web", ""))

    def test_only_who_comes_from_an_allowed_source_gets_in(self) -> None:
        self.a.inventory = replace(
            self.a.inventory, front_doors=(replace(DOOR, sources=(ip_network("192.0.2.0/24"),)),)
        )
        self.assertEqual((to(self.a, HOME, "192.0.2.7"), to(self.a, HOME, "198.51.100.7")), ("web", ""))
        self.assertEqual(doors.behind(self.a, HOME, "tcp/99"), None)
