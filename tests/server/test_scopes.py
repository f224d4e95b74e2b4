"""Roles for some sites or plans: at every address and method, and in everything that is answered."""

from __future__ import annotations

import io
import json
import re
from typing import Any
from unittest import mock

from django.core.management import call_command

from maestoso.core.people.roles import SEE
from maestoso.core.people.scope import Scope
from maestoso.server.access.may import InTable
from maestoso.server.access.models import RoleGrant
from maestoso.server.access.reach import seen_by_user, seen_in
from maestoso.server.access.scoped import LISTS, OBJECTS, OF_A_PLAN, OF_A_THING, OF_NOBODY
from maestoso.server.access.table import ANYBODY, BY_KIND, OWN, TABLE
from maestoso.server.runs.models import Run
from tests.server.people import make_person
from tests.server.test_drills import DRILL
from tests.server.test_permissions import STREAMS, Reached, operations, path_of
from tests.server.tidewell import PASSWORD, Browser, Tidewell

OWN_VALUES = {"code": "REPT", "name": "ware-01", "source": "HIL", "target": "NOR", "one": "HIL", "other": "NOR",
              "point": "p-1", "key": "abc"}  # fmt: skip
OTHER_VALUES = {
    **OWN_VALUES,
    "code": "BOOK",
    "name": "web-01",
    "source": "QUA",
    "target": "HIL",
    "one": "QUA",
    "other": "HIL",
}


RAW = {"runs/{id}/files", "evidence/verify", "imports", "settings/logo"}
"""Addresses that take files as they are."""


class Scoped(Tidewell):
    """Sam has every right for the plan REPT, which brings two workloads from Hilltop to Northgate."""

    history = True

    def setUp(self) -> None:
        super().setUp()
        self.sam = self.with_scope("sam", "administrator", plans=["REPT"])

    def with_scope(self, name: str, role: str, **scope: list[str]) -> Browser:
        """Somebody with a role for some sites or plans, signed in."""
        make_person(name, PASSWORD, [])
        sent = {"full_name": name, "mail": "", "active": True, "roles": [role], "scopes": {role: scope}}
        reply = self.browser.send("PUT", f"/people/{name}", sent)
        self.assertEqual(reply.status_code, 200, reply.content)
        browser = Browser()
        browser.sign_in(name)
        return browser

    def run_of(self, plan: str) -> int:
        """The number of a past run."""
        return Run.objects.filter(plan_code=plan).order_by("pk").values_list("pk", flat=True)[0]


class Everywhere(Scoped):
    def call(self, address: str, method: str, values: dict[str, str]) -> int:
        """The status of a call; 418 where the view would have been asked."""
        if address.startswith(("sites/", "groups/")):
            code = {"REPT": {"s": "HIL", "g": "reporting"}, "BOOK": {"s": "QUA", "g": "booking-db"}}[
                values["code"]
            ][address[0]]
            values = {**values, "code": code}
        raw, pk = address in RAW, "1"
        if address.startswith("runs/"):
            pk = str(self.run_of(values["code"]))
        for name, value in {**values, "id": pk, "number": "1"}.items():
            address = address.replace("{" + name + "}", value)
        body = {"plan": values["code"]} if (method, address) in OF_A_PLAN else {}
        if (method, address) in OF_A_THING:
            body = {"about": "workload", "name": values["name"]}
        kind = "application/octet-stream" if raw else "application/json"
        return self.sam.generic(
            method, path_of(address), json.dumps(body), content_type=kind,
            headers={"X-CSRFToken": self.sam.token},
        ).status_code  # fmt: skip

    def test_own_and_other_at_every_address_with_every_method(self) -> None:
        allowed = InTable.has_permission

        def asked(table: InTable, request: Any, view: Any) -> bool:
            if allowed(table, request, view):
                raise Reached("It would have been asked.")
            return False

        groups = {row["code"] for row in self.sam.get("/api/v1/groups").json()["groups"]}
        self.assertEqual(len(groups), 1, groups)
        self.enterContext(mock.patch.object(InTable, "has_permission", asked))
        counted = dict.fromkeys(("own", "other", "refused"), 0)
        for address, method in operations():
            needed = TABLE[address][method]
            if needed in (ANYBODY, OWN, BY_KIND) or address.startswith(
                ("drills/{", "approvals/{", "traps/{", "declared/{", "crosswalks/landings")
            ):
                continue
            begins = next((one for one in OBJECTS if f"{address}/".startswith(f"{one}/")), None)
            with self.subTest(f"{method} {address}"):
                own = self.call(address, method, OWN_VALUES)
                if begins is not None or (method, address) in OF_A_PLAN | OF_A_THING:
                    # A site is seen because a plan goes there, and opened by whose role is for it.
                    shared = begins is not None and OBJECTS[begins] in ("site", "way")
                    wanted = (403 if shared else 418, 404)
                    self.assertEqual((own, self.call(address, method, OTHER_VALUES)), wanted)
                    counted["other"] += 1
                elif needed == SEE and address in LISTS | OF_NOBODY:
                    self.assertEqual(own, 418)
                    counted["own"] += 1
                else:
                    self.assertEqual(own, 403)
                    counted["refused"] += 1
        self.assertGreater(min(counted.values()), 15, counted)

    def test_the_table_of_scopes_names_addresses_that_there_are(self) -> None:
        self.assertLessEqual(LISTS | OF_NOBODY, TABLE.keys() | STREAMS)
        self.assertLessEqual({address for _, address in OF_A_PLAN}, TABLE.keys())
        for begins in OBJECTS:
            self.assertTrue(any(f"{one}/".startswith(f"{begins}/") for one in TABLE), begins)
        self.assertFalse(any(TABLE[one].get("GET") == BY_KIND for one in LISTS & TABLE.keys()))


