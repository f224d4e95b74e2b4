"""What sites are asked for is written down first, brought to them in order, and kept until it is settled."""

from __future__ import annotations

from datetime import timedelta
from typing import Any
from unittest import mock

from asgiref.sync import async_to_sync
from django.core.cache import cache

from maestoso.core.errors import Refused
from maestoso.core.ports import SiteBusy, SiteRefused, SiteUnreachable
from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.estate.agents import ask, pulse
from maestoso.server.estate.models import Site
from maestoso.server.outbox import services as outbox
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.outbox.services import ask_for, deliver, deliver_waiting, forget_old, perform, withdraw
from maestoso.server.protection.models import GroupRow
from maestoso.server.runs.delivery import RecordedSite
from maestoso.sites.client import HttpSite
from tests.server.tidewell import TOKEN, Tidewell

CLOCK = SystemClock()
NOWHERE = "http://127.0.0.1:9"


class Outbox(Tidewell):
    """With Hilltop, which can be made to be away."""

    def setUp(self) -> None:
        super().setUp()
        self.site = Site.objects.get(code="HIL")
        self.url = self.site.agent_url

    def tearDown(self) -> None:
        self.there()
        ask(self.site, lambda agent: agent.practise("faults"))
        SiteRequest.objects.filter(status="waiting").update(status="withdrawn")
        deliver(self.pause(""))
        super().tearDown()

    def away(self) -> None:
        """Nobody answers at Hilltop any more."""
        self._at(NOWHERE)

    def there(self) -> None:
        """It answers again."""
        self._at(self.url)

    def _at(self, url: str) -> None:
        Site.objects.filter(pk=self.site.pk).update(agent_url=url)
        self.site.refresh_from_db()
        cache.clear()

    def pause(self, because: str, *, insists: bool = True) -> SiteRequest:
        """Ask for a pause of the application' copying."""
        args = {"because": because}
        return ask_for(self.site, "pause-copying", "booking-app", args, by="ann", insists=insists)

    def paused(self) -> str:
        """Why that pauses, as Hilltop says it."""
        cache.clear()
        return pulse(self.site).copying["booking-app"].paused_because

    def pauses_fail(self, times: int) -> None:
        """Let pauses fail there."""
        fault = {
            "verb": "pause-copying", "subject": "*", "effect": "fail", "times": times, "code": "busy",
            "reason": "Busy with something else.",
        }  # fmt: skip
        ask(self.site, lambda agent: agent.practise("faults", fault))

    def test_what_waits_is_brought_when_the_site_is_back_in_the_order_in_which_it_was_asked(self) -> None:
        self.away()
        first, second = self.pause("first"), self.pause("second")
        with self.assertRaises(SiteUnreachable):
            deliver(second)
        self.there()
        deliver_waiting(self.site, CLOCK)
        self.assertEqual(self.paused(), "second")
        rows = SiteRequest.objects.filter(pk__in=(first.pk, second.pk)).order_by("settled_at")
        self.assertEqual([(row.pk, row.status) for row in rows], [(first.pk, "done"), (second.pk, "done")])

    def test_what_failed_is_asked_for_anew_and_the_site_does_it(self) -> None:
        self.pauses_fail(times=1)
        request = self.pause("again")
        with self.assertRaisesRegex(SiteUnreachable, "Busy with something else"):
            deliver(request)
        deliver_waiting(self.site, CLOCK)
        request.refresh_from_db()
        self.assertEqual((request.status, request.generation, self.paused()), ("done", 2, "again"))

    def test_what_a_site_is_at_has_all_the_time_that_it_needs_whether_somebody_insists_or_not(self) -> None:
        fault = {"verb": "pause-copying", "subject": "booking-app", "effect": "hang"}
        ask(self.site, lambda agent: agent.practise("faults", fault))
        with self.assertRaisesRegex(Refused, "is at it, and it takes longer than") as caught:
            perform(self.site, "pause-copying", "booking-app", {"because": "long"}, by="ann", patience_s=0.3)
        self.assertEqual(caught.exception.code, "site-at-it")
        request = SiteRequest.objects.get(status="waiting")
        self.assertTrue(request.taken_in)
        behind = self.pause("later")
        with self.assertRaisesRegex(SiteUnreachable, "waits behind pause-copying of booking-app"):
            deliver(behind)
        soon = mock.Mock(now=lambda: CLOCK.now() + timedelta(minutes=1))
        deliver_waiting(self.site, soon)
        request.refresh_from_db()
        self.assertEqual((request.status, request.generation), ("waiting", 1))
        # Cleared, what hangs comes to its end there.
        ask(self.site, lambda agent: agent.practise("faults"))
        for _ in range(2):
            SiteRequest.objects.filter(status="waiting").update(not_before=CLOCK.now())
            deliver_waiting(self.site, CLOCK)
        request.refresh_from_db()
        behind.refresh_from_db()
        self.assertEqual((request.status, behind.status, self.paused()), ("done", "done", "later"))
        keys = [entry["key"] for entry in ask(self.site, lambda agent: agent.journal())]
        self.assertEqual(sum(request.token in key for key in keys), 1)

    def test_what_waits_for_a_site_that_is_busy_is_brought_when_it_said_and_is_no_failure(self) -> None:
        request = self.pause("busy")
        with mock.patch.object(HttpSite, "put_operation", side_effect=SiteBusy(40)):
            with self.assertRaisesRegex(SiteUnreachable, "asked again in 40 s"):
                deliver(request)
            deliver_waiting(self.site, CLOCK)
        request.refresh_from_db()
        self.assertEqual((request.status, request.generation), ("waiting", 1))
        left_s = (request.not_before - CLOCK.now()).total_seconds()
        self.assertTrue(30 < left_s <= 40, left_s)
        deliver_waiting(self.site, mock.Mock(now=lambda: CLOCK.now() + timedelta(seconds=41)))
        SiteRequest.objects.filter(pk=request.pk).update(not_before=CLOCK.now())
        deliver_waiting(self.site, CLOCK)
        self.assertEqual(self.paused(), "busy")

    def test_what_follows_something_that_failed_waits_until_that_is_done(self) -> None:
        self.pauses_fail(times=3)
        first, second = self.pause("first"), self.pause("second")
        elsewhere = ask_for(
            self.site, "pause-copying", "fleet", {"because": "x"}, by="ann", insists=True
        )  # fmt: skip
        with self.assertRaisesRegex(SiteUnreachable, "waits behind pause-copying of booking-app"):
            deliver(second)
        self.assertEqual(self.paused(), "")
        for _ in range(8):
            SiteRequest.objects.filter(status="waiting").update(not_before=CLOCK.now())
            deliver_waiting(self.site, CLOCK)
        rows = SiteRequest.objects.filter(pk__in=(first.pk, second.pk)).order_by("settled_at")
        self.assertEqual([(row.pk, row.status) for row in rows], [(first.pk, "done"), (second.pk, "done")])
        self.assertEqual(self.paused(), "second")
        elsewhere.refresh_from_db()
        self.assertEqual(elsewhere.status, "done", "what failed keeps nothing else waiting")
        deliver(ask_for(self.site, "pause-copying", "fleet", {"because": ""}, by="ann"))

    def test_what_fails_again_and_again_is_left_in_peace_for_longer_and_longer(self) -> None:
        self.pauses_fail(times=9)
        request, now = self.pause("never"), CLOCK.now()
        for _ in range(4):
            deliver_waiting(self.site, mock.Mock(now=lambda: now + timedelta(hours=1)))
            SiteRequest.objects.filter(pk=request.pk, generation__lt=4).update(not_before=now)
        request.refresh_from_db()
        self.assertEqual((request.status, request.generation), ("waiting", 4))
        self.assertGreater(request.not_before, now + timedelta(seconds=20))

    def test_what_does_not_insist_is_not_asked_for_behind_the_back_of_who_was_told_so(self) -> None:
        self.away()
        with self.assertRaises(Refused) as refused:
            perform(self.site, "pause-copying", "booking-app", {"because": "x"}, by="ann")
        self.assertEqual(refused.exception.code, "site-unreachable")
        self.there()
        deliver_waiting(self.site, CLOCK)
        self.assertEqual(self.paused(), "")
        self.assertEqual(SiteRequest.objects.get(verb="pause-copying").status, "withdrawn")

    def test_what_was_not_sent_can_be_withdrawn_and_what_was_cannot(self) -> None:
        self.assertTrue(withdraw(self.pause("unsent")))
        self.away()
        request = self.pause("sent")
        with self.assertRaises(SiteUnreachable):
            deliver(request)
        self.assertFalse(withdraw(request))

    def test_of_two_processes_one_brings_it(self) -> None:
        request = self.pause("once")

        def meanwhile(*asked: Any) -> Any:
            twice = mock.patch.object(outbox, "ask", side_effect=AssertionError("asked twice"))
            with twice, self.assertRaisesRegex(SiteUnreachable, "another process"):
                deliver(request)
            return ask(*asked)

        with mock.patch.object(outbox, "ask", meanwhile):
            self.assertEqual(deliver(request).status, "done")

    def test_a_message_that_was_late_is_refused_by_the_site(self) -> None:
        sent: list[Operation] = []

        def lose(site: Site, question: Any, patience_s: float) -> Any:
            sent.append(outbox._operation(SiteRequest.objects.get(pk=late.pk)))
            raise SiteUnreachable("The site agent did not answer in time.")

        late = self.pause("late", insists=False)
        with mock.patch.object(outbox, "ask", lose), self.assertRaises(SiteUnreachable):
            deliver(late)
        deliver(self.pause("newer"))
        with self.assertRaises(SiteRefused) as refused:
            ask(self.site, lambda agent: agent.put_operation(sent[0], late.fence))
        self.assertEqual((refused.exception.code, self.paused()), ("fence-too-low", "newer"))

    def test_protection_ends_while_the_site_is_away_and_it_is_told_when_it_is_back(self) -> None:
        self.assertIn("signs", pulse(self.site).copying)
        self.away()
        self.assertEqual(self.browser.send("DELETE", "/groups/signs").status_code, 204)
        self.assertFalse(GroupRow.objects.filter(code="signs").exists())
        first = self.browser.get("/api/v1/site-requests?site=HIL").json()["waiting"][0]
        told = {key: first[key] for key in ("verb", "subject", "by", "status", "insists")}
        wanted = {"verb": "unprotect", "subject": "signs", "by": "ann", "status": "waiting", "insists": True}
        self.assertEqual(told, wanted)
        self.assertIn("No connection", first["reason"])
        self.there()
        deliver_waiting(self.site, CLOCK)
        cache.clear()
        self.assertNotIn("signs", pulse(self.site).copying)
        back = self.browser.get("/api/v1/retired").json()[0]["id"]
        with self.captureOnCommitCallbacks(execute=True):
            self.assertEqual(self.browser.send("POST", f"/retired/{back}/back", {}).status_code, 200)
        self.assertIn("signs", pulse(self.site).copying)

    def test_no_row_holds_a_secret_and_what_is_old_is_let_go(self) -> None:
        key = "a-made-up-key-for-tests"
        self.browser.send("PUT", "/groups/booking-db/key", {"key": key})
        row = GroupRow.objects.get(code="booking-db")
        row.policy["encrypted"] = True
        request = ask_for(self.site, "protect", "booking-db", {"group": {}}, by="ann")
        self.assertNotIn(key, str(request.args))
        GroupRow.objects.filter(pk=row.pk).update(policy=row.policy)
        self.assertEqual(outbox._operation(request).args["secrets"], {"key": key})
        (entry,) = AuditEntry.objects.filter(did__startswith="Used ")
        self.assertEqual(entry.path, "care/booking-db")
        self.assertEqual(entry.did, "Used the key of the copies of booking-db for protect of booking-db")
        withdraw(request)
        forget_old(CLOCK)
        self.assertTrue(SiteRequest.objects.filter(pk=request.pk).exists())
        forget_old(mock.Mock(now=lambda: CLOCK.now() + timedelta(days=31)))
        self.assertFalse(SiteRequest.objects.filter(pk=request.pk).exists())

    def test_an_agent_that_was_moved_is_found_while_runs_go_on(self) -> None:
        # Renewing the connection, as an engine must, would end the transaction that this test is in.
        with mock.patch("maestoso.server.runs.delivery.reachable", side_effect=lambda call: call):
            line = RecordedSite("HIL")
            self.assertIsNone(async_to_sync(line.operation)("nothing"))
            self.away()
            line._look_at = 0.0
            with self.assertRaises(SiteUnreachable):
                async_to_sync(line.operation)("nothing")
            self.there()
            self.assertIsNone(async_to_sync(line.operation)("nothing"))

    def test_a_token_that_was_changed_is_used_from_then_on(self) -> None:
        with mock.patch("maestoso.server.runs.delivery.reachable", side_effect=lambda call: call):
            line = RecordedSite("HIL")
            sealed = Site.objects.get(code="HIL").agent_token
            with mock.patch("maestoso.server.estate.agents.unseal", side_effect=["of-before", TOKEN]):
                with self.assertRaisesRegex(SiteUnreachable, "does not know this token"):
                    async_to_sync(line.operation)("nothing")
                Site.objects.filter(code="HIL").update(agent_token=f"{sealed}=")
                self.assertIsNone(async_to_sync(line.operation)("nothing"))
