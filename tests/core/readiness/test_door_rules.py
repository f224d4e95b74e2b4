"""What is said of the front doors that a plan moves, and what becomes of them in its graph."""

from __future__ import annotations

import unittest
from dataclasses import replace
from ipaddress import ip_network

from maestoso.core.estate.checks import inventory_complaints
from maestoso.core.landing.crosswalk_checks import check_crosswalk
from maestoso.core.landing.shape import complaints
from maestoso.core.landing.twin import twin
from maestoso.core.model.crosswalk import DoorRow
from maestoso.core.model.cue import Cue, Doors, NameRecord, Names, Probe
from maestoso.core.model.estate import FrontDoor
from maestoso.core.model.names import KnownName
from maestoso.core.planning.compiled import compile_run
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import Kind
from maestoso.core.planning.plan_file import from_file, to_file
from maestoso.core.readiness.assess import Options, assess, findings_of, severity_in
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.door_rules import told_before
from maestoso.core.readiness.name_rules import name_changes
from tests import worlds

HOME, AWAY, TRIED = "203.0.113.10", "198.51.100.10", "198.51.100.90"
DOOR = FrontDoor(name="shop-front", address=HOME, ports=("tcp/443",), workload="web")
CUE = Cue(id="d", title="The front opens", at="after", doors=Doors(doors=("shop-front",)))
SHOP = "shop.tidewell.example"


def context(
    *cues: Cue, doors: tuple[FrontDoor, ...] = (DOOR,), row: DoorRow | None = None, **more: object
) -> Context:
    """The small plan, whose web has a front door that moves to another address."""
    ground = worlds.ground(target_site=more.pop("target", None))  # type: ignore[arg-type]
    ground.sites["A"] = replace(ground.sites["A"], front_doors=doors)
    rows = (row or DoorRow(source="shop-front", live=AWAY, test=TRIED),)
    more.setdefault("crosswalk", worlds.crosswalk(front_doors=rows))
    return worlds.context(ground=ground, plan=worlds.plan(cues=cues or (CUE,)), **more)


def codes(ctx: Context) -> dict[str, str]:
    """Findings about front doors, with their sentences."""
    wanted = ("door-", "cue-", "agent-lacks", "name-")
    return {one.code: f"{one.sentence} {one.mend}" for one in findings_of(ctx) if one.code.startswith(wanted)}


NAMED = Cue(
    id="n", title="The name", at="after", names=Names(records=(NameRecord(name=SHOP, door="shop-front"),))
)


