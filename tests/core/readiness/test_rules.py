"""Every finding: the world in which it is there, and that it is not there otherwise."""

from __future__ import annotations

import unittest
from dataclasses import replace
from datetime import timedelta
from ipaddress import ip_interface

from maestoso.core.model.crosswalk import NetworkRow, Readdress
from maestoso.core.model.estate import Disk, HostPool, Nic, Service
from maestoso.core.model.plan import Member
from maestoso.core.model.protection import CopyState
from maestoso.core.readiness.assess import RULES, UNPLANNABLE, Options, assess, findings_of
from maestoso.core.readiness.context import Context, LastTest
from tests import worlds

TESTED = LastTest(ended_at=worlds.NOW - timedelta(days=3), version=1, verdict="passed")


def context(**changes: object) -> Context:
    """A world in which nothing is wrong."""
    return worlds.context(**{"last_test": TESTED, **changes})


def copied(**changes: object) -> Context:
    """A world in which the copying of the shop stands otherwise."""
    usual = CopyState(group="shop", source="A", digest="d", newest=worlds.POINT)
    return context(copying={"shop": replace(usual, **changes)})  # type: ignore[arg-type]


def changed(name: str, **changes: object) -> dict[str, object]:
    """The estate with one workload changed."""
    return {**worlds.WORKLOADS, name: replace(worlds.WORKLOADS[name], **changes)}  # type: ignore[arg-type]


Case = tuple[str, str, Context, str]
ALL = ("db", "queue", "app", "web")


