"""Findings that are only about runs which move production."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.cue import Cue, Probe
from maestoso.core.model.estate import HostPool
from maestoso.core.model.protection import CopyState
from maestoso.core.planning.inputs import LiveChoices
from maestoso.core.readiness.assess import Options, assess, findings_of
from maestoso.core.readiness.live_rules import live_only, reprotect_findings
from tests import worlds


def codes(kind: str, **changes: object) -> dict[str, str]:
    """Findings about one kind of run, with their severity."""
    found = live_only(worlds.context(**changes), kind, 0)  # type: ignore[arg-type]
    return {finding.code: finding.severity for finding in found}


class ByKind(unittest.TestCase):
    def test_a_silent_source_blocks_a_planned_failover_and_only_warns_of_a_disaster(self) -> None:
        lost = {"A": "No answer."}
        self.assertEqual(codes("planned", lost_sites=lost), {"source-unreachable": "blocks"})
        self.assertEqual(codes("disaster", lost_sites=lost), {"source-unreachable": "warns"})
        self.assertEqual(codes("test", lost_sites=lost), {})

    def test_a_group_of_which_the_plan_leaves_members_out_blocks_live_runs_only(self) -> None:
        mail = worlds.workload("mail", 40)
        wide = replace(worlds.GROUP, members=(*worlds.NAMES, "mail"))
        ctx = worlds.context(workloads={**worlds.WORKLOADS, "mail": mail}, groups=(wide,))
        test = assess(ctx, Options(points={}), "t1", {}, samples=20)
        planned = assess(ctx, Options(points={}, kind="planned"), "p1", {}, samples=20)
        self.assertEqual((test.blocking, [one.code for one in planned.blocking]), ((), ["group-split"]))

    def test_a_decision_window_that_is_too_short_is_said(self) -> None:
        for seconds, said in ((0, []), (60, ["decision-window-short"]), (3600, [])):
            live = LiveChoices(decide_within_s=seconds)
            judged = assess(
                worlds.context(), Options(points={}, kind="planned", live=live), "p1", {}, samples=20
            )
            found = [one.code for one in judged.findings if one.code == "decision-window-short"]
            self.assertEqual(found, said)


class StillSeeding(unittest.TestCase):
    def test_it_blocks_a_planned_failover_warns_of_a_disaster_and_says_what_is_in_its_way(self) -> None:
        state = CopyState(
            group="shop", source="A", digest=worlds.GROUP.digest(), seeded_bytes=1, seed_bytes=9
        )
        for copying, said in (
            ({"shop": state}, "The first copy waits"),
            ({"shop": replace(state, digest="its-own")}, "does not repeat the digest that it was given"),
            ({}, "B has not begun to copy it yet."),
        ):
            ctx = worlds.context(stages={"shop": "seeding"}, copying=copying)
            found = {kind: next(iter(live_only(ctx, kind))) for kind in ("planned", "disaster")}
            self.assertEqual({one.code for one in found.values()}, {"group-seeding"})
            self.assertEqual([one.severity for one in found.values()], ["blocks", "warns"])
            self.assertIn(said, found["planned"].sentence)
            self.assertEqual(list(live_only(ctx, "test")), [])


class VerbsThatAnAgentLacks(unittest.TestCase):
    """What its plans cannot do, and nothing of what they can."""

    def found(self, site: str, *verbs: str, **changes: object) -> list[tuple[str, str]]:
        """Severity in a test and in a live run of each finding."""
        ctx = worlds.context(lacks={site: frozenset(verbs)}, **changes)  # type: ignore[arg-type]
        codes = [one for one in findings_of(ctx) if one.code == "agent-lacks-verbs"]
        return [(one.severity, one.live_severity) for one in codes]

    def test_each_counts_where_it_is_needed(self) -> None:
        self.assertEqual(self.found("B", "clone-point"), [("blocks", "none")])
        self.assertEqual(self.found("B", "promote", "adopt"), [("note", "blocks")])
        self.assertEqual(self.found("B", "power-on"), [("blocks", "blocks")])
        self.assertEqual(self.found("A", "fence"), [("note", "blocks")])
        self.assertEqual(self.found("A", "clone-point", "promote"), [])
        self.assertEqual(self.found("B", "probe", "run-script", "wake-host"), [])
        self.assertEqual(self.found("B"), [])

    def test_what_a_cue_needs_counts_where_there_is_one(self) -> None:
        cue = Cue(id="x", title="X", at="after", probe=Probe(protocol="tcp", port=80, address="192.0.2.1"))
        plan = worlds.plan(cues=(cue,))
        self.assertEqual(self.found("B", "probe", plan=plan), [("blocks", "blocks")])


class OnItsWay(unittest.TestCase):
    def test_a_group_that_is_not_protected_says_what_to_do_first(self) -> None:
        for stage, mend in (
            ("failing over", "abort it"),
            ("running uncommitted", "Commit that run"),
            ("running committed", "Re-protect it first."),
            ("re-protecting", "Wait until"),
        ):
            found = [f for f in findings_of(worlds.context(stages={"shop": stage})) if f.subject == "shop"]
            self.assertEqual([(f.code, f.severity) for f in found], [("group-not-protected", "blocks")])
            self.assertIn(mend, found[0].mend)

    def test_two_live_copies_block_everything(self) -> None:
        found = [f for f in findings_of(worlds.context(split={"db": "A"})) if f.severity == "blocks"]
        self.assertEqual([(f.code, f.subject, f.severity) for f in found], [("split-brain", "db", "blocks")])

    def test_only_what_was_committed_can_be_protected_again(self) -> None:
        self.assertEqual(reprotect_findings(worlds.context())[0].code, "nothing-to-reprotect")
        ready = worlds.context(stages={"shop": "running committed"})
        self.assertEqual(reprotect_findings(ready), ())
        lost = replace(ready, lost_sites={"B": "No answer."})
        self.assertEqual([f.code for f in reprotect_findings(lost)], ["site-unreachable"])


class Waking(unittest.TestCase):
    def test_standby_hosts_are_woken_only_where_they_are_needed(self) -> None:
        for memory_mib, woken in ((131072, ()), (20000, ("b-hosts",))):
            pool = HostPool(name="b-hosts", hosts=2, standby_hosts=1, cores=32, memory_mib=memory_mib)
            inputs = worlds.live_inputs("planned", worlds.context(target=worlds.target(host_pools=(pool,))))
            assert inputs.live is not None
            self.assertEqual(inputs.live.wake, woken)


if __name__ == "__main__":
    unittest.main()