class Rules(unittest.TestCase):
    def test_what_is_well_is_not_mentioned(self) -> None:
        self.assertEqual(codes(context(CUE, NAMED, zones={"tidewell.example": ""})), {})
        self.assertEqual(codes(context(row=DoorRow(source="shop-front"))), {})

    def test_a_door_that_is_left_behind_is_said(self) -> None:
        said = codes(context(Cue(id="t", title="T", doors=None, probe=Probe(workload="web"))))["door-stays"]
        self.assertIn("Clients come to web by shop-front", said)

    def test_what_is_moved_must_be_there_and_lead_to_what_comes_up(self) -> None:
        self.assertIn(
            "which A does not have. Choose one of: none is known", codes(context(doors=()))["door-unknown"]
        )
        elsewhere = replace(DOOR, workload="mail")
        self.assertIn(
            "leads to mail, which this plan does not bring up",
            codes(context(doors=(elsewhere,)))["door-unknown"],
        )
        twice = codes(context(CUE, replace(CUE, id="e", title="Again")))["cue-malformed"]
        self.assertIn("shop-front is opened by The front opens already", twice)
        self.assertIn("Give 1 to 50", codes(context(replace(CUE, doors=Doors(doors=()))))["cue-malformed"])

    def test_where_it_opens_is_known_and_free_before_production_moves(self) -> None:
        ctx = context(crosswalk=worlds.crosswalk())
        self.assertIn("does not say which address shop-front has at B", codes(ctx)["door-without-row"])
        (one,) = [one for one in findings_of(ctx) if one.code == "door-without-row"]
        self.assertEqual((severity_in(one, "test"), severity_in(one, "planned")), ("note", "blocks"))
        there = worlds.target(door_addresses=(ip_network("192.0.2.0/24"),))
        self.assertIn(
            "which B cannot publish. Give it an address of 192.0.2.0/24",
            codes(context(target=there))["door-cannot-open"],
        )
        other = FrontDoor(name="other", address=AWAY, ports=("tcp/80", "tcp/443"), workload="mail")
        self.assertIn(
            "where other leads to mail",
            codes(context(target=worlds.target(front_doors=(other,))))["door-cannot-open"],
        )
        apart = replace(other, ports=("tcp/25",))
        self.assertNotIn("door-cannot-open", codes(context(target=worlds.target(front_doors=(apart,)))))

    def test_two_doors_do_not_open_at_one_address(self) -> None:
        other = replace(DOOR, name="other-front", address="203.0.113.11")
        rows = tuple(DoorRow(source=name, live=AWAY) for name in ("shop-front", "other-front"))
        cue = replace(CUE, doors=Doors(doors=("shop-front", "other-front")))
        said = codes(context(cue, doors=(DOOR, other), crosswalk=worlds.crosswalk(front_doors=rows)))
        self.assertIn(
            f"other-front would open at {AWAY}, where shop-front leads to web", said["door-cannot-open"]
        )

    def test_a_door_of_a_test_is_none_of_production(self) -> None:
        for address in (HOME, AWAY):
            ctx = context(row=DoorRow(source="shop-front", live=AWAY, test=address))
            (one,) = [one for one in findings_of(ctx) if one.code == "door-of-test-is-production"]
            self.assertEqual((severity_in(one, "test"), severity_in(one, "planned")), ("blocks", "none"))

    def test_two_of_one_name_and_an_address_that_no_name_leads_to(self) -> None:
        there = worlds.target(front_doors=(replace(DOOR, address="192.0.2.1"),))
        self.assertIn(
            "A and B both have the front door shop-front", codes(context(target=there))["door-open-twice"]
        )
        self.assertIn(f"moves from {HOME} to {AWAY}, and no name", codes(context())["door-without-name"])

    def test_a_probe_goes_through_a_door_that_the_plan_opens(self) -> None:
        asks = Cue(id="p", title="From outside", at="after", probe=Probe(door="shop-front"))
        self.assertIn("no cue of the plan moves", codes(context(asks))["cue-aims-outside"])
        self.assertNotIn("cue-aims-outside", codes(context(CUE, asks)))
        both = replace(asks, probe=Probe(door="shop-front", workload="web"))
        self.assertIn("more than one thing", codes(context(CUE, both))["cue-malformed"])

    def test_an_agent_that_cannot_is_named_where_production_moves(self) -> None:
        ctx = context(lacks={"B": frozenset({"publish-address"})})
        self.assertIn("The agent of B cannot publish-address", codes(ctx)["agent-lacks-verbs"])
        self.assertNotIn(
            "agent-lacks-verbs", codes(context(NAMED, lacks={"B": frozenset({"publish-address"})}))
        )

    def test_what_could_never_be_is_refused_by_its_field(self) -> None:
        rows = (DoorRow(source="", live="nowhere"), DoorRow(source="x", test="300.1.1.1"))
        fields = [field for field, _, _ in complaints(worlds.crosswalk(front_doors=rows))]
        self.assertEqual(fields, ["front_doors[0].source", "front_doors[0].live", "front_doors[1].test"])
        bad = FrontDoor(name="x", address="nowhere", ports=("443", "tcp/70000"), workload="web")
        said = [sentence for _, sentence, _ in inventory_complaints(worlds.source(front_doors=(bad,)))]
        self.assertEqual(len(said), 3, said)
        empty = replace(DOOR, ports=())
        self.assertIn(
            "has no ports", next(inventory_complaints(worlds.source(front_doors=(empty, empty))))[1]
        )

    def test_the_crosswalk_says_what_is_gone_and_turns_round(self) -> None:
        ctx = context(row=DoorRow(source="gone"))
        assert ctx.crosswalk is not None
        gone = [one.sentence for one in check_crosswalk(ctx.crosswalk, ctx.ground)]
        self.assertIn("The crosswalk names the front door gone, which A does not have.", gone)
        there = twin(context().crosswalk or worlds.crosswalk(), context().ground)
        self.assertEqual(there.crosswalk.front_doors, (DoorRow(source="shop-front", live=HOME),))
        self.assertTrue([one for one in there.one_way if one.row == "front door shop-front in tests"])
        lost = twin(context(doors=()).crosswalk or worlds.crosswalk(), context(doors=()).ground)
        self.assertEqual(lost.crosswalk.front_doors, ())


