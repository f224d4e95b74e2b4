"""The witness: who conducts renews a lease there, and a standby that hears nothing takes over with it."""

from __future__ import annotations

import sqlite3
import tempfile
from contextlib import closing
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from asgiref.sync import async_to_sync
from django.db.models import F

from maestoso.agent_kit import leases
from maestoso.core.ports import SiteBusy
from maestoso.core.runs.operations import Operation
from maestoso.engine.clock import SystemClock
from maestoso.server.audit.models import AuditEntry
from maestoso.server.config.standby import Standby, read_standby, write_standby
from maestoso.server.estate.models import Site
from maestoso.server.outbox.services import ask_for, deliver, withdraw
from maestoso.server.reign import following, lease, services, standbys
from maestoso.server.reign.models import Reign
from maestoso.server.runs import delivery
from maestoso.server.witness import services as witness
from tests.server.tidewell import Tidewell

HEARS_NOTHING = "SELECT 'No' AS Slave_IO_Running, NULL AS Seconds_Behind_Master"
HEARS_IT = "SELECT 'Yes' AS Slave_IO_Running, 0 AS Seconds_Behind_Master"


class WithSites(Tidewell):
    """A clock of the witness that goes on when the test says so."""

    def setUp(self) -> None:
        super().setUp()
        services.number.cache_clear()
        self.addCleanup(services.number.cache_clear)
        # What the witness remembers of another test.
        with closing(sqlite3.connect(Path(self.sites.folder.name) / "NOR.sqlite")) as kept, kept:
            kept.execute("DELETE FROM lease")
        self.later_s = 0.0
        clock = mock.Mock(time=lambda: SystemClock().now().timestamp() + self.later_s)
        for patched in (
            mock.patch.object(leases, "time", clock), mock.patch.object(standbys, "are_expected", lambda: True),
            mock.patch.object(lease, "_sure_until", 0.0), mock.patch.object(following, "_witness_said", ""),
        ):  # fmt: skip
            patched.start()
            self.addCleanup(patched.stop)

    def choose(self, code: str = "NOR") -> Any:
        """Have a site be the witness."""
        return self.browser.send("PUT", "/standbys/witness", {"site": code})

    def stands(self) -> dict[str, Any]:
        """What is said of it."""
        found: dict[str, Any] = self.browser.get("/api/v1/standbys").json()
        return found

    def titles(self) -> list[str]:
        """What is to be done."""
        return [one["title"] for one in self.browser.get("/api/v1/readiness").json()["actions"]]

    def pass_s(self, seconds: float) -> None:
        """So much time goes by, here and at the witness."""
        self.later_s += seconds
        lease._sure_until = 0.0
        Reign.objects.exclude(held_until=None).update(held_until=F("held_until") - timedelta(seconds=seconds))

    def move_agent(self, code: str, url: str) -> str:
        """Its agent is somewhere else; where it was."""
        site = Site.objects.get(code=code)
        Site.objects.filter(pk=site.pk).update(agent_url=url)
        return site.agent_url


