"""Findings that are only about runs which move production."""

from __future__ import annotations

import unittest
from dataclasses import replace

from maestoso.core.model.estate import HostPool
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