class Moves(unittest.TestCase):
    def graph(self, kind: Kind, ctx: Context | None = None) -> StepGraph:
        """The graph of a run of the plan."""
        judged = assess(ctx or context(), Options(points={}, kind=kind), "x1", {}, samples=20)
        assert judged.inputs is not None, judged.findings
        return compile_run(judged.inputs)

    def test_it_closes_before_anything_is_shut_down_and_opens_when_its_workload_is_up(self) -> None:
        graph = self.graph("planned")
        shut, opens = graph["withdraw-address:run"], graph["doors:d"]
        self.assertEqual((shut.site, shut.args), ("A", {"mark": "", "doors": ["shop-front"]}))
        self.assertIn("withdraw-address:run", graph["close-wave:3"].after)
        self.assertEqual((opens.verb, opens.site), ("publish-address", "B"))
        self.assertIn("power-on:web", opens.after)
        self.assertEqual(opens.args["doors"], [
            {"name": "shop-front", "address": AWAY, "ports": ["tcp/443"], "sources": [], "machine": "web"},
        ])  # fmt: skip
        back = graph["doors-back"]
        self.assertEqual((back.site, back.args["mark"], back.args["doors"][0]["address"]), ("A", "", HOME))
        self.assertIn("doors-closed:d", back.after)
        self.assertIn("doors-closed:d", graph["leak-check"].after)

    def test_a_disaster_closes_only_what_answers(self) -> None:
        shut = self.graph("disaster")["withdraw-address:run"]
        self.assertEqual((shut.needs, shut.on_failure), (("ask-site:source",), "go-on"))
        self.assertGreater(shut.limit_s, 0)

    def test_a_test_opens_what_has_an_address_for_tests_and_nothing_else(self) -> None:
        graph = self.graph("test")
        self.assertEqual(graph["doors:d"].args["doors"][0]["machine"], "web--x1")
        for proof in ("prove-isolation:networks", "prove-isolation:copies"):
            self.assertEqual(graph[proof].args["doors"], [TRIED], "it is proved before any copy has power")
        self.assertEqual(
            (graph["doors:d"].args["mark"], graph["doors:d"].args["doors"][0]["address"]), ("x1", TRIED)
        )
        self.assertFalse([one.id for one in graph.steps if one.site == "A"])
        self.assertIn("doors-closed:d", graph["leak-check"].after)
        behind = Cue(id="b", title="Behind", at="after", probe=Probe(door="shop-front", port=1014))
        ctx = context(CUE, behind, row=DoorRow(source="shop-front", live=AWAY))
        shut = self.graph("test", ctx)
        self.assertNotIn("doors:d", shut)
        self.assertNotIn("doors", shut["prove-isolation:copies"].args)
        self.assertEqual((shut["probe:b"].subject, "outside" in shut["probe:b"].args), ("web--x1", False))

    def test_a_probe_goes_through_it_from_outside(self) -> None:
        asks = Cue(id="p", title="From outside", at="after", probe=Probe(door="shop-front"))
        step = self.graph("planned", context(CUE, asks))["probe:p"]
        self.assertEqual((step.args["address"], step.args["outside"], step.needs), (AWAY, True, ("doors:d",)))

    def test_a_name_leads_to_the_door_and_in_a_test_to_the_copy_behind_it(self) -> None:
        known = {(SHOP, "A"): KnownName(name=SHOP, type="A", values=(HOME,), ttl_s=60)}
        ctx = context(CUE, NAMED, zones={"tidewell.example": ""}, known_names=known)
        (live,) = name_changes(ctx, "live")["n"]
        self.assertEqual((live.before, live.after), ((HOME,), (AWAY,)))
        landed = str(ctx.landed["test"].landings[-1].nics[0].addresses[0].ip)
        self.assertEqual(name_changes(ctx, "test")["n"][0].after, (landed,))
        self.assertEqual(codes(ctx), {})
        other = {(SHOP, "A"): KnownName(name=SHOP, type="A", values=("192.0.2.7",), ttl_s=60)}
        elsewhere = codes(context(CUE, NAMED, zones={"tidewell.example": ""}, known_names=other))
        self.assertIn(f"At A it should be {HOME}", elsewhere["name-leads-elsewhere"])
        six = replace(NAMED, names=Names(records=(NameRecord(name=SHOP, type="AAAA", door="shop-front"),)))
        nowhere = codes(context(CUE, six, zones={"tidewell.example": ""}))["name-leads-nowhere"]
        self.assertIn(
            "leads shop.tidewell.example to shop-front, of which no IPv6 address at B is known", nowhere
        )
        two = replace(NAMED, names=Names(records=(NameRecord(name=SHOP, workload="web", door="shop-front"),)))
        self.assertIn("a workload and a front door", codes(context(CUE, two))["cue-malformed"])

    def test_the_sentences_before_a_start(self) -> None:
        self.assertEqual(told_before(context(), "planned", "A", "B"), (
            f"shop-front (tcp/443) opens at {AWAY} at B and leads to web there; {HOME} at A closes before "
            "anything is shut down.",
        ))  # fmt: skip
        same = context(row=DoorRow(source="shop-front"))
        self.assertIn("at A the same address closes", told_before(same, "disaster", "A", "B")[0])
        self.assertIn(
            f"opens at {TRIED} at B for the copy of web; at A it stays",
            told_before(context(), "test", "A", "B")[0],
        )
        self.assertEqual(told_before(same, "test", "A", "B"), ())

    def test_a_plan_file_keeps_them(self) -> None:
        asks = Cue(id="p", title="From outside", at="after", probe=Probe(door="shop-front"))
        plan = worlds.plan(cues=(CUE, NAMED, asks))
        said = to_file(plan)
        self.assertEqual(said["cues"][0]["doors"], ["shop-front"])
        self.assertEqual(from_file(said), plan)