class AtThePrimary(WithSites):
    def test_one_is_chosen_that_can_be_and_it_stands_in_the_trail(self) -> None:
        body = self.problem(self.choose("XYZ"), 400, "bad-value")
        self.assertEqual((body["field"], body["detail"]), ("body.site", "There is no site 'XYZ'."))
        self.move_agent("QUA", "http://127.0.0.1:9")
        body = self.problem(self.choose("QUA"), 409, "site-unreachable")
        self.assertIn("QUA was not made the witness", body["detail"])
        with mock.patch.object(standbys, "are_expected", lambda: False):
            self.assertIn("replication_port", self.problem(self.choose(), 400, "bad-value")["remedy"])
        with mock.patch.object(witness, "SINCE", (1, 999)):
            self.assertIn("leases came with", self.problem(self.choose(), 400, "bad-value")["detail"])
        self.assertEqual(self.stands()["witness"], "")
        self.assertEqual(self.choose().json()["witness"], "NOR")
        self.assertEqual((self.stands()["withheld"], self.stands()["trouble"]), ("", ""))
        self.assertEqual(AuditEntry.objects.latest("pk").did, "Made NOR the witness")
        self.assertNotIn("Nothing is conducted: the lease is over", self.titles())

    def test_while_it_does_not_renew_all_goes_on_until_the_lease_is_over_and_then_nothing_is_asked_for(
        self,
    ) -> None:
        self.choose()
        known = self.move_agent("NOR", "http://127.0.0.1:9")
        witness.renew()
        self.assertIn("No connection", self.stands()["trouble"])
        self.assertIn("NOR does not renew the lease", self.titles())
        lease.check()
        self.pass_s(lease.FOR_S - lease.EARLIER_S)
        self.assertIn("Nothing is conducted: the lease is over", self.titles())
        self.assertIn("its lease at the witness NOR. No connection", self.stands()["withheld"])
        with self.assertRaises(SiteBusy):
            lease.check()
        self.asks_for_nothing()
        # It comes back; the number of renewals went on, so that nothing is taken for missing.
        self.move_agent("NOR", known)
        witness.renew()
        lease.check()
        self.assertEqual((self.stands()["withheld"], self.stands()["trouble"]), ("", ""))

    def asks_for_nothing(self) -> None:
        """Neither for a run nor beside runs, nor of name servers; it waits, and has not failed."""
        operation = Operation(key="k", verb="leak-check", subject="x", run="x", args={"mark": "x"}, pace=1.0)
        for client in (delivery.RecordedSite("HIL"), delivery.RecordedNames()):
            # On the connection of the test.
            with (
                mock.patch.object(delivery, "reachable", lambda question: question),
                self.assertRaisesRegex(SiteBusy, "Maestoso asks for nothing"),
            ):
                async_to_sync(client.put_operation)(operation, 1)
        site = Site.objects.get(code="HIL")
        waits = ask_for(site, "pause-copying", "booking-app", {"because": "a storm"}, by="ann", insists=True)
        with self.assertRaises(SiteBusy):
            deliver(waits)
        waits.refresh_from_db()
        self.assertEqual(waits.status, "waiting")
        self.assertIn("Maestoso asks for nothing", waits.reason)
        withdraw(waits)

    def test_somebody_goes_on_without_it(self) -> None:
        self.choose()
        self.move_agent("NOR", "http://127.0.0.1:9")
        self.pass_s(lease.FOR_S)
        self.assertTrue(lease.withheld())
        self.assertEqual(self.browser.send("DELETE", "/standbys/witness").json()["withheld"], "")
        self.assertEqual(AuditEntry.objects.latest("pk").did, "Went on without a witness")
        renewals = Reign.objects.get().renewals
        witness.renew()
        self.assertEqual(Reign.objects.get().renewals, renewals)
        lease.check()

    def test_once_another_conducts_the_witness_says_so_and_this_one_is_past(self) -> None:
        self.choose()
        site = Site.objects.get(code="NOR")
        self.pass_s(lease.FOR_S + 1)
        witness._ask_for(site, 5, 1, if_over=True)
        witness.renew()
        self.assertIn("was promised to whoever takes over", self.stands()["withheld"])
        self.assertEqual(services.past_because(), "")
        witness._ask_for(site, 5, 2)
        witness.renew()
        self.assertIn("Reign 5 holds the lease here", services.past_because())
        self.assertIn("This Maestoso conducts nothing any more", self.titles())

    def test_a_takeover_begins_without_the_lease_of_the_one_before(self) -> None:
        self.choose()
        services.begin("Take over", "")
        services.number.cache_clear()
        lease._sure_until = 0.0
        self.assertTrue(lease.withheld())
        # That one may still believe that it holds it.
        witness.renew()
        self.assertIn("is held by whoever conducts", lease.withheld())
        self.pass_s(lease.FOR_S)
        witness.renew()
        self.assertEqual(lease.withheld(), "")

    def test_a_version_that_cannot_be_read_has_no_leases(self) -> None:
        for said, has in (
            ("1.4", True),
            ("2.0", True),
            ("1.3", False),
            ("", False),
            ("new", False),
            ("1.x", False),
        ):
            self.assertEqual(witness._speaks(said), has, said)


