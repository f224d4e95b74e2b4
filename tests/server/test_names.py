"""Zones: kept with their keys, read from a real server, and told before a run."""

from __future__ import annotations

import asyncio
from dataclasses import replace
from datetime import timedelta
from typing import Any
from unittest import mock

from asgiref.sync import async_to_sync

from maestoso.core.codec import to_data
from maestoso.core.model.names import NAME_SERVERS
from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.names.zone_server import change
from maestoso.server.audit.models import AuditEntry
from maestoso.server.names import services
from maestoso.server.names.models import KnownNameRow, Zone
from maestoso.server.outbox.secrets import with_secrets
from maestoso.server.readiness.surroundings import as_of
from maestoso.server.runs import delivery
from maestoso.server.runs.delivery import RecordedNames, RecordedSite, client_of
from maestoso.server.runs.events import inputs_of
from maestoso.server.runs.models import Run
from tests.names.knot import BOOKING, MOVED, ZONE, WithServers
from tests.server.tidewell import Tidewell

AWAY = "198.51.100.10"
"""Where the front door opens that the name of the demo leads to."""
TO_THE_DOOR = replace(MOVED, after=(AWAY,))

SECRET = "c2hhbGwgYmUgbG9uZyBlbm91Z2ggZm9yIGl0IQ=="


class Zones(Tidewell):
    def kept(self, zone: str = "ferries.example", **changes: Any) -> Any:
        """What saving a zone answers."""
        sent = {"primary": "192.0.2.1", "key_name": "maestoso", "secret": SECRET, **changes}
        return self.browser.send("PUT", f"/zones/{zone}", sent)

    def setUp(self) -> None:
        super().setUp()
        # Nobody answers there, and it is said at once.
        patched = self.enterContext(mock.patch.object(services, "_ask_all"))
        patched.side_effect = self.silent

    async def silent(self, servers: Any, names: Any) -> tuple[list[Any], str]:
        """What a zone says that does not answer."""
        return [], f"{servers.primary} does not answer."

    def test_the_demo_has_one_that_a_plan_changes(self) -> None:
        (zone,) = self.browser.get("/api/v1/zones").json()
        self.assertEqual((zone["zone"], zone["used_by"], zone["read_at"]), (ZONE, ["BOOK"], None))
        self.assertNotIn("secret", zone)
        reply = self.browser.send("DELETE", f"/zones/{ZONE}")
        self.assertEqual(reply.status_code, 409)
        self.assertIn("is used by BOOK", reply.json()["detail"])

    def test_one_is_kept_changed_and_forgotten_and_its_secret_is_never_said(self) -> None:
        made = self.kept(others=["192.0.2.2:5353", "192.0.2.1:53", "[2001:db8::1]:53", "2001:db8::2"])
        self.assertEqual(made.status_code, 200, made.content)
        zone = made.json()
        self.assertEqual(zone["primary"], "192.0.2.1:53")
        self.assertEqual(zone["others"], ["192.0.2.2:5353", "[2001:db8::1]:53", "[2001:db8::2]:53"])
        self.assertEqual((zone["revision"], zone["problem"]), (1, "192.0.2.1:53 does not answer."))
        again = self.kept(based_on=1, secret="", key_name="Other.Key.")
        self.assertEqual((again.json()["revision"], again.json()["key_name"]), (2, "other.key"))
        row = Zone.objects.get(name="ferries.example")
        self.assertEqual(row.servers().secret, SECRET)
        self.assertNotIn(SECRET, row.sealed)
        self.assertEqual(self.kept(based_on=1).status_code, 412)
        self.assertEqual(self.browser.send("DELETE", "/zones/Ferries.Example.").status_code, 204)
        self.assertFalse(Zone.objects.filter(name="ferries.example").exists())
        self.assertEqual(self.browser.send("DELETE", "/zones/ferries.example").status_code, 404)
        said = str(list(AuditEntry.objects.values()))
        self.assertIn("ferries.example", said)
        self.assertNotIn(SECRET, said)

    def test_what_cannot_be_is_refused_by_its_field(self) -> None:
        for zone, changes, field in (
            ("a b", {}, "zone"),
            ("ferries.example", {"primary": "ns1 ferries"}, "body.primary"),
            ("ferries.example", {"primary": "ns1:99999"}, "body.primary"),
            ("ferries.example", {"primary": ""}, "body.primary"),
            ("ferries.example", {"others": ["ns1", "http://ns2"]}, "body.others[1]"),
            ("ferries.example", {"others": [f"ns{at}" for at in range(9)]}, "body.others"),
            ("ferries.example", {"key_name": "two words"}, "body.key_name"),
            ("ferries.example", {"algorithm": "hmac-md5"}, "body.algorithm"),
            ("ferries.example", {"secret": ""}, "body.secret"),
            ("ferries.example", {"secret": "not base64!"}, "body.secret"),
            ("ferries.example", {"secret": "c2hvcnQ="}, "body.secret"),
        ):
            reply = self.kept(zone, **changes)
            self.assertEqual((reply.status_code, reply.json().get("field")), (400, field), reply.content)
            self.assertNotIn("c2hvcnQ", reply.content.decode())
        self.assertEqual(Zone.objects.count(), 1)

    def test_a_zone_that_is_silent_is_a_finding_of_the_plans_that_change_it(self) -> None:
        services.read_zones(SystemClock())
        preflight = self.browser.send("POST", "/plans/BOOK/preflight", {"kind": "planned"}).json()
        found = {one["code"]: one for one in preflight["assessment"]["findings"]}
        self.assertIn("does not answer.", found["zone-not-read"]["sentence"])
        self.assertTrue(
            any("what it leads to now is not known" in said for said in preflight["consequences"])
        )


