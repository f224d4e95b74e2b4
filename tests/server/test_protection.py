"""Groups over the API and on the practice sites: made, changed, paused, pinned, kept, and in trouble."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any, get_args
from unittest.mock import AsyncMock, Mock, patch

from asgiref.sync import async_to_sync
from django.core.cache import cache

from maestoso.core.codec import to_data
from maestoso.core.errors import Refused
from maestoso.core.model.protection import Policy
from maestoso.core.replication.copy_key import fingerprint
from maestoso.core.replication.health import Condition, health
from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.server.estate.agents import ask, pulse
from maestoso.server.estate.drift import drifted
from maestoso.server.estate.models import Site, WorkloadRow
from maestoso.server.estate.snapshot import mark_changed
from maestoso.server.keeper import tasks
from maestoso.server.outbox.services import perform
from maestoso.server.protection import services
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.picture import ORDER
from maestoso.server.protection.services import join_by_rule
from maestoso.server.runs.delivery import RecordedSite
from tests.server.tidewell import Tidewell

POLICY = to_data(Policy(interval_s=5, rpo_s=60))
KEY = "a-made-up-key-for-tests"


def group(key: str = "", **changes: Any) -> dict[str, Any]:
    """A group of a build machine, as a person would send it."""
    made = {
        "code": "works", "name": "Works", "source": "QUA", "target": "HIL", "members": ["rig-03"],
        "policy": {**POLICY, "initial": "seed"}, "tag_rule": "",
    }  # fmt: skip
    return {"group": {**made, **changes}, "key": key}


class ProtectionCase(Tidewell):
    """With shortcuts; what a test makes at the sites is taken away."""

    def setUp(self) -> None:
        super().setUp()
        tasks._told.clear()

    def tearDown(self) -> None:
        for code in ("HIL", "NOR"):
            site = Site.objects.get(code=code)
            ask(site, lambda agent: agent.practise("faults"))
            for state in ask(site, lambda agent: agent.pulse()).groups:
                if state.paused_because:
                    self.browser.send("POST", f"/groups/{state.group}/pause", {})
        super().tearDown()

    def get(self, path: str) -> Any:
        """The body of a reply."""
        cache.clear()
        reply = self.browser.get(f"/api/v1{path}")
        self.assertEqual(reply.status_code, 200, reply.content[:400])
        return reply.json()

    def make(self, **changes: Any) -> Any:
        """Protect something; it is given up at the end of the test."""
        reply = self.browser.send("POST", "/groups", group(**changes))
        if reply.status_code == 201:
            self.addCleanup(self.give_up, reply.json()["group"]["code"], reply.json()["group"]["target"])
        return reply

    def give_up(self, code: str, target: str) -> None:
        """Let the site forget a group, whatever the records say."""
        perform(Site.objects.get(code=target), "unprotect", code, {}, by="a test")

    def line(self, code: str) -> Any:
        """A group on the page of all groups."""
        return next(line for line in self.get("/groups")["groups"] if line["code"] == code)

    def states(self) -> Any:
        """What Hilltop copies now."""
        cache.clear()
        return pulse(Site.objects.get(code="HIL")).copying

    def trouble(self, site: str, **trouble: Any) -> None:
        """Let the copying of a practice site misbehave."""
        ask(Site.objects.get(code=site), lambda agent: agent.practise("troubles", trouble))


class Groups(ProtectionCase):
    """Making and changing."""

    def test_a_new_group_is_copied_by_its_site(self) -> None:
        made = self.make()
        self.assertEqual(made.status_code, 201, made.content)
        state = pulse(Site.objects.get(code="HIL")).copying["works"]
        self.assertEqual(state.digest, GroupRow.objects.get(code="works").core().digest())
        self.assertEqual(made.json()["line"]["stage"], "seeding")

    def test_a_workload_in_two_groups_is_refused_with_both_named(self) -> None:
        body = self.problem(self.make(members=["web-01"]), 409, "refused")
        self.assertIn("Booking services", body["detail"])
        self.assertIn("Works", body["detail"])
        self.assertFalse(GroupRow.objects.filter(code="works").exists())

    def test_bad_groups_name_the_field(self) -> None:
        for changes, field, status in (
            ({"code": "Two Words"}, "body.code", 400),
            ({"name": ""}, "body.name", 400),
            ({"target": "QUA"}, "body.target", 400),
            ({"members": []}, "body.members", 400),
            ({"members": ["reports-01"]}, "body.members", 400),
            ({"policy": {**POLICY, "interval_s": 1}}, "body.policy.interval_s", 400),
            ({"policy": {**POLICY, "initial": "at"}}, "body.policy.initial_at", 400),
            ({"tag_rule": "tier=web AND"}, "filter", 400),
            ({"code": "fleet"}, "body.code", 409),
        ):
            with self.subTest(field):
                reply = self.make(**changes)
                self.assertEqual(reply.status_code, status, reply.content)
                self.assertEqual(reply.json()["field"], field)
        self.problem(self.make(members=["nobody"]), 404, "not-found")
        self.problem(self.make(target="NOPE"), 404, "not-found")

    def test_two_people_do_not_overwrite_each_other(self) -> None:
        self.make()
        first = self.browser.send("PUT", "/groups/works", group(name="One"), **{"If-Match": '"1"'})
        self.assertEqual((first.json()["group"]["name"], first.json()["revision"]), ("One", 2))
        second = self.browser.send("PUT", "/groups/works", group(name="Two"), **{"If-Match": '"1"'})
        self.problem(second, 412, "stale")
        self.problem(
            self.browser.send("PUT", "/groups/works", group(target="NOR"), **{"If-Match": '"2"'}),
            400,
            "bad-value",
        )

    def test_workloads_join_and_leave_by_their_tags(self) -> None:
        made = self.make(members=[], tag_rule="app=works tier=lab -name:build*")
        self.assertEqual(len(made.json()["group"]["members"]), 4)
        self.assertEqual(made.json()["named"], [])
        sent = {"names": ["build-01", "rig-01"], "add": {"tier": "lab2"}}
        self.browser.send("POST", "/workload-tags", sent)
        members = self.get("/groups/works")["group"]["members"]
        self.assertEqual(sorted(members), ["rig-02", "rig-03", "track-dev-01"])

    def test_what_matches_two_rules_joins_neither_and_is_said(self) -> None:
        self.make(members=[], tag_rule="app=works tier=lab")
        self.make(code="apps", name="Apps", members=["mail-01"], tag_rule="name:wiki* OR name:backup*")
        row = GroupRow.objects.get(code="works")
        row.tag_rule = "app=works OR name:scan*"
        row.save()
        other = GroupRow.objects.get(code="apps")
        other.tag_rule = "name:scan*"
        other.save()
        join_by_rule()
        gap = next(gap for gap in self.get("/groups")["gaps"] if gap["workload"] == "scan-01")
        self.assertIn("the rules of Works and Apps both match it", gap["reason"])

    def test_more_members_can_be_added_by_a_filter(self) -> None:
        self.make()
        reply = self.browser.send("POST", "/groups/works/members", {"filter": "name:rig-*"})
        self.assertEqual(sorted(reply.json()["named"]), ["rig-01", "rig-02", "rig-03"])

    def test_protection_ends_with_its_points(self) -> None:
        self.make()
        self.assertEqual(self.browser.send("DELETE", "/groups/works").status_code, 204)
        self.assertNotIn("works", pulse(Site.objects.get(code="HIL")).copying)
        self.problem(self.browser.get("/api/v1/groups/works"), 404, "not-found")

    def test_the_cost_is_said_before_anything_is_saved(self) -> None:
        cost = self.browser.send("POST", "/group-cost", group(members=["mail-01", "scan-01"])).json()
        self.assertTrue(cost["fits"])
        self.assertEqual(cost["copy_bytes"], (860 + 30) * 2**30)
        self.assertGreater(cost["peak_bps"], cost["mean_bps"])
        self.assertGreater(cost["others_bps"], 1e6)
        self.assertGreater(len(cost["points"]), 100)
        thin = self.browser.send("POST", "/group-cost", group(target="NOR", members=["mail-01"])).json()
        self.assertAlmostEqual(thin["room_bps"], 300e6 / 8 * 0.999 * 0.4)
        self.assertFalse(GroupRow.objects.filter(code="works").exists())


class Copies(ProtectionCase):
    """Points, pins, pauses and keys."""

    def test_a_group_shows_its_points_its_burst_and_the_clean_point(self) -> None:
        detail = self.get("/groups/booking-db")
        self.assertGreater(len(detail["points"]), 100)
        hint = next(i for i, point in enumerate(detail["points"]) if point["id"] == detail["hint"])
        self.assertGreaterEqual(detail["points"][hint + 1]["anomaly"], 3)
        self.assertLess(detail["points"][hint]["anomaly"], 3)
        self.assertEqual(self.get("/groups/harbour")["hint"], None)

    def test_a_point_is_pinned_and_let_go(self) -> None:
        points = self.get("/groups/fleet")["points"]
        address = f"/groups/fleet/points/{points[3]['id']}"
        pinned = self.browser.send("PUT", address, {"label": "before the upgrade"}).json()["points"]
        self.assertEqual([p["label"] for p in pinned if p["label"]], ["before the upgrade"])
        let_go = self.browser.send("PUT", address, {"label": ""}).json()["points"]
        self.assertFalse(any(p["label"] for p in let_go))
        self.problem(self.browser.send("PUT", "/groups/fleet/points/nope", {"label": "x"}), 409, "point-gone")

    def test_a_pause_has_a_reason_and_ends(self) -> None:
        reply = self.browser.send("POST", "/groups/signs/pause", {"because": "works on the array"})
        self.assertEqual(reply.json()["paused_because"], "works on the array")
        self.assertEqual(self.line("signs")["health"]["condition"], "paused")
        titles = [action["title"] for action in self.get("/readiness")["actions"]]
        self.assertIn("Quay signs is paused", titles)
        self.browser.send("POST", "/groups/signs/pause", {})
        self.assertEqual(self.line("signs")["health"]["condition"], "healthy")

    def test_what_a_site_refuses_is_said_until_it_takes_it(self) -> None:
        no = Refused("Hilltop could not do it: policy: it keeps too many points.", code="bad-definition")
        with patch.object(services, "perform", side_effect=no):
            self.assertEqual(self.make().status_code, 201)
        found = self.line("works")["health"]
        self.assertEqual(found["condition"], "refused")
        self.assertEqual(
            found["sentence"], "Hilltop could not do it: policy: it keeps too many points. Nothing is copied."
        )
        with patch.object(services, "perform", side_effect=Refused("It is away.", code="site-unreachable")):
            services.send_group_if_there(GroupRow.objects.get(code="works"), by="keeper")
        self.assertEqual(self.line("works")["health"]["condition"], "refused", "nothing else is known since")
        actions = [action["title"] for action in self.get("/readiness")["actions"]]
        self.assertTrue(
            [title for title in actions if title.endswith("is not taken as it is defined")], actions
        )
        services.send_group(GroupRow.objects.get(code="works"), by="keeper")
        self.assertNotEqual(self.line("works")["health"]["condition"], "refused")

    def test_every_condition_has_its_place_among_the_others(self) -> None:
        self.assertEqual(set(ORDER), set(get_args(Condition)))

    def test_a_key_is_asked_for_before_the_first_byte_and_never_shown(self) -> None:
        policy = {**POLICY, "initial": "seed", "encrypted": True}
        problem = self.problem(self.make(policy=policy), 400, "bad-value")
        self.assertEqual(problem["field"], "body.key")
        self.assertFalse(GroupRow.objects.filter(code="works").exists())
        self.problem(self.make(policy=policy, key="short"), 400, "bad-value")
        self.assertEqual(self.make(policy=policy, key=KEY).status_code, 201)
        self.assertEqual(self.states()["works"].encrypted_with, fingerprint("works", KEY))
        detail = self.browser.get("/api/v1/groups/works")
        self.assertTrue(detail.json()["key_stored"])
        self.assertEqual(detail.json()["key_fingerprint"], fingerprint("works", KEY))
        self.assertNotIn(KEY, detail.content.decode())
        self.assertNotIn(KEY, GroupRow.objects.get(code="works").key)
        self.assertFalse(self.line("works")["key_missing"])

    def test_copies_in_clear_become_encrypted_only_with_a_key(self) -> None:
        self.make()
        wanted = group(policy={**POLICY, "initial": "seed", "encrypted": True})
        address = "/groups/works"
        self.problem(self.browser.send("PUT", address, wanted, **{"If-Match": '"1"'}), 400, "bad-value")
        self.assertEqual(self.states()["works"].encrypted_with, "")
        changed = self.browser.send("PUT", address, {**wanted, "key": KEY}, **{"If-Match": '"1"'})
        self.assertEqual(changed.status_code, 200, changed.content)
        self.assertEqual(self.states()["works"].encrypted_with, fingerprint("works", KEY))

    def test_no_other_key_than_that_of_the_copies_is_taken(self) -> None:
        self.make(policy={**POLICY, "initial": "seed", "encrypted": True}, key=KEY)
        GroupRow.objects.filter(code="works").update(key="")
        mark_changed()
        self.assertTrue(self.line("works")["key_missing"])
        refused = self.browser.send("PUT", "/groups/works/key", {"key": "any-other-string-of-that-length"})
        self.assertIn(fingerprint("works", KEY), self.problem(refused, 409, "refused")["detail"])
        self.assertTrue(self.line("works")["key_missing"])
        self.assertEqual(self.browser.send("PUT", "/groups/works/key", {"key": KEY}).status_code, 204)
        self.assertFalse(self.line("works")["key_missing"])

    def test_an_empty_key_is_none_and_storing_one_starts_no_copying(self) -> None:
        self.problem(self.browser.send("PUT", "/groups/booking-db/key", {"key": ""}), 400, "bad-value")
        with patch.object(services, "perform") as asked:
            self.assertEqual(
                self.browser.send("PUT", "/groups/booking-db/key", {"key": KEY}).status_code, 204
            )
        asked.assert_not_called()

    def test_a_site_that_goes_on_saying_something_else_is_not_asked_without_end(self) -> None:
        self.make(policy={**POLICY, "initial": "seed", "encrypted": True}, key=KEY)
        GroupRow.objects.filter(code="works").update(key_fingerprint="0" * 16)
        mark_changed()
        asked: list[str] = []
        clock = Mock(now=Mock(return_value=SystemClock().now()))
        with patch.object(tasks, "send_group", lambda row, by: asked.append(row.code)):
            for seconds in (0, 3, 3, 60):
                clock.now.return_value += timedelta(seconds=seconds)
                tasks.reconcile_groups(Site.objects.get(code="HIL"), clock)
        self.assertEqual(asked, ["works", "works"])

    def test_the_way_back_is_encrypted_with_the_same_key(self) -> None:
        self.make(policy={**POLICY, "initial": "seed", "encrypted": True}, key=KEY)
        site = AsyncMock()
        asked = Operation(key="k", run="r", verb="reverse-copying", subject="works", args={"since": None})
        # Renewing the connection, as an engine must, would end the transaction that this test is in.
        here = patch("maestoso.server.runs.delivery.reachable", side_effect=lambda call: call)
        with here, patch("maestoso.server.runs.delivery.speak_to", lambda *asked: site):
            async_to_sync(RecordedSite("HIL").put_operation)(asked, 1)
        self.assertEqual(site.put_operation.call_args.args[0].args["secrets"], {"key": KEY})
        self.assertNotIn("secrets", asked.args)

    def test_a_site_that_encrypts_nothing_is_said_and_told_again(self) -> None:
        self.make(policy={**POLICY, "initial": "seed", "encrypted": True}, key=KEY)
        row = GroupRow.objects.get(code="works")
        told = self.states()["works"]
        self.assertEqual(told.encrypted_with, row.key_fingerprint)
        clear = replace(told, encrypted_with="")
        self.assertEqual(health(row.core(), clear, SystemClock().now()).condition, "in clear")
        GroupRow.objects.filter(code="works").update(key_fingerprint="0" * 16)
        mark_changed()
        asked: list[str] = []
        with patch.object(tasks, "send_group", lambda row, by: asked.append(row.code)):
            tasks.reconcile_groups(Site.objects.get(code="HIL"), SystemClock())
        self.assertEqual(asked, ["works"])

    def test_a_plan_whose_key_is_missing_is_blocked(self) -> None:
        GroupRow.objects.filter(code="booking-app").update(key="")
        mark_changed()
        self.assertTrue(self.line("booking-app")["key_missing"])
        plan = next(p for p in self.get("/readiness")["plans"] if p["code"] == "BOOK")
        self.assertIn("key-missing", [f["code"] for f in plan["findings"] if f["severity"] == "blocks"])


class Trouble(ProtectionCase):
    """What goes wrong shows where a person would look, in words."""

    def test_a_cut_link_is_said_once_for_all_its_groups(self) -> None:
        self.trouble("HIL", effect="cut", subject="QUA")
        seen = self.get("/groups")
        (cause,) = seen["causes"]
        self.assertEqual(len(cause["groups"]), 7)
        self.assertIn("The link from QUA to HIL is cut: 7 groups are not copied", cause["sentence"])
        self.assertEqual({line["health"]["condition"] for line in seen["groups"][:6]}, {"stalled"})
        links = {(one["one"], one["other"]): one["cut_because"] for one in self.get("/site-line")["links"]}
        self.assertIn("is cut", links["QUA", "HIL"])
        self.assertIsNone(links["HIL", "NOR"])
        actions = [action["title"] for action in self.get("/readiness")["actions"]]
        self.assertEqual(actions.count("Nothing is copied over a link"), 1)

    def test_a_lost_site_is_one_cause(self) -> None:
        address = Site.objects.get(code="HIL").agent_url
        Site.objects.filter(code="HIL").update(agent_url="http://127.0.0.1:9")
        seen = self.get("/groups")
        self.assertEqual([len(cause["groups"]) for cause in seen["causes"]], [7])
        detail = self.get("/groups/fleet")
        self.assertEqual((detail["points"], detail["line"]["health"]["condition"]), ([], "unknown"))
        self.problem(
            self.browser.send("POST", "/groups/fleet/pause", {"because": "x"}), 409, "site-unreachable"
        )
        Site.objects.filter(code="HIL").update(agent_url=address)

    def test_coverage_names_what_protected_workloads_need(self) -> None:
        gaps = self.get("/groups")["gaps"]
        self.assertEqual((gaps[0]["workload"], gaps[0]["needed_by"]), ("mail-01", ["api-01", "pay-relay-01"]))
        action = next(a for a in self.get("/readiness")["actions"] if a["title"].startswith("mail-01"))
        self.assertEqual((action["label"], action["to"]), ("Protect it", "/protection/new?members=mail-01"))


class Away(ProtectionCase):
    """What runs away from home after a commit, and is not copied back yet."""

    def setUp(self) -> None:
        super().setUp()
        row = GroupRow.objects.select_related("source", "target").get(code="booking-db")
        row.source, row.target, row.stage = row.target, row.source, "running committed"
        row.save()
        members = WorkloadRow.objects.filter(membership__group=row)
        members.update(site=row.source)
        mark_changed()

    def test_it_is_in_a_group_and_not_protected(self) -> None:
        seen = self.get("/groups")
        self.assertIn("25 of 39 workloads are protected, in 7 groups.", seen["sentence"])
        reasons = {gap["reason"] for gap in seen["gaps"] if gap["group"] == "booking-db"}
        self.assertEqual(reasons, {"runs there, and nothing copies it"})

    def test_a_plan_that_holds_it_tells_no_age_of_the_rest(self) -> None:
        rows = {row["code"]: row for row in self.get("/readiness")["plans"]}
        self.assertEqual(
            [(rows[code]["at_risk_s"], rows[code]["no_risk_because"]) for code in ("BOOK", "ALL")],
            [(None, "running committed")] * 2,
        )
        self.assertIsNotNone(rows["HARB"]["at_risk_s"])

    def test_nothing_that_cannot_start_is_offered(self) -> None:
        board = self.get("/readiness")
        blocked = {
            row["code"]
            for row in board["plans"]
            if any(k["kind"] == "test" and k["blocking"] for k in row["kinds"])
        }
        self.assertIn("BOOK", blocked)
        offered = [action["to"] for action in board["actions"] if action["label"] == "Start a test"]
        self.assertFalse([to for to in offered for code in blocked if f"/{code}/" in to])
        self.assertEqual(len(offered), len(set(offered)))

    def test_what_of_it_would_not_be_back_has_its_reason(self) -> None:
        lost = {one["site"]: one for one in self.get("/readiness")["if_lost"]}
        self.assertIn("not copied now (Booking data is running committed)", lost["HIL"]["why_not"])

    def test_a_difference_that_the_records_caught_up_with_is_gone_at_once(self) -> None:
        site = Site.objects.get(code="HIL")
        Site.objects.filter(pk=site.pk).update(inventory_mark="another")
        site.refresh_from_db()
        self.assertEqual(drifted(site), 3)
        members = WorkloadRow.objects.filter(membership__group__code="booking-db")
        members.update(site=Site.objects.get(code="QUA"))
        mark_changed()
        self.assertEqual(drifted(site), 0)


class Keeper(ProtectionCase):
    """What the keeper does when nobody looks."""

    def test_a_site_that_was_away_is_told_when_it_is_back(self) -> None:
        address = Site.objects.get(code="HIL").agent_url
        Site.objects.filter(code="HIL").update(agent_url="http://127.0.0.1:9")
        self.assertEqual(self.make().status_code, 201)
        Site.objects.filter(code="HIL").update(agent_url=address)
        self.assertEqual(self.line("works")["health"]["condition"], "waiting")
        tasks.reconcile_groups(Site.objects.get(code="HIL"), SystemClock())
        self.assertIn("works", self.states())

    def test_a_policy_that_is_changed_to_and_fro_is_what_the_site_copies_by_in_the_end(self) -> None:
        self.make()
        for revision, interval in enumerate((600, 900, 600, 900, 600), start=1):
            changed = group(policy={**POLICY, "interval_s": interval})
            reply = self.browser.send("PUT", "/groups/works", changed, **{"If-Match": f'"{revision}"'})
            self.assertEqual(reply.status_code, 200, reply.content)
            tasks.reconcile_groups(Site.objects.get(code="HIL"), SystemClock())
            wanted = GroupRow.objects.get(code="works").core().digest()
            self.assertEqual(self.states()["works"].digest, wanted, f"the {revision}. change")

    def test_a_group_moves_on_when_its_first_copy_has_a_point(self) -> None:
        row = GroupRow.objects.get(code="fleet")
        row.stage = "seeding"
        row.save()
        mark_changed()
        tasks.reconcile_groups(Site.objects.get(code="HIL"), SystemClock())
        self.assertEqual(GroupRow.objects.get(code="fleet").stage, "protected")

    def test_an_inventory_is_taken_over_where_that_is_wanted(self) -> None:
        nor = Site.objects.get(code="NOR")
        before = ask(nor, lambda agent: agent.inventory())
        self.addCleanup(lambda: ask(nor, lambda agent: agent.practise("inventory", to_data(before))))
        changed = replace(before, workloads=(replace(before.workloads[0], cores=12), before.workloads[1]))
        ask(nor, lambda agent: agent.practise("inventory", to_data(changed)))
        tasks.take_over(Site.objects.get(code="NOR"), SystemClock())
        self.assertEqual(self.get("/workloads/watch-01")["workload"]["cores"], 2)
        body = {"name": "Northgate", "time_zone": "UTC", "takes_over": True}
        self.assertEqual(self.browser.send("PUT", "/sites/NOR", body).status_code, 200)
        tasks.take_over(Site.objects.get(code="NOR"), SystemClock())
        self.assertEqual(self.get("/workloads/watch-01")["workload"]["cores"], 12)
