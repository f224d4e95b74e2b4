"""What sites said just now is remembered; nobody waits twice for one that takes long to say it."""

from __future__ import annotations

import threading
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest import mock

from django.core.cache import cache
from django.test import SimpleTestCase, TestCase

from maestoso.core.errors import Refused
from maestoso.core.ports import SiteBusy, SiteUnreachable
from maestoso.engine.clock import SystemClock
from maestoso.server.common.secret_text import seal
from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.sites.contract import SitePulse
from tests.server.answers import answering

NOW = datetime(2026, 5, 4, 12, 0, tzinfo=UTC)


class Pulses(SimpleTestCase):
    """One site, whose answers are made up."""

    def setUp(self) -> None:
        cache.clear()
        self.addCleanup(cache.clear)
        self.site = Site(pk=1, code="HIL", agent_url="http://127.0.0.1:1")
        self.asked = 0
        self.may_answer = threading.Event()
        self.may_answer.set()
        self.silent = self.busy = False
        self.takes_s = 0.0
        self.now: datetime | None = None
        for name, value in (("ask", self.answer), ("REMEMBER_S", 1000)):
            patched = mock.patch.object(agents, name, value)
            patched.start()
            self.addCleanup(patched.stop)

    def answer(self, site: Site, question: Any, patience_s: float) -> SitePulse:
        """What the site says: it counts how often it was asked."""
        self.may_answer.wait(30)
        self.asked += 1
        if self.takes_s > patience_s:
            raise agents.SiteSlow(f"No answer within {patience_s:.0f} s.")
        if self.silent:
            raise SiteUnreachable("No answer.")
        if self.busy:
            raise SiteBusy(30)
        now = self.now or SystemClock().now()
        return SitePulse(protocol="1.2", now=now, inventory=f"m{self.asked}", groups=(), links=())

    def expire(self) -> None:
        """Its time is over, as it is remembered."""
        cache.delete(agents._pulse_key(self.site))

    def said(self) -> str:
        """The mark of the inventory that is shown."""
        taken = agents.pulse(self.site)
        return taken.said.inventory if taken.said else str(taken.lost_because)

    def test_it_is_asked_once_while_it_is_remembered(self) -> None:
        self.assertEqual([self.said(), self.said()], ["m1", "m1"])

    def test_what_a_site_said_before_it_was_busy_stands_for_a_while(self) -> None:
        self.busy = True
        self.assertIn("asked again in 30 s", self.said())
        self.expire()
        self.busy = False
        self.assertEqual(self.said(), "m2")
        self.expire()
        self.busy = True
        self.assertEqual(self.said(), "m2")
        agents.forget_pulse(self.site)
        self.assertIn("asked again in 30 s", self.said())

    def test_who_answered_last_time_is_not_lost_for_being_slow(self) -> None:
        self.takes_s = 10.0
        self.assertEqual(self.said(), "No answer within 2 s.")
        self.takes_s = 0.0
        self.expire()
        self.assertEqual(self.said(), "m2")
        # Nobody waits for it who can be told what it said before.
        self.takes_s = 10.0
        self.expire()
        self.assertEqual(self.said(), "m2")
        self.until_asked(4)
        self.expire()
        self.assertEqual(self.said(), "m4")
        self.until_asked(6)
        # As a run that starts does it: it has to know how things are now.
        agents.forget_pulse(self.site)
        self.assertEqual((self.said(), self.asked), ("m8", 8))

    def test_who_says_nothing_for_long_is_lost(self) -> None:
        self.assertEqual(self.said(), "m1")
        self.takes_s = 20.0
        self.expire()
        # For five seconds what it said before stands; a run misses a site after the same time.
        self.assertEqual(self.said(), "m1")
        self.until_asked(3)
        later = mock.Mock(now=lambda: SystemClock().now() + timedelta(seconds=agents.STANDS_S))
        with mock.patch.object(agents, "CLOCK", later):
            self.expire()
            self.assertEqual(self.said(), "No answer within 2 s.")
        agents.forget_pulse(self.site)
        self.assertEqual(self.said(), "No answer within 2 s.", "nobody waits for that again")

    def test_the_clock_of_a_slow_one_is_not_wrong_by_the_time_that_it_took(self) -> None:
        for ahead_s, took_s, skew_s in ((-9, 10, 0), (0, 10, 0), (3, 10, 3), (-14, 10, -4), (-14, 0, -14)):
            with (
                self.subTest(ahead_s=ahead_s, took_s=took_s),
                mock.patch.object(agents, "CLOCK", mock.Mock(now=lambda: NOW)),
                mock.patch.object(
                    agents, "time", mock.Mock(**{"monotonic.side_effect": [0, took_s, took_s]})
                ),
            ):
                self.now = NOW + timedelta(seconds=ahead_s)
                cache.clear()
                taken = agents.pulse(self.site)
                self.assertEqual((taken.heard, taken.skew_s), (NOW, skew_s))

    def test_nobody_is_told_to_bring_back_what_is_only_slow(self) -> None:
        for error, remedy in (
            (agents.SiteSlow("No answer within 2 s."), "try again in a moment"),
            (SiteUnreachable("Connection refused."), "Bring its site agent back"),
        ):
            with self.assertRaises(Refused) as refused, agents.needed("Hilltop did not do it"):
                raise error
            self.assertIn(remedy, refused.exception.remedy)

    def test_a_quick_site_is_asked_again_by_who_wants_to_know(self) -> None:
        self.said()
        self.expire()
        self.assertEqual(self.said(), "m2")

    def test_a_slow_one_is_asked_anew_while_what_it_said_before_is_shown(self) -> None:
        with mock.patch.object(agents, "LARGE_S", -1.0):
            self.said()
            self.expire()
            self.may_answer.clear()
            # Nobody waits, and it is asked once for all who want to know.
            self.assertEqual([self.said() for _ in range(5)], ["m1"] * 5)
            self.may_answer.set()
            self.until("m2")
        self.assertEqual(self.asked, 2)

    def test_that_a_slow_one_is_lost_is_known_as_soon_as_it_was_asked_anew(self) -> None:
        with mock.patch.object(agents, "LARGE_S", -1.0):
            self.said()
            self.silent = True
            self.expire()
            self.assertEqual(self.said(), "m1")
            self.until("No answer.")

    def test_what_was_changed_there_is_not_hidden_by_what_it_said_before(self) -> None:
        with mock.patch.object(agents, "LARGE_S", -1.0):
            self.said()
            agents.forget_pulse(self.site)
            self.assertEqual(self.said(), "m2")

    def until(self, said: str) -> None:
        """Wait until that is shown."""
        for _ in range(3000):
            if self.said() == said:
                return
            threading.Event().wait(0.01)
        self.fail(f"{said} was never shown, but {self.said()}")

    def until_asked(self, times: int) -> None:
        """Wait until it was asked so often, and whoever asked has said what came of it."""
        for _ in range(3000):
            beside = [one for one in threading.enumerate() if one.name.startswith("pulse-")]
            if self.asked >= times and not beside:
                return
            threading.Event().wait(0.01)
        self.fail(f"It was asked {self.asked} times.")


class TakesItsTime(TestCase):
    """An agent over a real line."""

    def test_whoever_asks_says_how_long_that_waits_and_not_the_line(self) -> None:
        url = answering(self, 200, b'{"protocol": "1.4"}', after_s=0.5)
        site = Site(code="HIL", agent_url=url, agent_token=seal("t"))
        with mock.patch("maestoso.sites.client.ANSWER_S", 0.1):
            with self.assertRaises(agents.SiteSlow):
                agents.ask(site, lambda agent: agent.capabilities(), 0.2)
            self.assertEqual(agents.ask(site, lambda agent: agent.capabilities(), 60.0)["protocol"], "1.4")


class Remembered(SimpleTestCase):
    """What is remembered is the whole process's, not that of the request that remembers it."""

    def test_what_one_request_remembers_another_knows(self) -> None:
        self.addCleanup(cache.clear)
        # Every request has a thread of its own, and Django makes a cache for each.
        one = threading.Thread(target=lambda: cache.set("of-another-request", 1))
        one.start()
        one.join()
        self.assertEqual(cache.get("of-another-request"), 1)