class AtRealServers(WithServers, Tidewell):
    def setUp(self) -> None:
        super().setUp()
        row = Zone.objects.get(name=ZONE)
        sent = {
            "primary": self.primary.address,
            "key_name": self.servers.key_name,
            "secret": self.servers.secret,
            "based_on": row.revision,
        }
        reply = self.browser.send("PUT", f"/zones/{ZONE}", sent)
        self.assertEqual((reply.status_code, reply.json()["problem"]), (200, ""), reply.content)

    def test_it_is_tried_and_what_is_wrong_is_said(self) -> None:
        tried = self.browser.send("POST", f"/zones/{ZONE}/trial").json()["servers"]
        self.assertEqual([(one["server"], one["well"]) for one in tried], [(self.primary.address, True)])
        wrong = {
            "primary": self.primary.address,
            "others": ["127.0.0.1:9"],
            "key_name": "maestoso",
            "secret": SECRET,
            "based_on": 2,
        }
        self.assertEqual(self.browser.send("PUT", f"/zones/{ZONE}", wrong).status_code, 200)
        tried = self.browser.send("POST", f"/zones/{ZONE}/trial").json()["servers"]
        self.assertEqual([one["well"] for one in tried], [False, False])
        self.assertIn("the secret of the key is not the one", tried[0]["said"])

    def test_what_a_name_leads_to_is_read_and_told_before_a_run(self) -> None:
        def told() -> list[str]:
            said = self.browser.send("POST", "/plans/BOOK/preflight", {"kind": "planned"}).json()[
                "consequences"
            ]
            return [one for one in said if BOOKING in one]

        self.assertEqual(told(), [
            f"{BOOKING} (A) will lead to {AWAY}, and leads to 10.20.6.11 now. Clients may hold the old answer for 2 min.",
        ])  # fmt: skip
        before = as_of()
        asyncio.run(change(self.servers, [TO_THE_DOOR]))
        services.read_zones(SystemClock())
        self.assertEqual(told()[0].count("10.20.6.11"), 1, "it was read a moment ago")
        Zone.objects.update(read_at=SystemClock().now() - timedelta(minutes=2))
        services.read_zones(SystemClock())
        self.assertEqual(told(), [f"{BOOKING} (A) leads to {AWAY} already."])
        self.assertNotEqual(as_of(), before)
        (known,) = self.browser.get("/api/v1/zones").json()[0]["names"]
        self.assertEqual((known["values"], known["ttl_s"]), ([AWAY], 60))
        self.assertEqual(
            self.browser.send("POST", "/plans/BOOK/preflight", {"kind": "test"}).status_code, 200
        )

    def test_a_run_begins_with_what_names_lead_to_now(self) -> None:
        asyncio.run(change(self.servers, [TO_THE_DOOR]))
        body = {"plan": "BOOK", "confirm": "BOOK", "options": {"kind": "planned"}}
        reply = self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "now"})
        self.assertEqual(reply.status_code, 201, reply.content)
        inputs = inputs_of(Run.objects.get(pk=reply.json()["id"]))
        ((change_made,),) = inputs.names.values()
        self.assertEqual(change_made.before, (AWAY,))

    def test_what_a_step_changed_is_read_anew_at_once(self) -> None:
        async def publish() -> None:
            servers = RecordedNames()
            cursor = (await servers.changes(-1, 0)).cursor
            await servers.put_operation(
                Operation(
                    key="1",
                    run="7",
                    verb="publish-names",
                    subject="The name",
                    args={"names": [to_data(TO_THE_DOOR)]},
                ),
                1,
            )
            feed = await servers.changes(cursor, 60)
            self.assertEqual([one.status for one in feed.states], ["done"], feed)

        # The connection of a test must outlive it.
        with mock.patch.object(delivery, "reachable", lambda call: call):
            async_to_sync(publish)()
        services.read_zones(SystemClock())
        self.assertEqual(KnownNameRow.objects.get().values, [AWAY])

    def test_a_name_that_no_plan_changes_any_more_is_forgotten(self) -> None:
        KnownNameRow.objects.create(
            zone=Zone.objects.get(), name="old.tidewell.example", type="A", since=SystemClock().now()
        )
        self.browser.send("POST", f"/zones/{ZONE}/trial")
        self.assertEqual([one.name for one in KnownNameRow.objects.all()], [BOOKING])

    def test_the_engine_is_given_the_keys_on_the_way(self) -> None:
        operation = Operation(
            key="1", run="7", verb="publish-names", subject="The name", args={"names": [to_data(TO_THE_DOOR)]}
        )
        self.assertNotIn(self.servers.secret, str(operation))
        (zone,) = with_secrets(operation)["zones"]
        self.assertEqual((zone["primary"], zone["secret"]), (self.primary.address, self.servers.secret))
        self.assertIsInstance(client_of(NAME_SERVERS), RecordedNames)
        self.assertIsInstance(client_of("QUA"), RecordedSite)
