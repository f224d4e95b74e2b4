"""Crosswalks, landings and held landings over the API."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from importlib import import_module
from typing import Any
from unittest import mock

from django.apps import apps
from django.core.cache import cache

from maestoso.core.codec import to_data
from maestoso.core.errors import Refused
from maestoso.engine.clock import SystemClock
from maestoso.server.crosswalks import held
from maestoso.server.crosswalks.models import CrosswalkRow, HeldRow
from maestoso.server.estate.models import Site
from maestoso.server.estate.services import store_inventory
from maestoso.server.outbox.services import perform
from maestoso.server.protection.models import GroupRow
from maestoso.server.protection.services import end_protection
from tests.server.tidewell import Tidewell

WAY = "/crosswalks/QUA/HIL"


class Crosswalks(Tidewell):
    """What one can do with the crosswalk of the demo, and what is refused."""

    def detail(self, way: str = WAY) -> dict[str, Any]:
        found: dict[str, Any] = self.browser.get(f"/api/v1{way}").json()
        return found

    def landings(self, crosswalk: dict[str, Any], **asked: Any) -> dict[str, Any]:
        reply = self.browser.send("POST", "/crosswalks/landings", {"crosswalk": crosswalk, **asked})
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        found: dict[str, Any] = reply.json()
        return found

    def test_every_direction_is_listed_those_with_a_crosswalk_first(self) -> None:
        lines = self.browser.get("/api/v1/crosswalks").json()
        self.assertEqual(len(lines), 6)
        made = [(one["source"], one["target"]) for one in lines if one["revision"]]
        self.assertEqual(set(made), {("QUA", "HIL"), ("HIL", "QUA"), ("HIL", "NOR")})
        self.assertTrue(all(one["revision"] for one in lines[:3]))
        first = next(one for one in lines if (one["source"], one["target"]) == ("QUA", "HIL"))
        self.assertEqual(first["plans"], ["HARB", "BOOK", "FLEET", "ALL"])
        self.assertTrue(first["has_twin"])

    def test_a_save_is_based_on_what_was_seen(self) -> None:
        before = self.detail()
        changed = {**before["crosswalk"], "new_macs": False}
        saved = self.browser.send("PUT", WAY, changed, **{"If-Match": '"1"'})
        self.assertEqual((saved.status_code, saved.headers["ETag"]), (200, '"2"'))
        self.assertEqual(
            (self.detail()["crosswalk"]["new_macs"], self.detail()["changed_by"]), (False, "ann")
        )
        late = self.browser.send("PUT", WAY, before["crosswalk"], **{"If-Match": '"1"'})
        self.assertIn("ann changed", self.problem(late, 412, "stale")["detail"])
        self.assertFalse(self.detail()["crosswalk"]["new_macs"])
        self.problem(self.browser.send("PUT", WAY, changed), 400, "bad-value")
        turned = {**changed, "source": "HIL", "target": "QUA"}
        self.problem(self.browser.send("PUT", WAY, turned, **{"If-Match": '"2"'}), 400, "bad-value")

    def test_a_crosswalk_is_made_once_and_retired_when_no_plan_needs_it(self) -> None:
        empty = self.detail("/crosswalks/QUA/NOR")
        self.assertEqual((empty["revision"], empty["crosswalk"]["networks"]), (0, []))
        made = self.browser.send("POST", "/crosswalks", empty["crosswalk"])
        self.assertEqual(made.status_code, 201)
        again = self.browser.send("POST", "/crosswalks", empty["crosswalk"])
        self.assertIn("already", self.problem(again, 409, "exists")["detail"])
        self.assertEqual(self.browser.send("DELETE", "/crosswalks/QUA/NOR").status_code, 204)
        self.problem(self.browser.send("DELETE", "/crosswalks/QUA/NOR"), 404, "not-found")
        used = self.browser.send("DELETE", WAY)
        self.assertIn("HARB, BOOK", self.problem(used, 409, "in-use")["detail"])
        self.problem(self.browser.get("/api/v1/crosswalks/QUA/QUA"), 404, "not-found")
        self.problem(self.browser.get("/api/v1/crosswalks/QUA/XYZ"), 404, "not-found")

    def test_what_could_never_be_is_refused_by_field(self) -> None:
        good = self.detail()["crosswalk"]
        rule = good["address_rules"][0]
        entry = good["table"][0]
        cases = [
            ({"address_rules": [{**rule, "prefix": "10.20.0.1/24"}]}, "body.address_rules[0].prefix"),
            (
                {"address_rules": [{**rule, "live": {**rule["live"], "gateway": "north"}}]},
                "body.address_rules[0].live.gateway",
            ),
            (
                {"address_rules": [{**rule, "test": {**rule["test"], "dns": ["x"]}}]},
                "body.address_rules[0].test.dns",
            ),
            (
                {"address_rules": [{**rule, "live": {**rule["live"], "suffix": "a b"}}]},
                "body.address_rules[0].live.suffix",
            ),
            ({"table": [entry, entry]}, "body.table"),
            ({"table": [{**entry, "mac": "zz"}]}, "body.table[0].mac"),
            ({"exceptions": [{"workload": "web-01", "cores": 0}]}, "body.exceptions[0].cores"),
            ({"exceptions": [{"workload": "web-01", "name": "a b"}]}, "body.exceptions[0].name"),
            ({"folders": [{"source": "x" * 300, "target": "y"}]}, "body.folders[0]"),
        ]
        for changes, field in cases:
            with self.subTest(field):
                reply = self.browser.send("PUT", WAY, {**good, **changes}, **{"If-Match": '"1"'})
                self.assertEqual(self.problem(reply, 400, "bad-value")["field"], field)
        self.assertEqual(CrosswalkRow.objects.get(source__code="QUA", target__code="HIL").revision, 1)
        itself = self.browser.send("POST", "/crosswalks", {"source": "QUA", "target": "QUA"})
        self.assertEqual(self.problem(itself, 400, "bad-value")["field"], "body.target")

    def test_before_and_after_is_computed_for_a_draft(self) -> None:
        draft = self.detail()["crosswalk"]
        seen = self.landings(draft, filter="tag:app=booking")
        rows = {(row["workload"], row["nic"]): row for row in seen["rows"]}
        self.assertEqual(seen["matched"], 9)
        api = rows[("api-01", "nic0")]
        self.assertEqual(api["live"]["addresses"], ["172.18.4.17/24", "2001:db8:18:4::17/64"])
        self.assertEqual((api["test"]["isolated"], api["live"]["decided"]), (True, "10.20.4.0/24"))
        self.assertEqual(rows[("pay-relay-01", "nic1")]["live"]["network"], "hil-mgmt")
        draft["networks"] = [row for row in draft["networks"] if row["source"] != "qua-app"]
        without = self.landings(draft, only_findings=True, limit=3)
        self.assertEqual(len(without["rows"]), 3)
        self.assertIn({"kind": "network", "name": "qua-app", "workloads": 5}, without["unmapped"])
        self.assertEqual(without["placed"], seen["placed"] - 5)
        self.assertEqual(len(self.detail()["crosswalk"]["networks"]), 7)  # nothing was saved

    def test_a_bad_question_about_landings_is_refused(self) -> None:
        draft = self.detail()["crosswalk"]
        for asked, field in (({"limit": 0}, "body.limit"), ({"offset": -1}, "body.offset")):
            reply = self.browser.send("POST", "/crosswalks/landings", {"crosswalk": draft, **asked})
            self.assertEqual(self.problem(reply, 400, "bad-value")["field"], field)
        wrong = self.browser.send("POST", "/crosswalks/landings", {"crosswalk": draft, "filter": "sit:QUA"})
        self.assertEqual(wrong.status_code, 400)

    def test_the_table_is_exported_and_read_back(self) -> None:
        text = self.browser.get(f"/api/v1{WAY}/table.csv").content.decode()
        self.assertIn("phone-01,nic0,both", text)
        read = self.browser.send(
            "POST", f"{WAY}/table.csv", {"text": text + "nobody,nic0,live,,,,,,,\r\n"}
        ).json()
        self.assertEqual(read["entries"], self.detail()["crosswalk"]["table"])
        self.assertEqual([(c["row"], c["column"]) for c in read["complaints"]], [(3, "workload")])
        self.problem(self.browser.send("POST", f"{WAY}/table.csv", {"text": "a,b\n"}), 400, "bad-file")
        lines = list(csv.DictReader(io.StringIO(
            self.browser.get(f"/api/v1{WAY}/landings.csv?filter=tag:app%3Dsigns").content.decode()
        )))  # fmt: skip
        self.assertEqual({line["workload"] for line in lines}, {"timetable-01", "signs-01", "announce-01"})
        self.assertEqual(lines[0]["live_addresses"], "10.20.8.11/24")

    def test_the_rules_can_be_tried(self) -> None:
        body = {"crosswalk": self.detail()["crosswalk"],
                "addresses": ["10.20.4.17", "2001:db8:20:4::17", "192.0.2.1", "10.20.8.9"]}  # fmt: skip
        tried = self.browser.send("POST", "/crosswalks/trial", body).json()["tried"]
        self.assertEqual(
            [(one["rule"], one["live"]) for one in tried],
            [("10.20.4.0/24", "172.18.4.17"), ("2001:db8:20:4::/64", "2001:db8:18:4::17"), ("", ""),
             ("10.20.8.0/24", "10.20.8.9")],
        )  # fmt: skip
        self.problem(
            self.browser.send("POST", "/crosswalks/trial", {**body, "addresses": ["10.1"]}), 400, "bad-value"
        )

    def test_proposals_map_another_site_from_nothing(self) -> None:
        empty = self.detail("/crosswalks/QUA/NOR")["crosswalk"]
        found = self.browser.send("POST", "/crosswalks/proposals", empty).json()["proposals"]
        self.assertEqual(
            {(one["kind"], one["source"], one["target"]) for one in found if one["kind"] != "address rule"},
            {("network", "qua-app", "nor-app"), ("host pool", "qua-hosts", "nor-small"),
             ("storage pool", "qua-fast", "nor-disk"), ("storage pool", "qua-bulk", "nor-disk")}
            | {("folder", one["source"], one["target"]) for one in found if one["kind"] == "folder"},
        )  # fmt: skip
        self.assertTrue(all(one["reason"] and 0.35 <= one["confidence"] <= 1 for one in found))

    def test_the_twin_names_what_cannot_be_turned_round(self) -> None:
        there = self.browser.send("POST", f"{WAY}/twin")
        self.problem(there, 409, "exists")
        back = self.browser.send("POST", "/crosswalks/HIL/NOR/twin")
        self.assertEqual(back.status_code, 201)
        lost = {one["row"] for one in back.json()["one_way"]}
        self.assertEqual(
            lost,
            {"network hil-app to nor-app", "network hil-data to nor-app", "address rule for 172.18.2.0/24"},
        )
        self.assertEqual(self.detail("/crosswalks/NOR/HIL")["crosswalk"]["host_pools"],
                         [{"source": "nor-small", "target": "hil-hosts"}])  # fmt: skip

    def test_a_plan_shows_where_its_members_land(self) -> None:
        seen = self.browser.get("/api/v1/plans/BOOK/landings").json()
        self.assertEqual((seen["workloads"], seen["adapters"]), (11, 12))
        self.problem(self.browser.get("/api/v1/plans/NOPE/landings"), 404, "not-found")

    def test_the_drawer_and_the_plan_say_the_same(self) -> None:
        drawer = self.browser.get("/api/v1/workloads/api-01").json()["lands"]
        rows = self.browser.get("/api/v1/plans/BOOK/landings?filter=api-01").json()["rows"]
        self.assertEqual(drawer["nics"][0]["live"], ", ".join(rows[0]["live"]["addresses"]) + " on hil-app")


class Held(Tidewell):
    """The target is asked to keep room for what is protected."""

    def site(self, code: str = "HIL") -> Site:
        return Site.objects.get(code=code)

    def look(self) -> dict[str, dict[str, Any]]:
        """Let the keeper look after Hilltop, then see what the page says."""
        cache.clear()
        held.reconcile_landings(self.site())
        return {one["workload"]: one for one in self.browser.get("/api/v1/sites/HIL/landings").json()}

    def setUp(self) -> None:
        super().setUp()
        held._seen.clear()

    def test_kept_changed_with_the_crosswalk_and_given_back(self) -> None:
        found = self.look()
        self.assertEqual(len(found), 26)
        self.assertEqual([one for one in found.values() if one["wrong"]], [])
        self.assertEqual({one["source"] for one in found.values()}, {"QUA"})
        self.assertIn("172.18.4.17/24, 2001:db8:18:4::17/64 on hil-app", found["api-01"]["adapters"])
        self.assertNotIn("mail-01", found)  # nobody protects it
        row = CrosswalkRow.objects.get(source__code="QUA", target__code="HIL")
        crosswalk = row.core()
        row.body = {**to_data(crosswalk), "exceptions": [{"workload": "web-01", "cores": 1}]}
        row.revision += 1
        row.save()
        self.look()
        said = HeldRow.objects.get(workload="web-01").said
        self.assertEqual(said["cores"], 1)
        GroupRow.objects.filter(code="signs").update(stage="protected")
        end_protection("signs", by="ann", at=SystemClock().now())
        self.assertNotIn("signs-01", self.look())

    def test_a_landing_that_the_site_lost_is_said_and_held_again(self) -> None:
        self.look()
        perform(self.site(), "release-landings", "landings", {"workloads": ["web-01"]}, by="somebody")
        found = self.look()["web-01"]
        self.assertIn("does not hold it any more", found["wrong"])
        plan = next(p for p in self.browser.get("/api/v1/readiness").json()["plans"] if p["code"] == "BOOK")
        (finding,) = [f for f in plan["findings"] if f["code"] == "held-landing-differs"]
        self.assertEqual((finding["severity"], finding["subject"]), ("warns", "web-01"))
        again = self.browser.send("POST", "/sites/HIL/landings", {"workloads": ["web-01"]})
        self.assertEqual(again.status_code, 200)
        self.assertEqual([one for one in again.json() if one["wrong"]], [])
        unknown = self.browser.send("POST", "/sites/HIL/landings", {"workloads": ["mail-01"]})
        self.problem(unknown, 404, "not-found")

    def test_another_landing_than_expected_is_said_in_words(self) -> None:
        wanted = held.expected(self.site())["web-01"]
        other = {**to_data(wanted), "cores": 99, "folder": "elsewhere"}
        self.look()
        perform(self.site(), "hold-landings", "landings", {"landings": [other]}, by="somebody")
        wrong = self.look()["web-01"]["wrong"]
        self.assertIn("cores 99 in place of 4", wrong)
        self.assertIn("folder elsewhere in place of recovered/booking", wrong)

    def test_what_the_site_refuses_is_said_with_its_reason(self) -> None:
        self.look()
        row = CrosswalkRow.objects.get(source__code="QUA", target__code="HIL")
        same = {"addresses": ["172.18.6.12/24"], "gateways": ["172.18.6.1"]}
        entry = {"workload": "web-01", "nic": "nic0", "live": same}
        row.body = {**row.body, "table": [entry]}
        row.revision += 1
        row.save()
        self.assertIn("172.18.6.12 on hil-web is held for web-02 already", self.look()["web-01"]["wrong"])

    def test_a_site_that_is_away_is_left_alone(self) -> None:
        away = mock.Mock(said=None)
        with mock.patch.object(held, "pulse", return_value=away), mock.patch.object(held, "perform") as asked:
            held.reconcile_landings(self.site())
        asked.assert_not_called()


class WhatAgentsSay(Tidewell):
    """An agent can say anything; what nobody could land by is not taken over."""

    def test_texts_that_are_no_addresses_are_refused_by_name_and_nothing_changes(self) -> None:
        site = Site.objects.get(code="HIL")
        before, good = site.inventory, site.core()
        network = good.networks[0]
        for wrong, words in (
            (replace(good, networks=(replace(network, gateways=("north",)),)), "'north' at hil-core"),
            (replace(good, networks=(replace(network, reservations={"m": "x"}),)), "'x' at hil-core"),
            (
                replace(good, networks=(replace(network, dhcp_ranges=("10.0.0.9",)),)),
                "'10.0.0.9' at hil-core",
            ),
        ):
            with self.subTest(words), self.assertRaises(Refused) as caught:
                store_inventory(site, wrong, "mark", SystemClock())
            self.assertIn(words, caught.exception.sentence)
        self.assertEqual(Site.objects.get(code="HIL").inventory, before)
        self.assertEqual(self.browser.get("/api/v1/readiness").status_code, 200)


class OldInstallations(Tidewell):
    """What was kept under other names is carried over."""

    def test_fixed_addresses_become_entries_of_the_table(self) -> None:
        row = CrosswalkRow.objects.get(source__code="QUA", target__code="HIL")
        expected = row.core()
        body = dict(row.body)
        fixed = {"workload": "phone-01", "nic": "nic0", "live": ["172.18.10.201/24"],
                 "test": ["172.18.10.201/24"], "live_gateway": "172.18.10.1", "test_gateway": "172.18.10.1"}  # fmt: skip
        del body["table"]
        row.body = {**body, "static": [fixed]}
        row.save()
        import_module("maestoso.server.crosswalks.migrations.0003_fixed_addresses_become_table").forward(
            apps, None
        )
        row.refresh_from_db()
        self.assertEqual(row.core(), expected)
