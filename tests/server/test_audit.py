"""The audit trail: who changed what, from where, what was there before; chained, filtered, exported."""

from __future__ import annotations

import json
from typing import Any
from unittest import mock

from django.apps import apps
from django.db import DatabaseError
from joserfc import jws

from maestoso.core.codec import to_data
from maestoso.core.evidence.chain import ROOT, link_text
from maestoso.core.model.protection import Policy
from maestoso.server.audit import changes, record
from maestoso.server.audit.models import AuditEntry
from maestoso.server.common import seal_keys
from maestoso.server.estate.models import WorkloadRow
from tests.server.tidewell import Browser, Tidewell


class Trail(Tidewell):
    """Everything that people change."""

    def page(self, query: str = "") -> Any:
        reply = self.browser.get(f"/api/v1/audit?{query}")
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        return reply.json()

    def newest(self) -> Any:
        return self.page()["lines"][0]

    def test_a_change_says_who_when_from_where_and_what_was_before(self) -> None:
        before = self.page()["total"]
        self.browser.send("PUT", "/run-views", {"name": "Failures", "query": "outcome=failed"})
        line = self.newest()
        self.assertEqual((line["by"], line["address"], line["method"]), ("ann", "127.0.0.1", "PUT"))
        self.assertEqual((line["path"], line["did"]), ("run-views", "Saved a view of the runs"))
        self.assertEqual((line["number"], self.page()["total"]), (before + 1, before + 1))

    def test_it_is_narrowed_to_changes_sign_ins_refusals_or_downloads(self) -> None:
        self.browser.send("PUT", "/run-views", {"name": "Failures", "query": "outcome=failed"})
        Browser().sign_in("ann", "wrong")
        self.browser.get("/api/v1/audit.jsonl")
        newest = {
            kind: self.page(f"kind={kind}")["lines"][0]["did"]
            for kind in ("changes", "sign-ins", "refusals", "downloads")
        }
        self.assertEqual(
            newest,
            {
                "changes": "Saved a view of the runs", "sign-ins": "Signed in (refused: wrong-sign-in)",
                "refusals": "Signed in (refused: wrong-sign-in)", "downloads": "Downloaded the audit trail",
            },
        )  # fmt: skip
        self.problem(self.browser.get("/api/v1/audit?kind=gossip"), 400, "bad-value")

    def test_what_a_record_said_before_and_after_stands_beside_each_other(self) -> None:
        drill = {"plan": "HARB", "name": "One", "starts": "2027-01-05T06:30", "time_zone": "Europe/Lisbon"}
        made = self.browser.send("POST", "/drills", drill).json()["drills"][-1]
        changed = self.browser.send(
            "PUT", f"/drills/{made['id']}", {**drill, "name": "Two"}, **{"If-Match": '"1"'}
        )
        self.assertEqual(changed.status_code, 200)
        (change,) = json.loads(self.newest()["changed"])
        self.assertEqual((change["before"]["spec"]["name"], change["after"]["spec"]["name"]), ("One", "Two"))
        self.assertNotIn("plan_code", change["after"])
        self.browser.send("DELETE", f"/drills/{made['id']}")
        gone = json.loads(self.newest()["changed"])
        self.assertIsNone(gone[-1]["after"])

    def test_of_many_rows_at_once_it_says_what_was_before_and_how_many_more_there_were(self) -> None:
        tagged = {"filter": None, "add": {"seen": "yes"}}
        names = list(WorkloadRow.objects.values_list("name", flat=True))
        with mock.patch.object(changes, "MOST_ROWS", 5):
            reply = self.browser.send("POST", "/workload-tags", {**tagged, "names": names})
        self.assertEqual(reply.status_code, 200, reply.content[:300])
        changed = json.loads(self.newest()["changed"])
        self.assertNotIn("seen", changed[0]["before"]["spec"]["tags"])
        self.assertEqual(changed[0]["after"]["spec"]["tags"]["seen"], "yes")
        self.assertEqual(changed[-1]["what"], f"{len(names) - 5} more of workload row")

    def test_what_cannot_be_recorded_is_not_done(self) -> None:
        policy = to_data(Policy(interval_s=5, rpo_s=60))
        group = {
            "code": "works", "name": "Works", "source": "QUA", "target": "HIL", "members": ["rig-03"],
            "policy": policy, "tag_rule": "",
        }  # fmt: skip
        drill = {"plan": "HARB", "name": "One", "starts": "2027-01-05T06:30", "time_zone": "Europe/Lisbon"}
        site = {"name": "Elsewhere", "time_zone": "UTC", "takes_over": False}
        asked: list[tuple[str, str, Any, dict[str, str]]] = [
            ("PUT", "/run-views", {"name": "x", "query": ""}, {}),
            ("PUT", "/secrets/feed-token", {"value": "swordfish-7"}, {}),
            ("POST", "/groups", {"group": group, "key": ""}, {}),
            ("DELETE", "/groups/signs", None, {}),
            ("PUT", "/groups/booking-db/key", {"key": "a-made-up-key-for-tests"}, {}),
            ("POST", "/drills", drill, {}),
            ("PUT", "/sites/HIL", site, {}),
            ("DELETE", "/workloads/rig-03", None, {}),
            ("POST", "/workload-tags", {"names": ["rig-01"], "filter": None, "add": {"a": "b"}}, {}),
            ("POST", "/runs", {"plan": "HARB", "options": {"pace": 20}}, {"Idempotency-Key": "k"}),
        ]
        before = self.everything()
        broken = mock.patch.object(record, "add_entry", side_effect=lambda entry: self.no_room())
        for method, path, body, headers in asked:
            with self.subTest(f"{method} {path}"):
                with broken, self.assertLogs("maestoso.server"), self.assertLogs("django.request"):
                    self.assertEqual(self.browser.send(method, path, body, **headers).status_code, 500)
                self.assertEqual(self.everything(), before)

    def no_room(self) -> None:
        raise DatabaseError("no room")

    def everything(self) -> str:
        """All rows that people change, as one text."""
        models = [apps.get_model(f"{app}.{name}") for app, name in (
            ("runs", "SavedView"), ("scripts", "Secret"), ("protection", "GroupRow"), ("drills", "DrillRow"),
            ("estate", "Site"), ("estate", "WorkloadRow"), ("runs", "Run"), ("outbox", "SiteRequest"),
        )]  # fmt: skip
        return json.dumps([list(model.objects.order_by("pk").values()) for model in models], default=str)

    def test_secrets_and_passwords_never_stand_in_it(self) -> None:
        reply = self.browser.send("PUT", "/secrets/feed-token", {"value": "swordfish-7"})
        self.assertEqual(reply.status_code, 204, reply.content[:300])
        Browser().sign_in("ben")
        everything = "".join(json.dumps([entry.sent, entry.changed]) for entry in AuditEntry.objects.all())
        self.assertNotIn("swordfish-7", everything)
        self.assertNotIn("correct-horse-battery", everything)
        self.assertIn("(not shown)", everything)

    def test_looking_and_what_was_refused_leave_no_entry(self) -> None:
        before = self.page()["total"]
        self.browser.get("/api/v1/readiness")
        self.browser.send("POST", "/drills", {"plan": "NOPE"})
        self.browser.send("POST", "/drills/try", {"plan": "HARB"})
        self.assertEqual(self.page()["total"], before)

    def test_entries_are_found_by_person_day_and_words(self) -> None:
        ben = Browser()
        ben.sign_in("ben")
        ben.send("PUT", "/run-views", {"name": "x", "query": "kind=test"})
        self.assertEqual({line["by"] for line in self.page("by=ben")["lines"]}, {"ben"})
        self.assertIn("run-views", self.page("find=RUN-VIEWS")["lines"][0]["path"])
        self.assertEqual(self.page("since=2199-01-01")["lines"], [])
        self.problem(self.browser.get("/api/v1/audit?since=soon"), 400, "bad-value")
        self.assertEqual(self.page()["people"], ["ann", "ben"])

    def test_a_touched_or_missing_entry_is_named(self) -> None:
        for name in ("a", "b", "c"):
            self.browser.send("PUT", "/run-views", {"name": name, "query": ""})
        self.assertIsNone(self.page()["touched"])
        AuditEntry.objects.filter(number=2).update(by="somebody")
        self.assertEqual(self.page()["touched"], 2)
        AuditEntry.objects.filter(number=2).update(by="ann")
        AuditEntry.objects.order_by("-number")[0].delete()
        self.assertEqual(self.page()["touched"], self.page()["total"] + 1)

    def test_the_export_is_chained_and_its_end_is_signed(self) -> None:
        for name in ("a", "b"):
            self.browser.send("PUT", "/run-views", {"name": name, "query": ""})
        text = b"".join(self.browser.get("/api/v1/audit.jsonl")).decode()
        *lines, last = map(json.loads, text.splitlines())
        before = ROOT
        for line in lines:
            told = json.dumps(line["entry"], sort_keys=True, separators=(",", ":"), ensure_ascii=False)
            before = link_text(before, told)
            self.assertEqual(line["chain"], before)
        signed = jws.deserialize_compact(last["seal"], seal_keys.current_key(), algorithms=["Ed25519"])
        said = json.loads(signed.payload)
        self.assertEqual((said["entries"], said["head"]), (len(lines), before))
