"""What is said of the names that a plan changes, and what becomes of them in its graph."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, NameRecord, Names
from maestoso.core.model.names import (
    NAME_SERVERS,
    KnownName,
    NameChange,
    RecordType,
    canonical,
    is_name,
    value_in_form,
    zone_of,
)
from maestoso.core.planning.compiled import compile_run
from maestoso.core.planning.failover import DECISION
from maestoso.core.planning.graph import StepGraph
from maestoso.core.planning.inputs import Kind
from maestoso.core.planning.plan_file import from_file, to_file
from maestoso.core.readiness.assess import Options, assess, findings_of
from maestoso.core.readiness.context import Context
from maestoso.core.readiness.name_rules import name_changes, told_before
from tests import worlds

SHOP = "shop.tidewell.example"
ZONES = {"tidewell.example": ""}


def known(
    name: str = SHOP, *values: str, ttl_s: int = 120, kind: RecordType = "A"
) -> dict[tuple[str, RecordType], KnownName]:
    """What a zone said."""
    return {(name, kind): KnownName(name=name, type=kind, values=values, ttl_s=ttl_s)}


def context(*records: NameRecord, **changes: object) -> Context:
    """The small plan, which changes names behind its last wave."""
    more: dict[str, object] = {"zones": ZONES, "known_names": known(SHOP, HOME), **changes}
    cue = Cue(
        id="front",
        title="The front",
        at="after",
        names=Names(records=records or (NameRecord(name=SHOP, workload="web"),)),
    )
    cue = replace(cue, kinds=more.pop("kinds", cue.kinds))  # type: ignore[arg-type]
    return worlds.context(plan=worlds.with_cues(worlds.plan(), len(worlds.plan().waves) - 1, cue), **more)


HOME = str(worlds.WORKLOADS["web"].nics[0].addresses[0].ip)


def codes(ctx: Context) -> dict[str, str]:
    """Findings about names, with their sentences."""
    wanted = ("name-", "zone-", "ttl-", "cue-malformed", "agent-lacks")
    return {one.code: f"{one.sentence} {one.mend}" for one in findings_of(ctx) if one.code.startswith(wanted)}


class Records(unittest.TestCase):
    def test_names_and_values_are_compared_in_one_form(self) -> None:
        self.assertEqual(canonical(" Shop.Tidewell.EXAMPLE. "), SHOP)
        for name, fits in ((SHOP, True), ("_book._tcp.tidewell.example", True), ("shop", False), ("a..b", False),
                           ("-a.example", False), ("a b.example", False), ("x" * 64 + ".example", False),
                           (".".join(["abcdefghi"] * 26), False)):  # fmt: skip
            self.assertEqual(is_name(name), fits, name)
        self.assertEqual(value_in_form("A", " 10.0.0.1"), "10.0.0.1")
        self.assertIsNone(value_in_form("A", "2001:db8::1"))
        self.assertEqual(value_in_form("AAAA", "2001:DB8:0::1"), "2001:db8::1")
        self.assertEqual(value_in_form("SRV", "10  05 443 Shop.Tidewell.example."), f"10 5 443 {SHOP}")
        self.assertIsNone(value_in_form("SRV", f"10 5 {2**16} {SHOP}"))
        self.assertIsNone(value_in_form("CNAME", "10 5"))

    def test_a_name_belongs_to_the_longest_zone_that_it_ends_with(self) -> None:
        zones = ["example", "tidewell.example", "well.example"]
        self.assertEqual(zone_of(SHOP, zones), "tidewell.example")
        self.assertEqual(zone_of("tidewell.example.", zones), "tidewell.example")
        self.assertIsNone(zone_of("shop.test", zones))


class Rules(unittest.TestCase):
    def test_what_is_well_is_not_mentioned(self) -> None:
        self.assertEqual(codes(context()), {})

    def test_a_record_that_no_zone_could_hold_is_said_with_what_would_be_right(self) -> None:
        at = {"A": ("10.0.0.1",), "B": ("10.0.1.1",)}
        for record, said in (
            (NameRecord(name="shop", workload="web"), "'shop' is no name"),
            (NameRecord(name=SHOP), "leads to nothing"),
            (NameRecord(name=SHOP, workload="web", at=at), "leads to a workload and values of its own"),
            (NameRecord(name=SHOP, type="CNAME", workload="web"), "is a CNAME and leads to a workload"),
            (NameRecord(name=SHOP, at={"C": ("10.0.0.1",)}), "Use one of: A, B."),
            (NameRecord(name=SHOP, at={"B": ()}), "has 0 values at B"),
            (NameRecord(name=SHOP, type="CNAME", at={"B": ("a.example", "b.example")}), "Give 1."),
            (NameRecord(name=SHOP, at={"B": ("10.0.0.300",)}), "A wants an IPv4 address"),
            (NameRecord(name=SHOP, workload="web", ttl_s=-1), "Give 0 to 86400."),
        ):
            self.assertIn(said, codes(context(record))["cue-malformed"])
        twice = context(NameRecord(name=SHOP, workload="web"), NameRecord(name=f"{SHOP}.", workload="app"))
        self.assertIn("says A of shop.tidewell.example twice", codes(twice)["cue-malformed"])
        both = context(
            NameRecord(name=SHOP, workload="web"),
            NameRecord(name=SHOP, type="CNAME", at={"B": ("a.example",)}),
        )
        self.assertIn("A CNAME stands alone", codes(both)["cue-malformed"])

    def test_what_is_in_the_way(self) -> None:
        self.assertIn("in no zone that is known here", codes(context(zones={}))["name-without-zone"])
        nowhere = codes(context(NameRecord(name=SHOP, workload="elsewhere")))["name-leads-nowhere"]
        self.assertIn("elsewhere, which this plan does not bring up", nowhere)
        family = codes(context(NameRecord(name=SHOP, type="AAAA", workload="web")))["name-leads-nowhere"]
        self.assertIn("no IPv6 address at B is known", family)
        site = codes(context(NameRecord(name=SHOP, at={"A": (HOME,)})))["name-leads-nowhere"]
        self.assertIn("does not say what shop.tidewell.example leads to at B", site)
        self.assertIn(
            "Settings, Names",
            codes(context(zones={"tidewell.example": "ns1 does not answer."}))["zone-not-read"],
        )

    def test_what_it_leads_to_now_and_for_how_long(self) -> None:
        other = codes(context(known_names=known(SHOP, "192.0.2.1")))["name-leads-elsewhere"]
        self.assertIn(f"leads to 192.0.2.1 now. At A it should be {HOME}.", other)
        at = NameRecord(name=SHOP, type="CNAME", at={"A": ("a.example",), "B": ("b.example",)})
        self.assertEqual(codes(context(at, known_names=known(SHOP, "a.example", kind="CNAME"))), {})
        long = codes(context(known_names=known(SHOP, HOME, ttl_s=7200)))["ttl-long"]
        self.assertIn("for 2 h after it has changed. Lower its TTL to 60 s at least 2 h before", long)

    def test_an_agent_that_cannot_tell_copies_of_names_is_named_only_where_a_test_would_want_it(self) -> None:
        lacks = {"B": frozenset({"name-copies"})}
        self.assertIn("Leave that cue out of tests", codes(context(lacks=lacks))["agent-lacks-verbs"])
        self.assertEqual(codes(context(lacks=lacks, kinds=("planned", "disaster"))), {})


class Changes(unittest.TestCase):
    def graph(self, kind: Kind, ctx: Context | None = None) -> StepGraph:
        """The graph of a run of the plan."""
        judged = assess(ctx or context(), Options(points={}, kind=kind), "x1", {}, samples=20)
        assert judged.inputs is not None
        return compile_run(judged.inputs)

    def test_a_live_run_changes_them_and_rolling_back_puts_them_back(self) -> None:
        ctx = context()
        (change,) = name_changes(ctx, "live")["front"]
        landed = str(ctx.landed["live"].landings[-1].nics[0].addresses[0].ip)
        self.assertEqual((change.before, change.after, change.before_ttl_s), ((HOME,), (landed,), 120))
        self.assertNotEqual(landed, HOME)
        graph = self.graph("planned", ctx)
        step, back, wait = graph["names:front"], graph["names-back:front"], graph["old-answers:front"]
        self.assertEqual((step.verb, step.site), ("publish-names", NAME_SERVERS))
        self.assertEqual(step.args["names"][0]["after"], [landed])
        self.assertEqual((wait.delay_s, wait.needs), (120.0, ("names:front",)))
        self.assertIn("names:front", back.undoes)
        self.assertIn(DECISION, back.after)
        self.assertTrue(any(one.startswith(("up-again", "start-again")) for one in back.after))

    def test_with_nobody_to_wait_for_nobody_is_waited_for(self) -> None:
        ctx = context(known_names={})
        self.assertNotIn("old-answers:front", self.graph("planned", ctx))
        self.assertIsNone(name_changes(ctx, "live")["front"][0].before)

    def test_where_nothing_changes_nobody_is_waited_for(self) -> None:
        landed = name_changes(context(), "live")["front"][0].after[0]
        self.assertNotIn("old-answers:front", self.graph("planned", context(known_names=known(SHOP, landed))))

    def test_the_wait_for_old_answers_is_part_of_what_is_forecast(self) -> None:
        options = Options(points={}, kind="planned")
        with_it = assess(context(), options, "x1", {}, samples=20).forecast
        without = assess(
            context(known_names=known(SHOP, HOME, ttl_s=0)), options, "x1", {}, samples=20
        ).forecast
        assert with_it is not None and without is not None
        self.assertAlmostEqual(with_it.p50_s - without.p50_s, 120, delta=2)

    def test_in_a_test_only_the_copies_hear_of_them(self) -> None:
        graph = self.graph("test")
        step = graph["names:front"]
        self.assertEqual((step.verb, step.site, step.args["mark"]), ("name-copies", "B", "x1"))
        self.assertFalse([one.id for one in graph.steps if one.site == NAME_SERVERS])

    def test_the_sentences_before_a_start(self) -> None:
        ctx = context()
        landed = name_changes(ctx, "live")["front"][0].after[0]
        self.assertEqual(told_before(ctx, "planned"), (
            f"{SHOP} (A) will lead to {landed}, and leads to {HOME} now. Clients may hold the old answer for 2 min.",
        ))  # fmt: skip
        self.assertIn("outside of the sandbox no name changes", told_before(ctx, "test")[0])
        self.assertIn("is not known", told_before(context(known_names={}), "disaster")[0])
        self.assertIn("leads nowhere now", told_before(context(known_names=known(SHOP)), "planned")[0])
        self.assertEqual(told_before(context(kinds=("test",)), "planned"), ())
        many = context(*(NameRecord(name=f"n{at}.tidewell.example", workload="web") for at in range(7)))
        self.assertEqual(
            told_before(many, "planned")[-1], "2 more names change; they stand in the plan's cues."
        )

    def test_what_is_not_known_is_not_turned_back(self) -> None:
        from maestoso.names.zone_server import turned_back

        one = NameChange(
            zone="z.example",
            name=SHOP,
            type="A",
            ttl_s=60,
            after=("10.0.1.1",),
            before=("10.0.0.1",),
            before_ttl_s=300,
        )
        (back,) = turned_back([one, replace(one, before=None)])
        self.assertEqual((back.before, back.after, back.ttl_s), (("10.0.1.1",), ("10.0.0.1",), 300))

    def test_a_plan_file_gives_the_same_cue_back(self) -> None:
        plan = context(
            NameRecord(name=SHOP, type="CNAME", at={"A": ("a.example",), "B": ("b.example",)}, ttl_s=30)
        ).plan
        self.assertEqual(from_file(to_file(plan)), plan)
        self.assertIn("'ttl': 'PT30S'", str(to_file(plan)))


if __name__ == "__main__":
    unittest.main()