class EachFinding(unittest.TestCase):
    """Code, severity and sentence of each."""

    def test_nothing_is_noticed_where_nothing_is_wrong(self) -> None:
        self.assertEqual(findings_of(context()), ())

    def expect(self, code: str, severity: str, ctx: Context, words: str) -> None:
        found = [finding for finding in findings_of(ctx) if finding.code == code]
        self.assertTrue(found, f"{code} is not among {[f.code for f in findings_of(ctx)]}")
        self.assertEqual(found[0].severity, severity)
        self.assertIn(words, found[0].sentence)
        self.assertTrue(found[0].mend)
        self.assertTrue(found[0].sentence.endswith("."))

    def test_findings_about_the_plan(self) -> None:
        ring = worlds.plan(
            (
                Member(workload="db", depends_on=("app",)),
                Member(workload="queue", depends_on=("db",)),
                Member(workload="app", depends_on=("queue",)),
            )
        )
        cases: list[Case] = [
            ("plan-empty", "blocks", context(plan=worlds.plan(())), "brings nothing up"),
            (
                "plan-empty",
                "blocks",
                context(plan=worlds.plan((Member(workload="db", power_on=False),))),
                "nothing",
            ),
            ("member-twice", "blocks", context(plan=worlds.plan((Member(workload="db"),) * 2)), "2 times"),
            ("workload-unknown", "blocks", context(plan=worlds.plan((Member(workload="ghost"),))), "ghost"),
            (
                "delay-out-of-range",
                "blocks",
                context(plan=worlds.plan((Member(workload="db", delay_s=-1),))),
                "-1 s",
            ),
            (
                "timeout-out-of-range",
                "blocks",
                context(plan=worlds.plan((Member(workload="db", ready_timeout_s=0),))),
                "0 s",
            ),
            ("out-of-range", "blocks", context(plan=worlds.plan(rto_s=0)), "RTO objective is 0"),
            ("out-of-range", "blocks", context(plan=worlds.plan(rpo_s=10**30)), "RPO objective"),
            ("out-of-range", "blocks", context(plan=worlds.plan(name=" ")), "name has 1"),
            ("out-of-range", "blocks", context(plan=worlds.plan(notes="x" * 5000)), "notes has 5000"),
            (
                "cue-malformed",
                "blocks",
                context(plan=worlds.with_hold(worlds.plan(), 0, id="x" * 300)),
                "id of the cue Office confirms has 300",
            ),
            (
                "cue-twice",
                "blocks",
                context(plan=worlds.with_hold(worlds.with_hold(worlds.plan(), 0), 1)),
                "2 cues have the id ask",
            ),
            (
                "dependency-cycle",
                "blocks",
                context(plan=ring),
                "app waits for queue waits for db waits for app",
            ),
            (
                "waits-for-later-wave",
                "blocks",
                context(
                    plan=worlds.plan((Member(workload="db", depends_on=("web",)),), (Member(workload="web"),))
                ),
                "only in wave 2",
            ),
            (
                "dependency-outside",
                "warns",
                context(plan=worlds.plan((Member(workload="db", depends_on=("web",)),))),
                "not in this plan",
            ),
            (
                "dependency-outside",
                "warns",
                context(
                    plan=worlds.plan(
                        (Member(workload="db", depends_on=("web",)), Member(workload="web", power_on=False))
                    )
                ),
                "leaves off",
            ),
            (
                "service-comes-later",
                "warns",
                context(workloads=changed("db", uses=("web-service",))),
                "only in wave 3",
            ),
            (
                "heartbeat-without-agent",
                "blocks",
                context(
                    workloads=changed("db", guest_agent=False),
                    plan=worlds.plan((Member(workload="db", ready="heartbeat"),)),
                ),
                "no guest agent",
            ),
            (
                "checks-without-address",
                "warns",
                context(
                    workloads=changed(
                        "db", nics=(Nic(name="nic0", network="a-net", mac="52:54:00:00:00:01"),)
                    )
                ),
                "no address of it is known",
            ),
            ("never-tested", "warns", context(last_test=None), "never tested"),
            (
                "test-overdue",
                "warns",
                context(last_test=replace(TESTED, ended_at=worlds.NOW - timedelta(days=91))),
                "91 days ago",
            ),
            ("changed-since-test", "note", context(version=2), "version 1; this is version 2"),
        ]
        for code, severity, ctx, words in cases:
            with self.subTest(code=code, words=words):
                self.expect(code, severity, ctx, words)

    def test_room_that_is_there_or_not_known_is_no_finding(self) -> None:
        for ctx in (context(free_mib=1024), context()):
            self.assertFalse({"little-room", "no-room"} & {found.code for found in findings_of(ctx)})

    def test_a_standby_is_missed_only_by_plans_that_count_on_one(self) -> None:
        wanted = replace(context().plan, needs_standby=True)
        for ctx in (context(standbys=0), context(plan=wanted, standbys=1), context(plan=wanted)):
            self.assertNotIn("no-standby", {found.code for found in findings_of(ctx)})

    def test_findings_about_the_copies(self) -> None:
        elsewhere = replace(worlds.GROUP, members=("db", "queue", "app"))
        old = replace(worlds.POINT, at=worlds.NOW - timedelta(seconds=500))
        disks = (Disk(name="tmp", size_gib=1, storage_pool="a-disk", left_out_because="scratch space"),)
        mail = worlds.workload("mail", 40, offers=(Service(name="mail", protocol="tcp", port=25),))
        estate = {**changed("app", uses=("mail",)), "mail": mail}
        counts_on_one = replace(context().plan, needs_standby=True)
        cases: list[Case] = [
            ("member-without-group", "blocks", context(groups=(elsewhere,)), "web is in no group"),
            (
                "member-without-group",
                "blocks",
                context(groups=(replace(worlds.GROUP, source="B", target="A"),)),
                "Shop runs at B now, with db, queue, app, web.",
            ),
            ("group-without-point", "blocks", context(newest={}), "point of Shop"),
            ("lag-over-rpo", "warns", context(newest={"shop": old}), "500 s old"),
            ("replication-paused", "warns", copied(paused_because="works"), "works"),
            (
                "replication-stalled",
                "warns",
                copied(stalled_because="the link is cut"),
                "The link is cut: one group",
            ),
            ("replication-failing", "warns", copied(cycles=20, failed={"timed out": 5}), "25%"),
            (
                "group-refused",
                "warns",
                replace(copied(digest="another"), refused={"shop": "B could not do it: Too many points."}),
                "Too many points. Meanwhile it is copied as it was defined before.",
            ),
            ("members-not-copied-yet", "warns", copied(seed_bytes=9, seeded_bytes=1), "first copy"),
            ("key-missing", "blocks", context(keys_missing=frozenset({"shop"})), "no key is stored"),
            ("inventory-drift", "warns", context(drifted={"B": 3}), "differs from the records in 3 things"),
            ("clock-skew", "warns", context(skew_s={"B": -9.0}), "9 s behind"),
            (
                "agent-too-old",
                "note",
                context(protocols={"A": "1.0", "B": "1.1"}),
                "agent of A speaks protocol 1.0",
            ),
            ("agent-too-old", "blocks", context(protocols={"B": "2.0"}), "agent of B speaks protocol '2.0'"),
            ("agent-too-old", "blocks", context(protocols={"B": "new"}), "'new'"),
            ("disk-left-out", "warns", context(workloads=changed("db", disks=disks)), "scratch space"),
            ("little-room", "warns", context(free_mib=1023), "Only 1023 MiB are free"),
            ("no-room", "blocks", context(free_mib=255), "Only 255 MiB are free"),
            ("no-standby", "warns", context(plan=counts_on_one, standbys=0), "No standby follows"),
            (
                "uses-what-stays-behind",
                "warns",
                context(workloads=estate),
                "app uses mail of mail, which is not protected",
            ),
        ]
        for code, severity, ctx, words in cases:
            with self.subTest(code=code, words=words):
                self.expect(code, severity, ctx, words)

    def test_findings_about_the_landing(self) -> None:
        mute = changed("db", guest_agent=False)
        small = worlds.target(host_pools=(HostPool(name="b-hosts", hosts=1, cores=8, memory_mib=8192),))
        asleep = worlds.target(
            host_pools=(HostPool(name="b-hosts", hosts=2, standby_hosts=1, cores=8, memory_mib=20480),)
        )
        twin = changed("app", nics=worlds.WORKLOADS["db"].nics)
        asks = changed("db", nics=(replace(worlds.WORKLOADS["db"].nics[0], dns=("10.1.0.14",)),))
        rule = worlds.crosswalk().address_rules[0]
        served = replace(rule.test, dns=("10.2.0.14",))
        named = worlds.crosswalk(address_rules=(replace(rule, live=served, test=served),))
        doubled = worlds.crosswalk(address_rules=(rule, rule))
        open_sandbox = worlds.crosswalk(networks=(NetworkRow(source="a-net", live="b-net", sandbox="b-net"),))
        cases: list[Case] = [
            ("crosswalk-missing", "blocks", context(crosswalk=None), "no crosswalk from A to B"),
            ("no-network-row", "blocks", context(crosswalk=worlds.crosswalk(networks=())), "a-net"),
            ("address-clash", "blocks", context(workloads=twin), "10.2.0.11"),
            ("sandbox-not-isolated", "blocks", context(crosswalk=open_sandbox), "not a sandbox"),
            ("injection-without-agent", "blocks", context(workloads=mute), "cannot be set"),
            ("no-room", "blocks", context(target=small), "16 GiB"),
            ("no-room", "warns", context(target=asleep), "10 GiB free"),
            ("site-unreachable", "blocks", context(lost_sites={"B": "No connection."}), "does not answer"),
            ("reverse-missing", "note", context(reverse=None), "could not come home"),
            (
                "held-landing-differs",
                "warns",
                context(held={"db": "B holds nothing for db."}),
                "holds nothing",
            ),
            ("dns-comes-later", "warns", context(workloads=asks, crosswalk=named), "asks web (10.2.0.14)"),
            ("rules-overlap", "blocks", context(crosswalk=doubled), "2 address rules hold 10.1.0.0/24"),
        ]
        for code, severity, ctx, words in cases:
            with self.subTest(code=code, words=words):
                self.expect(code, severity, ctx, words)

    def test_what_is_wrong_only_live_warns_before_a_test(self) -> None:
        old = worlds.workload("old", 11, nics=(replace(worlds.WORKLOADS["db"].nics[0], network="b-net",
                              mac="02:00:00:00:99:99", addresses=(ip_interface("10.2.0.11/24"),)),))  # fmt: skip
        (found,) = findings_of(context(target=worlds.target(workloads=(old,))))
        self.assertEqual((found.code, found.severity), ("address-in-use", "warns"))
        self.assertTrue(found.sentence.startswith("In a live run: db would have 10.2.0.11"))

    def test_rows_that_no_member_lands_by_are_not_its_business(self) -> None:
        rows = (*worlds.crosswalk().networks, NetworkRow(source="a-other", live="b-gone"))
        self.assertEqual(findings_of(context(crosswalk=worlds.crosswalk(networks=rows))), ())

    def using_mail(self, **changes: object) -> list[tuple[str, str]]:
        """What is found where app uses a service that is not in the plan."""
        mail = worlds.workload("mail", 40, offers=(Service(name="mail", protocol="tcp", port=25),))
        ctx = context(workloads={**changed("app", uses=("mail",)), "mail": mail}, **changes)
        return [(finding.code, finding.sentence) for finding in findings_of(ctx)]

    def test_who_is_copied_and_brought_up_by_no_plan_is_not_said_to_be_unprotected(self) -> None:
        for group in (
            replace(worlds.GROUP, members=(*ALL, "mail")),
            replace(worlds.GROUP, code="mail", name="Mail", members=("mail",), target="C"),
        ):
            found = dict(self.using_mail(groups=(worlds.GROUP, group)))
            self.assertIn(
                f"is copied in {group.name} and brought up by no plan", found["uses-what-stays-behind"]
            )

    def test_a_plan_that_relies_on_another_is_told_so(self) -> None:
        ((code, sentence),) = self.using_mail(others={"mail": ("Office",)})
        self.assertEqual(code, "relies-on-another-plan")
        self.assertEqual(sentence, "app uses mail of mail, which this plan does not bring up; Office does.")

    def test_what_runs_where_one_goes_does_not_stay_behind(self) -> None:
        mail = worlds.workload("mail", 40, offers=(Service(name="mail", protocol="tcp", port=25),))
        there = worlds.target(workloads=(mail,))
        ctx = context(workloads={**changed("app", uses=("mail",)), "mail": mail}, target=there)
        here = {name: one for name, one in ctx.workloads.items() if name != "mail"}
        self.assertEqual(findings_of(replace(ctx, ground=worlds.ground(here, there))), ())

    def test_who_has_no_agent_stops_a_run_only_where_something_waits_for_it(self) -> None:
        mute = changed("db", guest_agent=False)
        for member, severity in (
            (Member(workload="db", on_failure="go-on"), "warns"),
            (Member(workload="db", power_on=False), "note"),
            (Member(workload="db", on_failure="stop"), "blocks"),
        ):
            with self.subTest(severity):
                found = findings_of(context(workloads=mute, plan=worlds.plan((member,))))
                said = [one.severity for one in found if one.code == "injection-without-agent"]
                self.assertEqual(said, [severity])

    def test_whose_address_stays_needs_no_agent(self) -> None:
        keep = Readdress(action="keep")
        rule = replace(worlds.crosswalk().address_rules[0], live=keep, test=keep)
        ctx = context(
            workloads=changed("db", guest_agent=False), crosswalk=worlds.crosswalk(address_rules=(rule,))
        )
        self.assertNotIn("injection-without-agent", [one.code for one in findings_of(ctx)])
        judged = assess(ctx, Options(points={}), "t1", {}, samples=2)
        assert judged.graph is not None
        self.assertEqual([s.id for s in judged.graph.steps if s.verb == "set-addresses"], [])


