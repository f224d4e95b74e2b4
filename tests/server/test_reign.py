"""Another machine has taken over: what a site says of that is noted, and nothing is changed here any more."""

from __future__ import annotations

from datetime import timedelta
from unittest import mock

from django.core.management import CommandError, call_command
from django.test import TestCase

from maestoso.core.ports import SiteRefused
from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.server.board.stored import refresh_board
from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.server.keeper.leases import take
from maestoso.server.reign import services
from maestoso.server.reign.models import Reign
from maestoso.server.reign.services import INSTALLATION, OtherInstallation, belongs_here
from maestoso.server.runs.log import DatabaseRunLog
from maestoso.server.runs.models import Run
from tests.server.test_backups import AtSomeTime
from tests.server.tidewell import Browser, Tidewell


class Past(Tidewell):
    history = True

    def setUp(self) -> None:
        super().setUp()
        services.number.cache_clear()
        self.addCleanup(services.number.cache_clear)
        self.said: list[str] = []

    def ask(self, reign: int) -> None:
        """Ask a site for something under a reign."""
        site = Site.objects.get(code="HIL")
        line = agents.client(site)
        line._installation, line._reign, line._past = services.INSTALLATION, reign, self.said.append
        operation = Operation(
            key=f"{services.INSTALLATION}-r{reign}", verb="leak-check", subject="x", run="x", args={"mark": "x"}, pace=1.0
        )  # fmt: skip
        agents.ask(site, lambda agent: agent.put_operation(operation, 1))

    def unfinished(self) -> object:
        """What an engine would conduct; on the connection of the test."""
        return DatabaseRunLog.unfinished.__wrapped__(DatabaseRunLog())  # type: ignore[attr-defined]

    def test_a_site_holds_to_the_highest_reign_and_the_one_before_learns_it_from_there(self) -> None:
        self.ask(0)
        self.ask(1)
        self.assertEqual(self.said, [])
        with self.assertRaises(SiteRefused) as caught:
            self.ask(0)
        self.assertEqual(caught.exception.code, "reign-past")
        services.note_past(self.said[0])
        self.assertIn("Another machine has taken over from this one", services.past_because())
        first = self.browser.get("/api/v1/readiness").json()["actions"][0]
        self.assertEqual(first["title"], "This Maestoso conducts nothing any more")
        self.assertEqual(self.browser.get("/api/v1/site-line").json()["past"], services.past_because())

    def test_the_board_says_so_at_once_though_nobody_keeps_it_any_more(self) -> None:
        refresh_board(SystemClock())
        services.note_past("Reign 1 conducts here.")
        first = self.browser.get("/api/v1/readiness").json()["actions"][0]
        self.assertEqual(first["title"], "This Maestoso conducts nothing any more")

    def test_nothing_is_changed_or_conducted_any_more_and_people_can_look(self) -> None:
        Run.objects.filter(pk=Run.objects.latest("pk").pk).update(outcome="")
        self.assertNotEqual(self.unfinished(), {})
        services.note_past("Reign 1 conducts here.")
        self.assertEqual(self.unfinished(), {})
        self.assertFalse(take("records", "a keeper"))
        body = self.problem(self.browser.send("POST", "/runs", {"plan": "HARB"}), 409, "reign-past")
        self.assertIn("Nothing is changed here any more.", body["detail"])
        self.assertEqual(self.browser.get("/api/v1/plans").status_code, 200)
        other = Browser()
        self.assertEqual(other.sign_in().status_code, 200)

    def test_each_takeover_begins_the_next_and_what_is_under_way_gets_higher_fences(self) -> None:
        last = Run.objects.latest("pk")
        Run.objects.filter(pk=last.pk).update(outcome="", fence=3)
        services.note_past("Reign 1 conducts here.")
        first, second = services.begin("Take over", "ada"), services.begin("Take over", "")
        self.assertGreater(second, first)
        # One that is begun later from the same records, as from a backup, is above both: they know nothing of it.
        Reign.objects.update(number=0)
        with mock.patch.object(
            services, "SystemClock", lambda: AtSomeTime(SystemClock().now() + timedelta(hours=1))
        ):
            self.assertGreater(services.begin("Take over", ""), second)
        self.assertEqual(services.past_because(), "")
        self.assertGreater(services.number(), second)
        last.refresh_from_db()
        self.assertGreater(last.fence, 2**20)
        self.assertTrue(take("records", "a keeper"))
        self.assertEqual(Reign.objects.count(), 1)


class WhoseRecords(TestCase):
    """Machines that share a database share its secrets."""

    def test_records_of_another_installation_are_not_touched(self) -> None:
        belongs_here()
        self.assertEqual(Reign.objects.get().installation, INSTALLATION)
        belongs_here()
        Reign.objects.update(installation="other")
        with self.assertRaises(OtherInstallation) as caught:
            belongs_here()
        self.assertIn("secrets.json", caught.exception.remedy)
        with self.assertRaisesRegex(CommandError, "another installation"):
            call_command("prepare")
