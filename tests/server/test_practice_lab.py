"""The practice lab: what is broken is said, and put right."""

from __future__ import annotations

from typing import Any

from maestoso.server.estate import agents
from maestoso.server.estate.models import Site
from maestoso.sites.contract import PROTOCOL
from tests.server.tidewell import Tidewell


class PracticeLab(Tidewell):
    def break_it(self, **body: Any) -> Any:
        """Break something at Hilltop."""
        return self.browser.send("POST", "/practice-lab", {"site": "HIL", **body})

    def tearDown(self) -> None:
        self.browser.send("DELETE", "/practice-lab", None)
        super().tearDown()

    def said(self, reply: Any, code: str = "HIL") -> list[str]:
        """What is broken at a site, in words."""
        return next(list(site["sentences"]) for site in reply.json()["sites"] if site["code"] == code)

    def test_what_is_broken_is_said_and_put_right(self) -> None:
        reply = self.break_it(preset="boot-hangs", subject="db-book-01")
        self.assertEqual(self.said(reply), ["A boot hangs (db-book-01*), once."])
        self.assertEqual(self.said(self.break_it(preset="clock-skew"))[0], "Its clock is 60 s ahead.")
        self.assertIn("Its agent is of an older release.", self.said(self.break_it(preset="old-agent")))
        pulse = agents.pulse(Site.objects.get(code="HIL"))
        self.assertEqual(pulse.said.protocol if pulse.said else "", "1.0")
        self.assertEqual(self.said(self.browser.send("DELETE", "/practice-lab", None)), [])
        pulse = agents.pulse(Site.objects.get(code="HIL"))
        self.assertEqual(pulse.said.protocol if pulse.said else "", PROTOCOL)

    def test_a_site_that_is_down_does_not_answer_until_all_is_put_right(self) -> None:
        self.assertEqual(self.said(self.break_it(preset="site-down")), ["The whole site is down."])
        lost = {
            s["code"]: s["lost_because"] for s in self.browser.get("/api/v1/site-line").json()["stations"]
        }
        self.assertTrue(lost["HIL"])
        self.assertIsNone(lost["QUA"])
        self.browser.send("DELETE", "/practice-lab", None)
        lost = {
            s["code"]: s["lost_because"] for s in self.browser.get("/api/v1/site-line").json()["stations"]
        }
        self.assertIsNone(lost["HIL"])

    def test_bad_input_names_its_field(self) -> None:
        cases = [
            ({"preset": "earthquake"}, 400, "body.preset"),
            ({"preset": "boot-hangs", "subject": "nobody"}, 400, "body.subject"),
            ({"preset": "link-cut", "subject": "MOON"}, 400, "body.subject"),
            ({"preset": "boot-hangs", "times": -1}, 400, "body.times"),
            ({"preset": "link-slow", "subject": "QUA", "factor": 0.5}, 400, "body.factor"),
            ({"preset": "boot-hangs", "at_verb": "promote"}, 400, "body.at_verb"),
            ({"preset": "site-down", "site": "MOON"}, 404, "body.site"),
        ]
        for body, status, field in cases:
            with self.subTest(body=body):
                reply = self.break_it(**body)
                self.assertEqual((reply.status_code, reply.json()["field"]), (status, field))
        self.assertEqual(self.said(self.browser.get("/api/v1/practice-lab")), [])

    def test_a_machine_is_killed_and_stays_down(self) -> None:
        site = Site.objects.get(code="QUA")
        running = agents.pulse(site).said
        self.assertEqual(
            self.break_it(site="QUA", preset="machine-killed", subject="web-01").status_code, 200
        )
        self.assertIn("web-01", agents.ask(site, lambda agent: agent.pulse()).off)
        assert running is not None
        self.assertNotIn("web-01", running.off)
        again = self.break_it(site="QUA", preset="machine-killed", subject="web-01")
        self.assertEqual((again.status_code, again.json()["code"]), (409, "powered-off"))
        whose = self.break_it(site="QUA", preset="machine-killed")
        self.assertEqual((whose.status_code, whose.json()["field"]), (400, "body.subject"))

    def test_of_a_real_site_only_machines_are_killed_and_only_where_its_agent_does_that(self) -> None:
        Site.objects.filter(code="QUA").update(practice=False)
        (real,) = [
            one for one in self.browser.get("/api/v1/practice-lab").json()["sites"] if one["code"] == "QUA"
        ]
        self.assertEqual((real["practice"], real["presets"]), (False, ["machine-killed"]))
        self.assertEqual((real["broken"], real["sentences"]), (None, []))
        other = self.break_it(site="QUA", preset="site-down")
        self.assertEqual((other.status_code, other.json()["field"]), (409, "body.preset"))
        self.assertEqual(
            self.break_it(site="QUA", preset="machine-killed", subject="db-book-01").status_code, 200
        )
        self.browser.send("DELETE", "/practice-lab", None)  # of no concern to it
        site = Site.objects.get(code="QUA")
        self.assertIn("db-book-01", agents.ask(site, lambda agent: agent.pulse()).off)
        site.verbs = [verb for verb in site.verbs or () if verb != "kill-machine"]
        site.save(update_fields=["verbs"])
        none = self.break_it(site="QUA", preset="machine-killed", subject="web-02")
        self.assertEqual((none.status_code, none.json()["field"]), (409, "body.site"))
        self.assertNotIn(
            "QUA", [one["code"] for one in self.browser.get("/api/v1/practice-lab").json()["sites"]]
        )

    def test_a_fault_script_is_set_whole_or_not_at_all(self) -> None:
        good = "{site: HIL, preset: promote-refused, subject: harbour}"
        for bad in (
            "faults: [",
            "[" * 2000,
            "drill: &a [1]\nfaults: *a",
            "drill: x\nfaults: 7",
            f"drill: x\nfaults:\n  - {good}\n  - {{site: HIL, preset: no}}",
        ):
            with self.subTest(bad=bad):
                reply = self.browser.send("POST", "/practice-lab/fault-script", {"text": bad})
                self.assertEqual(reply.status_code, 400)
        self.assertEqual(self.said(self.browser.get("/api/v1/practice-lab")), [])
        text = f"drill: A hard morning\nfaults:\n  - {good}\n  - {{site: QUA, preset: site-down, at_verb: fence}}\n"
        reply = self.browser.send("POST", "/practice-lab/fault-script", {"text": text})
        self.assertEqual(self.said(reply), ["Promoting is refused (harbour), once."])
        self.assertIn("The site goes down when it is asked for fence", self.said(reply, "QUA")[0])
