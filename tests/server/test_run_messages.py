"""A run begins, waits for somebody, and ends: who hears of it, and who in turn when nobody looks."""

from __future__ import annotations

from collections.abc import Iterable

from django.contrib.auth.models import User

from maestoso.server.messages.models import WAITING, Message, OpenMatter, Preference
from maestoso.server.runs.models import Run
from tests.server.people import make_person
from tests.server.test_messages import Told
from tests.server.tidewell import PASSWORD, Browser


class Runs(Told):
    """A run begins, waits for somebody, and ends: one conversation."""

    def start(self, tell: Iterable[str] = ("ben",)) -> int:
        """A test of a plan, which nobody conducts."""
        body = {"plan": "HARB", "options": {"pace": 20, "tell": list(tell)}}
        return self.browser.send("POST", "/runs", body, **{"Idempotency-Key": "k"}).json()["id"]

    def subjects(self, name: str) -> list[str]:
        """What somebody got."""
        return [str(one["Subject"]) for one in self.mail.letters if str(one["To"]).startswith(name)]

    def test_who_started_it_and_who_is_named_hear_of_it_whatever_they_chose(self) -> None:
        User.objects.filter(username="ben").update(email="ben@tidewell.example")
        for name in ("ann", "ben"):
            Preference.objects.create(user=User.objects.get(username=name), topics=[])
        run = self.start()
        self.board()
        self.bring()
        self.browser.send("POST", f"/runs/{run}/controls", {"kind": "hold", "text": "wait for the tide"})
        self.board()
        self.board()
        self.bring()
        Run.objects.filter(pk=run).update(outcome="aborted")
        self.board()
        self.bring()
        said = [
            "Harbour core first: a test run began", "Harbour core first needs somebody: The run is held",
            "Harbour core first: the test run ended, aborted",
        ]  # fmt: skip
        self.assertEqual((self.subjects("ann"), self.subjects("ben")), (said, said))
        self.assertEqual(len({str(one["References"]) for one in self.mail.letters}), 1)
        text = next(self.mail.letters[2].iter_parts()).get_content()  # type: ignore[attr-defined]
        self.assertIn("wait for the tide", text)
        self.assertIn(f"/runs/{run}", text)

    def test_a_hold_that_nobody_looks_at_reaches_three_people_in_order(self) -> None:
        for name in ("cyd", "dan"):
            make_person(name, PASSWORD, roles=("conductor",) if name == "dan" else ("viewer",))
        for name in ("ben", "cyd", "dan"):
            User.objects.filter(username=name).update(email=f"{name}@tidewell.example")
            Preference.objects.create(
                user=User.objects.get(username=name), topics=[], quiet_from="00:00", quiet_to="23:59"
            )
        steps = [
            {"after_minutes": 10, "who": ["ben"]},
            {"after_minutes": 20, "who": ["cyd"]},
            {"after_minutes": 30, "who": ["role:conductor"]},
        ]
        reply = self.browser.send("PUT", "/messages/escalation", {"steps": steps})
        self.assertEqual(reply.json()["escalation"], steps)
        run = self.start(tell=[])
        self.browser.send("POST", f"/runs/{run}/controls", {"kind": "hold"})
        self.board()
        told: list[list[str]] = []
        for _ in range(4):
            self.bring()
            self.mail.letters, seen = [], self.mail.letters
            told.append(sorted({str(one["To"])[:3] for one in seen}))
            self.later(minutes=10)
            self.board()
        self.assertEqual(told, [["ann"], ["ben"], ["cyd"], ["dan"]])
        self.assertIn("Nobody has looked for", str(seen[0]["Subject"]))
        self.board()
        self.assertFalse(Message.objects.filter(state=WAITING).exists())

    def test_who_looks_and_may_answer_ends_it(self) -> None:
        self.browser.send("PUT", "/messages/escalation", {"steps": [{"after_minutes": 10, "who": ["ann"]}]})
        run = self.start()
        self.browser.send("POST", f"/runs/{run}/controls", {"kind": "hold"})
        self.board()
        make_person("vera", PASSWORD, roles=("viewer",))
        viewer = Browser()
        viewer.sign_in("vera")
        self.problem(viewer.send("POST", f"/runs/{run}/seen"), 403, "not-permitted")
        self.assertEqual(self.browser.send("POST", f"/runs/{run}/seen").status_code, 204)
        self.bring()
        self.later(hours=1)
        self.board()
        self.assertFalse(Message.objects.filter(state=WAITING).exists())
        self.assertEqual(OpenMatter.objects.get(key__startswith="run-needs").seen_by, "ann")

    def test_steps_that_cannot_be_gone_through_are_refused(self) -> None:
        for steps in (
            [{"after_minutes": 0, "who": ["ann"]}], [{"after_minutes": 5, "who": []}], [{"after_minutes": 5, "who": ["nobody"]}],
            [{"after_minutes": 5, "who": ["ann"]}, {"after_minutes": 5, "who": ["ben"]}], [{"after_minutes": n, "who": ["ann"]} for n in range(1, 7)],
        ):  # fmt: skip
            body = self.problem(
                self.browser.send("PUT", "/messages/escalation", {"steps": steps}), 400, "bad-value"
            )
            self.assertEqual(body["field"], "steps")

    def test_a_run_that_began_and_ended_between_two_looks_is_told_of(self) -> None:
        run = self.start()
        Run.objects.filter(pk=run).update(outcome="passed")
        self.board()
        self.board()
        self.bring()
        self.assertEqual(self.subjects("ann"), ["Harbour core first: a test run began and 1 more"])


if __name__ == "__main__":
    import unittest

    unittest.main()