class Together(unittest.TestCase):
    """All rules on one plan."""

    def test_the_worst_comes_first_and_nothing_is_said_twice(self) -> None:
        found = findings_of(context(newest={}, version=2, last_test=TESTED))
        self.assertEqual([finding.severity for finding in found], ["blocks", "note"])
        self.assertEqual(len(found), len(set(found)))

    def test_every_rule_says_in_its_first_line_what_it_is_about(self) -> None:
        for rule in RULES:
            self.assertTrue((rule.__doc__ or "").strip(), rule.__name__)

    def test_a_plan_that_cannot_be_compiled_has_findings_and_no_forecast(self) -> None:
        judged = assess(context(crosswalk=None), Options(points={}), "t1", {})
        self.assertTrue(judged.blocked)
        self.assertIsNone(judged.forecast)
        self.assertIn("crosswalk-missing", UNPLANNABLE)

    def test_a_blocked_plan_that_can_be_compiled_still_has_its_forecast(self) -> None:
        judged = assess(context(lost_sites={"B": "No connection."}), Options(points={}), "t1", {}, samples=20)
        self.assertTrue(judged.blocked)
        self.assertIsNotNone(judged.forecast)

    def test_a_chosen_point_beats_the_newest(self) -> None:
        older = replace(worlds.POINT, id="older")
        chosen = assess(context(), Options(points={"shop": older}), "t1", {}, samples=20)
        newest = assess(context(), Options(points={}), "t1", {}, samples=20)
        assert chosen.inputs and newest.inputs
        self.assertEqual(chosen.inputs.groups[0].point, older)
        self.assertEqual(newest.inputs.groups[0].point, context().newest["shop"])


if __name__ == "__main__":
    unittest.main()