class Answers(Scoped):
    def setUp(self) -> None:
        super().setUp()
        reach = seen_by_user("sam")
        everything = self.browser.get("/api/v1/workloads?limit=500").json()["rows"]
        self.foreign = {row["name"] for row in everything} - reach.workloads
        self.assertGreater(len(self.foreign), 20)
        self.assertEqual(reach.plans, {"REPT"})

    def test_no_answer_names_what_is_out_of_reach(self) -> None:
        plans = ("BOOK", "Booking end to end", "HARB", "Harbour core first", "Fleet and signs", "Quayside")
        looked_at = {one for one in LISTS | OF_NOBODY if TABLE.get(one, {}).get("GET") == SEE} - STREAMS
        self.assertGreater(len(looked_at), 20)
        for address in sorted(looked_at):
            with self.subTest(address):
                reply = self.sam.get(path_of(address))
                self.assertIn(reply.status_code, (200, 404), reply.content[:300])
                said = b"".join(reply) if reply.streaming else reply.content
                named = [
                    name
                    for name in (*self.foreign, *plans)
                    if re.search(rf"\b{re.escape(name)}\b", said.decode("utf-8", "replace"))
                ]
                self.assertEqual(named, [])

    def test_nor_does_what_is_below_an_own_object(self) -> None:
        run = self.run_of("REPT")
        for address in (
            "plans/REPT", "plans/REPT/points", "plans/REPT/landings", "plans/REPT/trend", "plans/REPT/calibration",
            "groups/reporting", "workloads/ware-01", f"runs/{run}", f"runs/{run}/events", f"runs/{run}/landings",
            f"runs/{run}/traps", f"runs/{run}/evidence", f"runs/{run}/report.json",
        ):  # fmt: skip
            with self.subTest(address):
                reply = self.sam.get(path_of(address))
                self.assertEqual(reply.status_code, 200, reply.content[:300])
                said = reply.content.decode()
                named = [name for name in self.foreign if re.search(rf"\b{re.escape(name)}\b", said)]
                self.assertEqual(named, [])

    def test_a_crosswalk_is_for_whose_role_is_for_one_of_its_sites(self) -> None:
        nora = self.with_scope("nora", "planner", sites=["NOR"])
        read = nora.get("/api/v1/crosswalks/HIL/NOR")
        self.assertEqual(read.status_code, 200)
        walk = read.json()["crosswalk"]
        saved = nora.send("PUT", "/crosswalks/HIL/NOR", walk, **{"If-Match": read.headers["ETag"]})
        self.assertEqual(saved.status_code, 200, saved.content)
        asked = {"crosswalk": walk, "offset": 0, "limit": 50}
        seen = nora.send("POST", "/crosswalks/landings", asked)
        self.assertEqual(seen.status_code, 200, seen.content)
        self.assertEqual({row["workload"] for row in seen.json()["rows"]}, {"ware-01", "reports-01"})
        self.problem(self.sam.send("POST", "/crosswalks/landings", asked), 403, "outside-scope")
        other = {**asked, "crosswalk": {**walk, "source": "QUA", "target": "HIL"}}
        self.problem(nora.send("POST", "/crosswalks/landings", other), 404, "not-found")
        self.problem(nora.send("POST", "/crosswalks/landings", {}), 404, "not-found")

    def test_lists_hold_what_is_in_reach(self) -> None:
        self.assertEqual([one["code"] for one in self.sam.get("/api/v1/plans").json()["plans"]], ["REPT"])
        board = self.sam.get("/api/v1/readiness").json()
        self.assertEqual([one["code"] for one in board["plans"]], ["REPT"])
        self.assertEqual({one["site"] for one in board["if_lost"]}, {"HIL"})
        self.assertTrue(all("REPT" in one["to"] or "/approvals/" in one["to"] or "reports" in one["to"]
                            for one in board["actions"]), board["actions"])  # fmt: skip
        protection = self.sam.get("/api/v1/groups").json()
        self.assertEqual((protection["all_groups"], protection["workloads"]), (1, 2))
        line = self.sam.get("/api/v1/site-line").json()
        self.assertEqual({one["code"] for one in line["stations"]}, {"HIL", "NOR"})
        self.assertEqual([flow["groups"] for flow in line["flows"]], [1])
        runs = self.sam.get("/api/v1/runs").json()["runs"]
        self.assertEqual({one["plan"] for one in runs}, {"REPT"})
        self.problem(self.sam.get("/api/v1/retired"), 403, "outside-scope")
        self.assertEqual(self.sam.get("/api/v1/workloads").json()["total"], 2)
        self.assertEqual(self.sam.get("/api/v1/session").json()["only"], "for the plan REPT")
        self.assertEqual(self.browser.get("/api/v1/session").json()["only"], "")
        self.assertEqual(
            {one["plan"] for one in self.sam.get("/api/v1/evidence/proof").json()["plans"]}, {"REPT"}
        )

    def test_searching_finds_nothing_out_of_reach(self) -> None:
        for words in ("web-01", "db-book-01", "Quayside", "Harbour core"):
            with self.subTest(words):
                self.assertEqual(self.sam.get(f"/api/v1/search?find={words}").json()["hits"], [])
        found = self.sam.get("/api/v1/search?find=report").json()["hits"]
        self.assertIn("Reporting to Northgate", {hit["title"] for hit in found})

    def test_a_run_of_another_plan_is_not_found_beside_an_own_one_nor_in_a_stream(self) -> None:
        own, other = self.run_of("REPT"), self.run_of("BOOK")
        self.problem(self.sam.get(f"/api/v1/runs/{own}/compared?with={other}"), 404, "not-found")
        session = self.sam.cookies["maestoso_session"].value
        self.assertTrue(seen_in(session).has_run("REPT", "HIL", "NOR"))
        self.assertFalse(seen_in(session).has_run("BOOK", "QUA", "HIL"))
        self.assertFalse(seen_in("no such session").has_run("REPT", "HIL", "NOR"))

    def test_what_a_body_names_must_be_in_reach_too(self) -> None:
        read = self.sam.get("/api/v1/plans/REPT")
        plan = read.json()["plan"]
        plan["waves"][0]["members"].append({"workload": "web-01"})
        sent = {"plan": plan, "summary": "one more"}
        for method, path in (("PUT", "/plans/REPT"), ("POST", "/plans/REPT/assessment")):
            with self.subTest(path):
                body = sent if method == "PUT" else {"plan": plan}
                reply = self.sam.send(method, path, body, **{"If-Match": read.headers["ETag"]})
                self.assertIn("no workload web-01", self.problem(reply, 404, "not-found")["detail"])
        plan["waves"][0]["members"].pop()
        plan["waves"][0]["tag_rule"] = "site:QUA"
        reply = self.sam.send("PUT", "/plans/REPT", sent, **{"If-Match": read.headers["ETag"]})
        self.problem(reply, 404, "not-found")
        plan["waves"][0]["tag_rule"] = ""
        plan["source"] = "QUA"
        reply = self.sam.send("PUT", "/plans/REPT", sent, **{"If-Match": read.headers["ETag"]})
        self.assertIn("no way QUA to NOR", self.problem(reply, 404, "not-found")["detail"])
        plan["source"] = "HIL"
        plan["owner"] = "Sam"
        reply = self.sam.send("PUT", "/plans/REPT", sent, **{"If-Match": read.headers["ETag"]})
        self.assertEqual(reply.status_code, 201, reply.content)

    def test_drills_requests_and_traps_are_those_of_plans_in_reach(self) -> None:
        made: dict[str, int] = {}
        drills: dict[str, int] = {}
        for plan in ("REPT", "BOOK"):
            drill = {**DRILL, "plan": plan, "name": f"of {plan}"}
            calendar = self.browser.send("POST", "/drills", drill).json()
            drills[plan] = next(one["id"] for one in calendar["drills"] if one["drill"]["plan"] == plan)
            trap = {"about": "plan", "name": plan, "text": f"Mind {plan}."}
            made[plan] = self.browser.send("POST", "/traps", trap).json()["id"]
        seen = self.sam.get("/api/v1/drills").json()["drills"]
        self.assertEqual([one["drill"]["plan"] for one in seen], ["REPT"])
        self.problem(self.sam.send("DELETE", f"/drills/{drills['BOOK']}"), 404, "not-found")
        self.assertEqual(self.sam.send("DELETE", f"/drills/{drills['REPT']}").status_code, 200)
        self.problem(self.sam.send("POST", "/drills", {**DRILL, "plan": "BOOK"}), 404, "not-found")
        self.assertEqual([one["name"] for one in self.sam.get("/api/v1/traps").json()], ["REPT"])
        self.assertEqual(self.sam.send("PUT", f"/traps/{made['REPT']}/solved").status_code, 200)
        self.problem(self.sam.send("PUT", f"/traps/{made['BOOK']}/solved"), 404, "not-found")
        trap = {"about": "workload", "name": "web-01", "text": "Mind it."}
        self.problem(self.sam.send("POST", "/traps", trap), 404, "not-found")

    def test_new_things_are_for_whose_role_is_for_everything(self) -> None:
        read = self.sam.get("/api/v1/plans/REPT").json()["plan"]
        self.problem(self.sam.send("POST", "/plans", {"plan": {**read, "code": "NEW"}}), 403, "outside-scope")
        self.problem(self.sam.send("POST", "/sites", {}), 403, "outside-scope")
        self.problem(self.sam.send("POST", "/workloads", {}), 403, "outside-scope")


