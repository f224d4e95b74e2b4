"""What is new becomes messages, which real receivers get: by mail and as signed events."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import re
import socket
import tempfile
import threading
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from unittest import mock

from django.contrib.auth.models import User

from maestoso.core.messages import TOPICS, topic_of
from maestoso.engine.clock import SystemClock
from maestoso.real_lab import certificate
from maestoso.server.access import views
from maestoso.server.access.models import RoleGrant
from maestoso.server.approvals.models import ApprovalRequest
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.stored import refresh_board
from maestoso.server.config.options import ROOT
from maestoso.server.config.settings import OPTIONS
from maestoso.server.drills.models import DrillRow
from maestoso.server.messages import channels, deliver, links, notice, services, targets
from maestoso.server.messages.models import GIVEN_UP, SENT, WAITING, Message, OpenMatter, Preference, Webhook
from tests.e2e.application import until
from tests.receivers import MailServer, Program
from tests.server.people import make_person
from tests.server.tidewell import PASSWORD, Browser, Tidewell

LOST = {
    "code": "site-lost", "about": "QUA", "urgency": "now", "title": "Quayside does not answer", "label": "See",
    "sentence": "10.20.3.4 does not answer.", "to": "/runs",
}  # fmt: skip
LAGS = LOST | {
    "code": "group-trouble", "about": "fleet", "urgency": "soon", "title": "Fleet fell behind",
    "sentence": "The last point is old.", "to": "/protection/fleet",
}  # fmt: skip


class At:
    """A clock that is set by hand."""

    def __init__(self) -> None:
        self.moment = datetime(2026, 11, 3, 12, 0, tzinfo=UTC)

    def now(self) -> datetime:
        """The moment that it stands at."""
        return self.moment


class Told(Tidewell):
    """With a mail server, and Ann who has a mail address."""

    login: tuple[str, str] | None = None

    def setUp(self) -> None:
        super().setUp()
        self.mail = MailServer(self.login)
        self.addCleanup(self.mail.close)
        self.clock = At()
        self.use(mail_server=self.mail.address, mail_from="maestoso@tidewell.example", mail_security="none",
                 message_hosts="127.0.0.0/8")  # fmt: skip
        User.objects.filter(username="ann").update(email="ann@tidewell.example")
        self.board()

    def use(self, **options: Any) -> None:
        """With these settings."""
        self.options = replace(getattr(self, "options", OPTIONS), **options)
        for module in (channels, links, notice, services, targets, views):
            patched = mock.patch.object(module, "OPTIONS", self.options)
            patched.start()
            self.addCleanup(patched.stop)

    def board(self, *actions: dict[str, Any]) -> None:
        """The board says this now and half a minute later, and it is looked at."""
        for _ in range(2):
            self.look(*actions)
            self.later(seconds=30)

    def look(self, *actions: dict[str, Any]) -> None:
        """The board says this now, and it is looked at."""
        body = json.dumps({"actions": actions})
        StoredBoard.objects.update_or_create(pk=1, defaults={"made_at": self.clock.now(), "body": body})
        notice.notice(self.clock)

    def bring(self) -> None:
        """Everything that is due is brought, on the connection of the test."""
        due = Message.objects.filter(state=WAITING, not_before__lte=self.clock.now())
        for target in deliver._targets(due):
            deliver.bring(target, self.clock)

    def later(self, **span: float) -> None:
        """Time passes."""
        self.clock.moment += timedelta(**span)

    def program(self, **more: Any) -> Program:
        """One that is told of sites."""
        program = Program()
        self.addCleanup(program.close)
        sent = {"name": "pager", "url": program.url, "topics": ["sites"], **more}
        reply = self.browser.send("POST", "/webhooks", sent)
        self.assertEqual(reply.status_code, 201, reply.content)
        self.secret = reply.json()["secret"]
        notice.notice(self.clock)
        return program


class Mail(Told):
    def test_what_is_new_is_told_once_and_what_was_so_before_is_not(self) -> None:
        Message.objects.all().delete()
        notice.Noticed.objects.all().delete()
        self.board(LAGS)
        self.board(LAGS, LOST)
        self.board(LAGS | {"sentence": "older"}, LOST)
        self.bring()
        (letter,) = self.mail.letters
        self.assertEqual(
            (letter["To"], letter["From"]), ("ann@tidewell.example", "maestoso@tidewell.example")
        )
        self.assertEqual(letter["Subject"], "Quayside does not answer")
        self.assertEqual(letter["Auto-Submitted"], "auto-generated")
        text, html = (part.get_content() for part in letter.iter_parts())  # type: ignore[attr-defined]
        self.assertIn("(an address) does not answer.\nhttp", text.replace("\r\n", "\n"))
        self.assertIn("/runs", text)
        self.assertNotIn("10.20.3.4", text + html)
        self.assertIn("<b>Quayside does not answer</b>", html)
        self.board(LAGS)
        self.bring()
        self.assertEqual(self.mail.letters[1]["Subject"], "Over: Quayside does not answer")

    def test_a_site_that_was_away_for_a_moment_wakes_nobody(self) -> None:
        self.look(LOST, LAGS)
        self.later(seconds=19)
        self.look(LAGS)
        self.later(seconds=60)
        self.look(LOST)
        self.assertFalse(Message.objects.filter(parts__icontains="site-lost").exists())
        self.later(seconds=20)
        self.look(LOST)
        self.assertEqual(Message.objects.filter(parts__icontains="site-lost").count(), 1)

    def test_what_comes_together_is_one_letter_with_what_is_urgent_first(self) -> None:
        Preference.objects.create(user=User.objects.get(username="ann"), topics=["sites", "copies"])
        self.use(message_addresses=True)
        self.board(LAGS, LOST | {"code": "ran-twice"})
        self.bring()
        (letter,) = self.mail.letters
        self.assertEqual(letter["Subject"], "Quayside does not answer and 1 more")
        text = next(letter.iter_parts()).get_content()  # type: ignore[attr-defined]
        self.assertLess(text.index("10.20.3.4"), text.index("Fleet fell behind"))

    def test_people_hear_of_what_they_chose_within_their_reach_and_outside_of_quiet_hours(self) -> None:
        for name, topics, quiet in (
            ("vera", ["copies"], ("", "")),
            ("tom", ["sites"], ("11:00", "13:30")),
            ("gus", None, ("", "")),
        ):
            user = make_person(name, PASSWORD, roles=("viewer",))
            User.objects.filter(pk=user.pk).update(email=f"{name}@tidewell.example")
            Preference.objects.create(
                user=user,
                by_mail=topics is not None,
                topics=topics or [],
                quiet_from=quiet[0],
                quiet_to=quiet[1],
            )
        scoped = make_person("sid", PASSWORD, roles=("viewer",))
        User.objects.filter(pk=scoped.pk).update(email="sid@tidewell.example")
        RoleGrant.objects.filter(user=scoped).update(scope={"plans": ["BOOK"]})
        nobody = make_person("nil", PASSWORD, roles=())
        User.objects.filter(pk=nobody.pk).update(email="nil@tidewell.example")
        Preference.objects.create(user=nobody, topics=["sites", "copies"])
        self.board(
            LAGS,
            LOST | {"to": "/plans/HARB/start", "title": "Quayside\r\nBcc: x does not answer"},
            LOST | {"about": "HIL"},
        )
        found = {one.user.username: one for one in Message.objects.all() if one.user}
        self.assertEqual(set(found), {"ann", "vera", "tom"})
        self.assertEqual([one["code"] for one in found["vera"].parts], ["group-trouble"])
        # 13:30 on the clock of the organisation.
        self.assertEqual(found["tom"].not_before.astimezone(UTC).hour, 13)
        self.bring()
        self.assertEqual({str(one["To"])[:3] for one in self.mail.letters}, {"ann", "ver"})
        self.assertTrue(any("Quayside Bcc: x" in str(one["Subject"]) for one in self.mail.letters))
        self.later(hours=2)
        self.bring()
        self.assertEqual(str(self.mail.letters[-1]["To"]), "tom@tidewell.example")

    def test_what_waited_until_the_morning_is_one_letter(self) -> None:
        wanted = {"by_mail": True, "topics": ["sites", "copies"], "daily_at": "07:00"}
        self.assertEqual(self.browser.send("PUT", "/account/messages", wanted).status_code, 200)
        self.board(LAGS)
        self.board(LAGS, LAGS | {"about": "harbour", "title": "Harbour fell behind"})
        self.board(LAGS, LAGS | {"about": "harbour", "title": "Harbour fell behind"}, LOST)
        self.bring()
        self.assertEqual([str(one["Subject"]) for one in self.mail.letters], ["Quayside does not answer"])
        self.later(hours=20)
        self.bring()
        self.assertEqual(self.mail.letters[-1]["Subject"], "Fleet fell behind and 1 more")
        self.assertEqual(len(self.mail.letters), 2)
        self.assertFalse(Message.objects.exclude(state=SENT).exists())

    def test_what_was_kept_back_for_long_is_tried_for_a_day_all_the_same(self) -> None:
        wanted = {"by_mail": True, "topics": ["copies"], "daily_at": "12:00"}
        self.browser.send("PUT", "/account/messages", wanted)
        self.board(LAGS)
        self.mail.refused.add("ann@tidewell.example")
        self.later(hours=25)
        self.bring()
        self.assertEqual(Message.objects.get().state, WAITING)
        self.mail.refused.clear()
        self.later(minutes=1)
        self.bring()
        self.assertEqual(Message.objects.get().state, SENT)

    def test_a_server_that_is_away_is_tried_again_and_given_up_after_a_day(self) -> None:
        self.board(LOST)
        self.mail.refused.add("ann@tidewell.example")
        self.bring()
        row = Message.objects.get()
        self.assertEqual((row.state, row.tries), (WAITING, 1))
        self.assertIn("refused the address: 550 nobody of that name", row.said)
        self.assertGreater(row.not_before, self.clock.now() + timedelta(seconds=7))
        self.bring()
        self.later(hours=25)
        self.bring()
        row.refresh_from_db()
        self.assertEqual((row.state, row.tries), (GIVEN_UP, 2))
        self.mail.refused.clear()
        reply = self.browser.send("POST", f"/messages/{row.uid}/again")
        self.assertEqual((reply.status_code, reply.json()["state"]), (202, "waiting"))
        self.later(days=400)
        self.bring()
        row.refresh_from_db()
        self.assertEqual(
            (row.state, self.mail.letters[0]["Message-ID"]), (SENT, f"<{row.uid}@tidewell.example>")
        )
        notice.forget_old(self.clock)
        self.assertFalse(Message.objects.exists())

    def test_settings_that_cannot_be_are_said_where_it_is_tried(self) -> None:
        for options, said in (
            ({"mail_server": "nowhere"}, "not reached"),
            ({"mail_password_file": "/nowhere"}, "No such file"),
        ):
            self.use(**options)
            tried = self.browser.send("POST", "/messages/mail/try").json()
            self.assertFalse(tried["well"])
            self.assertIn(said, tried["said"])
        self.use(mail_server="")
        self.problem(self.browser.send("POST", "/messages/mail/try"), 409, "refused")


class Slow(Told):
    def test_who_does_not_answer_delays_nobody_and_is_asked_by_one_at_a_time(self) -> None:
        User.objects.filter(username="ben").update(email="ben@tidewell.example")
        self.board(LOST)
        began, go_on, brought = threading.Event(), threading.Event(), []
        slow = ("user", User.objects.get(username="ann").pk)

        def bring(target: deliver.Target, clock: Any) -> None:
            brought.append(target)
            if target == slow:
                began.set()
                go_on.wait(60)

        self.addCleanup(go_on.set)
        with mock.patch.object(deliver, "bring", bring), mock.patch.object(deliver, "connection"):
            deliver.deliver(self.clock)
            self.assertTrue(began.wait(60))
            other = ("user", User.objects.get(username="ben").pk)
            until(lambda: other in brought and other not in deliver._busy, "the other one to be told")
            deliver.deliver(self.clock)
            until(lambda: brought.count(other) == 2, "the other one to be told again")
            self.assertEqual(brought.count(slow), 1)
            go_on.set()
            until(lambda: not deliver._busy, "all to be done")


class Encrypted(Told):
    def test_a_certificate_that_nobody_vouches_for_gets_no_password(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "mail.pem"
            certificate.write(file, "mail", "127.0.0.1")
            encrypted = MailServer(pem=file)
            self.addCleanup(encrypted.close)
            self.use(mail_server=encrypted.address, mail_security="starttls")
            said = self.browser.send("POST", "/messages/mail/try").json()
            self.assertIn("certificate verify failed", said["said"])
            with mock.patch.dict("os.environ", SSL_CERT_FILE=str(file)):
                said = self.browser.send("POST", "/messages/mail/try").json()
        self.assertEqual(said, {"well": True, "said": ""})


class Login(Told):
    login = ("maestoso", "swordfish-on-deck")

    def test_the_server_wants_a_password(self) -> None:
        tried = self.browser.send("POST", "/messages/mail/try").json()
        self.assertIn("530", tried["said"])
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "password"
            file.write_text("swordfish-on-deck\n")
            self.use(mail_user="maestoso", mail_password_file=str(file))
            tried = self.browser.send("POST", "/messages/mail/try").json()
        self.assertEqual(tried, {"well": True, "said": ""})
        self.assertEqual(self.mail.letters[0]["Subject"], "Maestoso tries whether you hear it")


class Events(Told):
    def test_an_event_is_signed_and_says_what_about_what(self) -> None:
        program = self.program()
        self.board(LOST)
        self.bring()
        ((headers, body),) = program.got
        event = json.loads(body)
        row = Message.objects.get(webhook__isnull=False)
        self.assertEqual(headers["Content-Type"], channels.EVENTS)
        self.assertEqual(
            (event["specversion"], event["id"], event["type"], event["subject"]),
            ("1.0", row.uid, "maestoso.site-lost", "QUA"),
        )
        self.assertEqual(event["data"]["sentence"], "(an address) does not answer.")
        self.assertEqual((event["data"]["topic"], event["data"]["over"]), ("sites", False))
        # As a receiver checks it, by the words of the scheme.
        key = base64.b64decode(self.secret.removeprefix("whsec_"))
        signed = f"{headers['webhook-id']}.{headers['webhook-timestamp']}.".encode() + body
        expected = base64.b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()
        self.assertEqual(headers["webhook-signature"], f"v1,{expected}")
        self.assertEqual(headers["webhook-id"], row.uid)
        self.board()
        self.bring()
        self.assertEqual(json.loads(program.got[1][1])["type"], "maestoso.site-lost.over")

    def test_a_chat_room_gets_what_its_template_says(self) -> None:
        program = self.program(template='{"text": "{title} ({topic}): {link}"}')
        self.board(LOST | {"title": 'Quay "side"'})
        self.bring()
        self.assertIn('Quay "side" (a site or a link is lost', json.loads(program.got[0][1])["text"])

    def test_what_is_not_taken_comes_again_with_the_same_id_and_in_order(self) -> None:
        program = self.program()
        program.status = 500
        self.board(LOST)
        self.bring()
        program.status = 302
        program.headers = {"Location": "http://127.0.0.1:1/"}
        self.board(LOST, LOST | {"about": "HIL"})
        self.later(seconds=9)
        self.bring()
        self.later(minutes=10)
        self.bring()
        self.assertIn("302", Message.objects.filter(webhook__isnull=False).order_by("pk")[0].said)
        program.status, program.headers = 204, {}
        self.later(hours=2)
        self.bring()
        ids = [json.loads(body)["id"] for _, body in program.got]
        self.assertEqual(len(set(ids)), 2)
        self.assertEqual(ids[-1], Message.objects.order_by("-pk").filter(webhook__isnull=False)[0].uid)
        self.assertEqual(ids[-2], ids[0])
        self.assertFalse(Message.objects.filter(webhook__isnull=False).exclude(state=SENT).exists())

    def test_what_waited_comes_before_what_is_newer_and_as_soon_as_somebody_takes_it(self) -> None:
        program = self.program()
        program.status = 503
        self.board(LOST)
        self.bring()
        self.later(seconds=1)
        self.look(LOST, LOST | {"about": "HIL"})
        self.later(seconds=25)
        self.look(LOST, LOST | {"about": "HIL"})
        self.bring()
        self.later(seconds=1)
        program.status = 204
        del program.got[:]
        self.look(LOST, LOST | {"about": "HIL"}, LOST | {"about": "ISL"})
        self.later(seconds=25)
        self.look(LOST, LOST | {"about": "HIL"}, LOST | {"about": "ISL"})
        self.bring()
        heard = [json.loads(body)["subject"] for _, body in program.got]
        self.assertEqual(heard, ["QUA", "HIL", "ISL"])

    def test_one_that_it_never_takes_keeps_none_of_the_others_back(self) -> None:
        program = self.program()
        program.status_of = lambda body: 400 if json.loads(body)["subject"] == "QUA" else 204
        self.board(LOST, LOST | {"about": "HIL"})
        self.bring()
        mine = Message.objects.filter(webhook__isnull=False).order_by("pk")
        self.assertEqual([one.state for one in mine], [WAITING, SENT])
        self.assertIn("400", mine[0].said)

    def test_one_that_wants_no_more_is_switched_off(self) -> None:
        program = self.program()
        program.status = 410
        self.board(LOST)
        self.bring()
        row = Webhook.objects.get()
        self.assertEqual((row.enabled, Message.objects.get(webhook=row).state), (False, GIVEN_UP))
        self.assertIn("410", row.stopped_because)
        self.problem(
            self.browser.send("POST", f"/messages/{Message.objects.get(webhook=row).uid}/again"),
            409,
            "refused",
        )

    def test_names_that_lead_inside_get_nothing_also_a_moment_later(self) -> None:
        program = self.program()
        self.use(message_hosts="")
        inside = [(socket.AF_INET, socket.SOCK_STREAM, 6, "", ("10.0.0.7", 443))]
        with mock.patch.object(targets.socket, "getaddrinfo", return_value=inside):
            sent = {"name": "x", "url": "https://tools.example/hook", "topics": ["sites"]}
            pk = self.browser.send("POST", "/webhooks", sent).json()["webhook"]["id"]
            tried = self.browser.send("POST", f"/webhooks/{pk}/try").json()
        self.assertEqual(tried["well"], False)
        self.assertIn("tools.example is 10.0.0.7, which is inside.", tried["said"])
        self.assertEqual(program.got, [])

    def test_a_name_that_cannot_be_is_said_where_it_is_tried(self) -> None:
        sent = {"name": "x", "url": f"https://{'a' * 70}.example/", "topics": ["sites"]}
        pk = self.browser.send("POST", "/webhooks", sent).json()["webhook"]["id"]
        tried = self.browser.send("POST", f"/webhooks/{pk}/try").json()
        self.assertIn("cannot be resolved", tried["said"])

    def test_what_is_no_webhook_is_refused_by_its_field(self) -> None:
        good = {"name": "pager", "url": "https://tools.example/hook", "topics": ["sites"]}
        for wrong, field in (
            ({"name": " "}, "name"), ({"url": "ftp://x"}, "url"), ({"url": "http://tools.example/"}, "url"), ({"url": "https://a@b/"}, "url"), ({"url": "https://b\u00fccher.example/"}, "url"), ({"url": "https://a.example/\x01"}, "url"),
            ({"topics": []}, "topics"), ({"topics": ["weather"]}, "topics"), ({"template": "{nothing}"}, "template"), ({"template": "text"}, "template"),
        ):  # fmt: skip
            body = self.problem(self.browser.send("POST", "/webhooks", good | wrong), 400, "bad-value")
            self.assertEqual(body["field"], field, wrong)
        pk = self.browser.send("POST", "/webhooks", good).json()["webhook"]["id"]
        self.problem(self.browser.send("POST", "/webhooks", good), 400, "bad-value")
        changed = self.browser.send("PUT", f"/webhooks/{pk}", good | {"enabled": False}).json()
        self.assertFalse(changed["enabled"])
        shown = self.browser.get("/api/v1/messages").json()
        self.assertEqual([one["name"] for one in shown["webhooks"]], ["pager"])
        self.assertNotIn("secret", json.dumps(shown["webhooks"]))
        self.assertEqual(self.browser.send("DELETE", f"/webhooks/{pk}").status_code, 204)
        self.problem(self.browser.send("DELETE", f"/webhooks/{pk}"), 404, "not-found")


class Chosen(Told):
    def test_one_chooses_what_to_be_told(self) -> None:
        mine = self.browser.get("/api/v1/account/messages").json()
        self.assertEqual((mine["nothing_because"], mine["mail"]), ("", "ann@tidewell.example"))
        wanted = {
            "by_mail": True,
            "topics": ["sites", "needs"],
            "quiet_from": "22:00",
            "quiet_to": "06:00",
            "daily_at": "07:00",
        }
        self.assertEqual(self.browser.send("PUT", "/account/messages", wanted).json()["preference"], wanted)
        body = self.problem(
            self.browser.send("PUT", "/account/messages", wanted | {"quiet_to": "6"}), 400, "bad-value"
        )
        self.assertEqual(body["field"], "quiet_to")
        body = self.problem(
            self.browser.send("PUT", "/account/messages", wanted | {"topics": ["x"]}), 400, "bad-value"
        )
        self.assertEqual(body["field"], "topics")
        viewer = Browser()
        make_person("vera", PASSWORD, roles=("viewer",))
        viewer.sign_in("vera")
        self.assertIn("no mail address", viewer.get("/api/v1/account/messages").json()["nothing_because"])
        self.problem(viewer.get("/api/v1/messages"), 403, "not-permitted")

    def test_only_who_may_approve_hears_of_approvals(self) -> None:
        make_person("vera", PASSWORD, roles=("viewer",))
        User.objects.filter(username="vera").update(email="vera@tidewell.example")
        row = ApprovalRequest.objects.create(
            plan="HARB", plan_name="Harbour core first", plan_version=1, kind="planned", options={}, asked_by="ben",
            asked_at=SystemClock().now(), needed=1, hours=4,
        )  # fmt: skip
        self.board(LOST | {"code": "approval", "about": str(row.pk), "to": f"/approvals/{row.pk}"})
        self.assertEqual([one.user.username for one in Message.objects.all() if one.user], ["ann"])

    def test_before_a_board_is_known_nothing_is_new(self) -> None:
        StoredBoard.objects.all().delete()
        notice.Noticed.objects.all().delete()
        notice.notice(self.clock)
        self.board(LOST)
        self.assertEqual(Message.objects.count(), 0)

    def test_a_board_that_nobody_reckons_ends_nothing(self) -> None:
        self.board(LOST)
        self.later(minutes=10)
        notice.notice(self.clock)
        self.assertTrue(OpenMatter.objects.filter(key="site-lost:QUA").exists())

    def test_every_code_that_the_board_may_say_has_a_topic(self) -> None:
        server = ROOT / "src" / "maestoso" / "server"
        text = "".join(
            (server / file).read_text()
            for file in ("board/upkeep.py", "board/actions.py", "drills/picture.py")
        )
        codes = set(re.findall(r'code="([a-z-]+)"', text))
        self.assertGreater(len(codes), 20)
        for code in sorted(codes):
            self.assertIn(topic_of(code), TOPICS, code)

    def test_every_matter_of_the_real_board_has_a_topic(self) -> None:
        for row in DrillRow.objects.all():  # there is one of each month, so that some is ahead on every day
            row.spec = {**row.spec, "remind_days": 40}
            row.save(update_fields=["spec"])
        StoredBoard.objects.all().delete()
        refresh_board(self.clock_of_now())
        notice.Noticed.objects.all().delete()
        notice.notice(self.clock_of_now())
        self.assertTrue(OpenMatter.objects.filter(key__startswith="drill-ahead:").exists())
        self.assertEqual(Message.objects.count(), 0)

    def clock_of_now(self) -> Any:
        """The real one."""
        return SystemClock()


if __name__ == "__main__":
    import unittest

    unittest.main()
