"""Links with which people choose a password: mailed where that can be, shown where not; and forgotten passwords."""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.core.cache import cache

from maestoso.server.audit.models import AuditEntry
from maestoso.server.messages import links
from maestoso.server.messages.models import Message
from tests.server.test_messages import Told
from tests.server.tidewell import Browser

NEW = {
    "name": "mara", "full_name": "Mara Vey", "mail": "mara@tidewell.example", "roles": ["viewer"], "scopes": {},
    "through_provider": False,
}  # fmt: skip
BETTER = "a-ferry-in-the-fog"


class Links(Told):
    def setUp(self) -> None:
        super().setUp()
        patched = mock.patch.object(links, "CLOCK", self.clock)
        patched.start()
        self.addCleanup(patched.stop)

    def letter(self) -> str:
        """The text of the only letter, which is taken away."""
        (letter,) = self.mail.letters
        self.mail.letters.clear()
        return next(letter.iter_parts()).get_content()  # type: ignore[attr-defined,no-any-return]

    def choose(self, text: str) -> Any:
        """What choosing a password with the link in a text answers."""
        found = re.search(r"/invitation/([^/\s]+)/(\S+)", text)
        assert found is not None, text
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        sent = {"name": found.group(1), "secret": found.group(2), "password": BETTER}
        return browser.send("POST", "/invitations", sent)

    def forget(self, name: str) -> Any:
        """Somebody who has not signed in says that they forgot a password."""
        cache.clear()  # what one address may ask in a minute is another test's
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        return browser.send("POST", "/invitations/forgotten", {"name": name})


class Invited(Links):
    def test_an_invitation_is_mailed_and_not_shown(self) -> None:
        made = self.browser.send("POST", "/people", NEW).json()
        self.assertEqual((made["link"], made["mailed"], made["not_mailed"]), ("", True, ""))
        self.assertEqual(self.choose(self.letter()).json()["name"], "mara")
        shown = self.browser.send("POST", "/people/mara/invitation", {"shown": True}).json()
        self.assertEqual((shown["mailed"], self.mail.letters), (False, []))
        self.assertIn("/invitation/mara/", shown["link"])
        again = self.browser.send("POST", "/people/mara/invitation", {}).json()
        self.assertTrue(again["mailed"])
        self.assertEqual(self.choose(self.letter()).status_code, 200)

    def test_it_is_shown_where_it_cannot_be_mailed_with_the_reason(self) -> None:
        made = self.browser.send("POST", "/people", {**NEW, "mail": ""}).json()
        self.assertTrue(made["link"])
        self.assertEqual((made["mailed"], made["not_mailed"]), (False, ""))
        self.use(mail_server="127.0.0.1:9")
        made = self.browser.send("POST", "/people", {**NEW, "name": "lena"}).json()
        self.assertIn("/invitation/lena/", made["link"])
        self.assertIn("The mail server was not reached", made["not_mailed"])
        self.use(mail_server="")
        made = self.browser.send("POST", "/people", {**NEW, "name": "ines"}).json()
        self.assertIn("/invitation/ines/", made["link"])
        self.assertEqual(made["not_mailed"], "")
        self.assertFalse(Browser().get("/api/v1/session").json()["mail"])


class Forgotten(Links):
    def test_a_link_comes_by_mail_and_is_nowhere_else(self) -> None:
        self.assertTrue(Browser().get("/api/v1/session").json()["mail"])
        self.assertEqual(self.forget("ann").status_code, 202)
        self.assertEqual(self.mail.letters, [], "whoever asks does not wait for a mail server")
        self.assertNotIn("/invitation/", str(list(Message.objects.values())))
        self.bring()
        text = self.letter()
        self.assertIn("Somebody asked for a new password for you", text)
        self.assertIn("If that was not you, do nothing", text)
        self.assertEqual(self.choose(text).status_code, 200)
        self.assertEqual(self.choose(text).status_code, 403, "it is good once")
        self.assertTrue(User.objects.get(username="ann").check_password(BETTER))
        entry = AuditEntry.objects.filter(path="invitations/forgotten").get()
        self.assertEqual(entry.did, "Had a link for a new password mailed to ann")

    def test_nobody_learns_who_has_an_account(self) -> None:
        make = {"disabled": {"is_active": False}, "silent": {"email": ""}}
        for name, changes in make.items():
            User.objects.create_user(name, **{"email": f"{name}@tidewell.example", **changes})
        answers = {name: self.forget(name) for name in ("ann", "nobody", "x" * 200, "", *make)}
        self.assertEqual({(one.status_code, one.content) for one in answers.values()}, {(202, b"")})
        self.assertEqual([one.user.username for one in Message.objects.filter(user__isnull=False)], ["ann"])
        self.assertEqual(AuditEntry.objects.filter(path="invitations/forgotten").count(), 1)

    def test_nobodys_letter_box_is_filled(self) -> None:
        for _ in range(3):
            self.forget("ann")
        self.assertEqual(Message.objects.count(), 1)
        self.bring()
        self.forget("ann")
        self.assertEqual(Message.objects.count(), 1)
        self.clock.moment += links.ONE_IN + timedelta(seconds=1)
        self.forget("ann")
        self.assertEqual(Message.objects.count(), 2)

    def test_a_page_of_others_cannot_ask_and_many_tries_are_slowed(self) -> None:
        forged = Browser()
        self.assertEqual(forged.send("POST", "/invitations/forgotten", {"name": "ann"}).status_code, 403)
        browser = Browser()
        browser.token = browser.get("/api/v1/session").json()["csrf"]
        sent = [
            browser.send("POST", "/invitations/forgotten", {"name": "ann"}).status_code for _ in range(40)
        ]
        self.assertEqual({202, 429}, set(sent))