class Given(Scoped):
    def test_a_site_is_seen_with_all_that_is_there(self) -> None:
        site = self.with_scope("nora", "viewer", sites=["NOR"])
        names = {row["site"] for row in site.get("/api/v1/workloads?limit=500").json()["rows"]}
        self.assertIn("NOR", names)
        self.assertNotIn("QUA", names)
        self.problem(site.get("/api/v1/sites/QUA/drift"), 404, "not-found")

    def test_who_sees_everything_and_may_do_something_for_one_plan_is_told_so(self) -> None:
        make_person("kim", PASSWORD, [])
        sent = {"full_name": "Kim", "mail": "", "active": True, "roles": ["viewer", "operator"],
                "scopes": {"operator": {"plans": ["REPT"]}}}  # fmt: skip
        self.assertEqual(self.browser.send("PUT", "/people/kim", sent).status_code, 200)
        kim = Browser()
        kim.sign_in("kim")
        self.assertEqual(len(kim.get("/api/v1/plans").json()["plans"]), 5)
        start = {"plan": "BOOK", "options": {"kind": "test"}}
        said = self.problem(
            kim.send("POST", "/runs", start, **{"Idempotency-Key": "k"}), 403, "outside-scope"
        )
        self.assertEqual(
            said["detail"],
            "You may start, steer and judge isolated tests as operator for the plan REPT, and not for this one.",
        )
        own = {"plan": "REPT", "options": {"kind": "test"}}
        self.assertEqual(kim.send("POST", "/runs", own, **{"Idempotency-Key": "k2"}).status_code, 201)
        account = kim.get("/api/v1/account").json()
        self.assertEqual(account["scopes"], {"operator": "for the plan REPT"})

    def test_a_token_reaches_as_far_as_the_roles_that_it_uses(self) -> None:
        made = self.sam.send("POST", "/account/tokens", {"name": "script", "roles": ["administrator"]}).json()
        program = Browser()
        asked = {"Authorization": f"Bearer {made['secret']}"}
        plans = program.get("/api/v1/plans", headers=asked).json()["plans"]
        self.assertEqual([one["code"] for one in plans], ["REPT"])
        self.assertEqual(program.get("/api/v1/plans/BOOK", headers=asked).status_code, 404)

    def test_a_token_can_be_for_less_than_its_person(self) -> None:
        asked = {"name": "script", "roles": ["administrator"], "scope": {"plans": ["REPT"]}}
        made = self.browser.send("POST", "/account/tokens", asked).json()
        self.assertEqual(made["token"]["only"], "for the plan REPT")
        program, shown = Browser(), {"Authorization": f"Bearer {made['secret']}"}
        plans = program.get("/api/v1/plans", headers=shown).json()["plans"]
        self.assertEqual([one["code"] for one in plans], ["REPT"])
        self.assertEqual(program.get("/api/v1/plans/BOOK", headers=shown).status_code, 404)
        said = self.problem(program.get("/api/v1/audit", headers=shown), 403, "outside-scope")
        self.assertEqual(said["detail"], "The token is for the plan REPT, and not for everything.")
        self.assertFalse(seen_in(f"Bearer {made['secret']}").has("plan", "BOOK"))
        # Nobody gets further with a token than without.
        wide = {"name": "wide", "roles": ["administrator"], "scope": {"plans": ["REPT", "BOOK"]}}
        own = self.sam.send("POST", "/account/tokens", wide).json()["secret"]
        plans = program.get("/api/v1/plans", headers={"Authorization": f"Bearer {own}"}).json()["plans"]
        self.assertEqual([one["code"] for one in plans], ["REPT"])
        wrong = {"name": "x", "roles": ["administrator"], "scope": {"plans": ["NONE"]}}
        self.problem(self.browser.send("POST", "/account/tokens", wrong), 400, "bad-value")

    def test_the_last_administrator_of_everything_stays_one(self) -> None:
        RoleGrant.objects.exclude(user__username__in=("ann", "ben", "sam")).delete()
        narrowed = {"full_name": "x", "mail": "", "active": True, "roles": ["administrator"],
                    "scopes": {"administrator": {"plans": ["REPT"]}}}  # fmt: skip
        self.assertEqual(self.browser.send("PUT", "/people/ben", narrowed).status_code, 200)
        self.problem(self.browser.send("PUT", "/people/ann", narrowed), 409, "last-administrator")

    def test_who_is_let_in_on_the_machine_itself_administers_everything(self) -> None:
        with mock.patch("sys.stdin", io.StringIO(f"{PASSWORD}\n")):
            call_command("make_administrator", "sam")
        again = Browser()
        again.sign_in("sam")
        self.assertEqual(len(again.get("/api/v1/plans").json()["plans"]), 5)

    def test_scopes_that_cannot_be_are_refused(self) -> None:
        person = {"full_name": "Sam", "mail": "", "active": True, "roles": ["viewer"]}
        for scopes in (
            {"viewer": {"plans": ["NONE"]}},
            {"viewer": {"sites": ["XXX"]}},
            {"auditor": {"sites": ["NOR"]}},
        ):
            with self.subTest(json.dumps(scopes)):
                reply = self.browser.send("PUT", "/people/sam", {**person, "scopes": scopes})
                self.assertEqual(self.problem(reply, 400, "bad-value")["field"], "scopes")
        self.assertEqual(Scope().words(), "")