class AtItsStandby(WithSites):
    """The same records, as they would be there."""

    def setUp(self) -> None:
        super().setUp()
        self.choose()
        witness.renew()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.var = Path(folder.name)
        write_standby(
            self.var,
            Standby(
                host="m.tidewell.example", port=8475, since="2026-11-01T10:00:00+00:00", position="0-1-9"
            ),
        )
        own = mock.Mock(var=self.var)
        for patched in (
            mock.patch.object(following, "OPTIONS", own), mock.patch.object(witness, "OPTIONS", own),
            mock.patch.object(following.settings, "IS_STANDBY", True), mock.patch.object(witness, "HOLDER", "standby"),
        ):  # fmt: skip
            patched.start()
            self.addCleanup(patched.stop)
        self.hear(HEARS_NOTHING)

    def hear(self, asks: str) -> None:
        """What its database says of the line to the primary."""
        patched = mock.patch.object(following, "ASKS", asks)
        patched.start()
        self.addCleanup(patched.stop)

    def kept(self) -> Standby:
        """What is written down of it."""
        found = read_standby(self.var)
        assert found is not None
        return found

    def test_it_takes_over_once_the_lease_is_over_and_it_hears_nothing(self) -> None:
        self.assertIn("is held by whoever conducts, for another", witness.look())
        self.assertFalse(self.kept().taking_over)
        said = following.takeover()
        self.assertEqual(said.witness, "NOR")
        self.assertIn("is held by whoever conducts", said.witness_said)
        self.pass_s(lease.FOR_S + 1)
        self.hear(HEARS_IT)
        self.assertEqual(witness.look(), "")
        self.assertFalse(self.kept().taking_over)
        self.hear(HEARS_NOTHING)
        self.assertEqual(witness.look(), "It gives the lease to this one.")
        self.assertEqual((self.kept().taking_over, self.kept().witness, self.kept().by), (True, "NOR", ""))
        # While that goes on nobody else gets it.
        self.pass_s(lease.FOR_S - 1)
        witness.look()
        self.pass_s(lease.FOR_S - 1)
        with mock.patch.object(witness, "HOLDER", "another"):
            self.assertIn("was promised to whoever takes over", witness.look())

    def test_one_that_died_over_its_takeover_holds_another_up_until_its_promise_is_over(self) -> None:
        self.pass_s(lease.FOR_S + 1)
        witness._ask_for(Site.objects.get(code="NOR"), witness._above(), 2, if_over=True)
        with mock.patch.object(witness, "HOLDER", "another"):
            self.assertIn("was promised to whoever takes over", witness.look())
            self.pass_s(lease.FOR_S + 1)
            with mock.patch.object(witness, "_above", return_value=witness._above() + 1):
                self.assertEqual(witness.look(), "It gives the lease to this one.")

    def test_with_records_that_lack_something_it_does_not(self) -> None:
        Reign.objects.update(renewals=0)
        self.pass_s(lease.FOR_S + 1)
        self.assertIn("something is missing there", witness.look())
        self.assertFalse(self.kept().taking_over)

    def test_where_somebody_has_it_take_over_or_nobody_is_the_witness_it_asks_nobody(self) -> None:
        self.pass_s(lease.FOR_S + 1)
        write_standby(self.var, replace(self.kept(), taking_over=True, by="ann"))
        self.assertEqual(witness.look(), "")
        self.assertEqual(self.kept().by, "ann")
        write_standby(self.var, replace(self.kept(), taking_over=False, by=""))
        Reign.objects.update(witness="")
        self.assertEqual(witness.look(), "")
        Reign.objects.update(witness="XYZ")
        self.assertIn("There is no site 'XYZ'", witness.look())
        self.assertFalse(self.kept().taking_over)

    def test_what_it_proposes_is_above_what_it_knows_and_not_above_what_it_begins(self) -> None:
        proposed = witness._above()
        self.assertGreater(proposed, Reign.objects.get().number)
        self.assertGreaterEqual(services.begin("Take over", ""), proposed)
