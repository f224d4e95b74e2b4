"""Declared outages: told to people, led to the start page, and nothing started."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

from maestoso.engine.clock import SystemClock
from maestoso.server.board.readiness import readiness
from maestoso.server.declared.models import DeclaredOutage
from maestoso.server.estate.models import Site
from maestoso.server.estate.snapshot import mark_changed
from maestoso.server.protection.models import GroupRow
from maestoso.server.runs.models import Run
from tests.server.people import make_person
from tests.server.test_scopes import Scoped
from tests.server.tidewell import PASSWORD, Browser, Tidewell

SEEN = "The booking page has not answered from three places for two minutes."


class Declared(Tidewell):
    def say(self, status: int = 201, **sent: Any) -> Any:
        """Declare something."""
        reply = self.browser.send("POST", "/declare", {"reason": SEEN, **sent})
        self.assertEqual(reply.status_code, status, reply.content)
        return reply.json()

    def test_a_site_is_said_to_be_down_and_the_right_page_is_offered_prefilled(self) -> None:
        since = SystemClock().now() - timedelta(minutes=7)
        runs = Run.objects.count()
        said = self.say(site="QUA", since=since.isoformat())
        self.assertEqual((said["plan"], said["site_name"], said["by"]), ("ALL", "Quayside", "ann"))
        page = urlsplit(said["to"])
        self.assertEqual(page.path, "/plans/ALL/start")
        asked = parse_qs(page.query)
        self.assertEqual(asked["kind"], ["disaster"])
        self.assertEqual(datetime.fromisoformat(asked["since"][0]), since.replace(microsecond=0))
        action = next(one for one in readiness(SystemClock().now()).actions if one.code == "outage-declared")
        self.assertEqual((action.urgency, action.to), ("now", said["to"]))
        self.assertIn("Quayside is said to be down since", action.title)
        self.assertIn(f"ann says: {SEEN} To us it answers. Nothing was started.", action.sentence)
        self.assertEqual(Run.objects.count(), runs)

    def test_said_again_it_is_the_same_until_it_is_withdrawn(self) -> None:
        first = self.say(site="QUA")
        again = self.say(200, plan="BOOK", reason="Still so.")
        self.assertEqual(
            (again["id"], again["since"], again["reason"]), (first["id"], first["since"], "Still so.")
        )
        make_person("night", PASSWORD, ["operator"])
        other = Browser()
        other.sign_in("night")
        said = other.send("POST", "/declare", {"site": "QUA", "reason": "No light in the hall."}).json()
        self.assertEqual(
            (said["id"], said["by"], said["reason"]), (first["id"], "night", "No light in the hall.")
        )
        self.assertEqual(len(self.browser.get("/api/v1/declared").json()), 1)
        ended = self.browser.send("DELETE", f"/declared/{first['id']}").json()
        self.assertEqual((ended["ended_by"], self.browser.get("/api/v1/declared").json()), ("ann", []))
        self.assertFalse(
            [one for one in readiness(SystemClock().now()).actions if one.code == "outage-declared"]
        )
        self.assertNotEqual(self.say(site="QUA")["id"], first["id"])
        self.assertEqual(self.browser.send("DELETE", "/declared/999").status_code, 404)

    def test_of_a_plan_that_runs_away_from_home_the_other_site_is_meant(self) -> None:
        sites = {site.code: site for site in Site.objects.all()}
        GroupRow.objects.filter(code="reporting").update(source=sites["NOR"], target=sites["HIL"])
        mark_changed()
        self.assertEqual(self.say(plan="REPT")["site"], "NOR")
        self.assertEqual(self.say(200, site="NOR")["plan"], "REPT")
        self.say(409, site="HIL")

    def test_a_recovery_that_began_says_the_rest_itself(self) -> None:
        said = self.say(site="QUA")
        row = DeclaredOutage.objects.get(pk=said["id"])
        Run.objects.create(
            plan_code="ALL", plan_name="Everything", plan_version=1, kind="disaster", source="QUA", target="HIL",
            started_by="ann", started_at=row.said_at + timedelta(minutes=1), last_seq=1, outcome="committed", rto_objective_s=3600,
        )  # fmt: skip
        self.assertFalse(
            [one for one in readiness(SystemClock().now()).actions if one.code == "outage-declared"]
        )

    def test_what_cannot_be_is_refused_by_its_field(self) -> None:
        now = SystemClock().now()
        for sent, status, field in (
            ({"site": "QUA", "plan": "BOOK"}, 400, "body.site"),
            ({}, 400, "body.site"),
            ({"site": "QUA", "reason": "  "}, 400, "body.reason"),
            ({"site": "QUA", "reason": "x" * 501}, 400, "body.reason"),
            ({"site": "QUA", "since": (now + timedelta(hours=1)).isoformat()}, 400, "body.since"),
            ({"site": "QUA", "since": (now - timedelta(days=40)).isoformat()}, 400, "body.since"),
            ({"site": "XXX"}, 404, None),
            ({"plan": "NOPE"}, 404, None),
            ({"site": "NOR"}, 409, None),
        ):
            self.assertEqual(self.say(status, **sent).get("field"), field, sent)
        self.assertFalse(DeclaredOutage.objects.exists())

    def test_a_monitor_needs_one_permission_and_no_other(self) -> None:
        make_person("watcher", PASSWORD, ["viewer"])
        viewer = Browser()
        viewer.sign_in("watcher")
        refused = viewer.send("POST", "/declare", {"site": "QUA", "reason": SEEN})
        self.assertEqual(refused.status_code, 403)
        make_person("ops", PASSWORD, ["operator"])
        operator = Browser()
        operator.sign_in("ops")
        self.assertEqual(operator.send("POST", "/declare", {"site": "QUA", "reason": SEEN}).status_code, 201)


class Narrowed(Scoped):
    """Sam has every right for the plan REPT and nothing else."""

    def test_who_has_a_plan_speaks_of_it_alone(self) -> None:
        self.assertEqual(self.sam.send("POST", "/declare", {"plan": "REPT", "reason": SEEN}).status_code, 201)
        for other in ({"plan": "BOOK"}, {"site": "QUA"}, {"site": "HIL"}):
            self.assertEqual(self.sam.send("POST", "/declare", {**other, "reason": SEEN}).status_code, 404)
        theirs = self.browser.send("POST", "/declare", {"site": "QUA", "reason": SEEN}).json()
        (seen,) = self.sam.get("/api/v1/declared").json()
        self.assertEqual(seen["plan"], "REPT")
        self.assertEqual(self.sam.send("DELETE", f"/declared/{theirs['id']}").status_code, 404)
        self.assertEqual(self.sam.send("DELETE", f"/declared/{seen['id']}").status_code, 200)
