"""A run waits for somebody: who is to know hears of it, by mail and by a program, and answers from there."""

from __future__ import annotations

import json
import re
import unittest
from dataclasses import replace
from typing import Any

from playwright.sync_api import Page, expect

from tests.e2e.application import PATIENCE_MS, Application, module_browser, until, visit
from tests.receivers import MailServer, Program

APP = Application()
BROWSER: dict[str, Any] = {}
RECEIVERS: dict[str, Any] = {}


def setUpModule() -> None:
    """One application, with a mail server."""
    unittest.addModuleCleanup(APP.close)
    mail, program = MailServer(), Program()
    unittest.addModuleCleanup(mail.close)
    unittest.addModuleCleanup(program.close)
    RECEIVERS.update(mail=mail, program=program)
    APP.options = replace(
        APP.options, mail_server=mail.address, mail_security="none", mail_from="maestoso@tidewell.example", message_hosts="127.0.0.0/8"
    )  # fmt: skip
    APP.start()
    BROWSER["browser"] = module_browser()


class Told(unittest.TestCase):
    def setUp(self) -> None:
        self.page: Page = visit(self, APP, BROWSER["browser"])
        self.mail: MailServer = RECEIVERS["mail"]
        self.program: Program = RECEIVERS["program"]

    def letters(self, words: str) -> list[Any]:
        """Those to Ada whose subject holds some words."""
        return [one for one in self.mail.letters if "ada@" in str(one["To"]) and words in str(one["Subject"])]

    def events(self, kind: str) -> list[dict[str, Any]]:
        """What the program heard of a kind."""
        found = [json.loads(body) for _, body in self.program.got]
        return [one for one in found if one["type"] == f"maestoso.{kind}"]

    def test_from_a_mail_to_the_answer_while_a_program_is_slow_to_listen(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/account")
        page.get_by_label("Full name").fill("Ada")
        page.get_by_label("Mail", exact=True).fill("ada@tidewell.example")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.get_by_label("Write to me, at ada@tidewell.example")).to_be_checked()
        page.get_by_label("Quiet from").fill("25:00")
        page.get_by_role("button", name="Save what to be told").click()
        expect(page.get_by_text("quiet_from is '25:00'. Write it such as 22:00.")).to_be_visible()
        page.get_by_label("Quiet from").fill("")
        page.get_by_role("button", name="Save what to be told").click()
        expect(page.get_by_role("region", name="Messages").get_by_text("Saved.")).to_be_visible()

        page.goto(f"{APP.address}/settings/messages")
        page.get_by_role("button", name="Send me one").click()
        expect(page.get_by_text("The mail server took it.")).to_be_visible()
        self.assertEqual(len(self.letters("tries whether you hear it")), 1)
        page.get_by_role("button", name="Add a webhook").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Name").fill("pager")
        dialog.get_by_label("Address").fill("ftp://tools.example")
        dialog.get_by_role("button", name="Add it").click()
        expect(dialog.get_by_text("Write it as https://tools.example/hook.")).to_be_visible()
        dialog.get_by_label("Address").fill(self.program.url)
        dialog.get_by_role("button", name="Add it").click()
        expect(dialog.get_by_label("Secret")).to_have_value(re.compile("^whsec_"))
        dialog.get_by_role("button", name="I have it").click()
        self.program.status = 503
        page.get_by_role("button", name="Try it: pager").click()
        expect(page.get_by_text("pager: It answered 503 Service Unavailable.")).to_be_visible()

        # The keeper knows what was so before; what begins now is news.
        until(lambda: APP.records()["messages_noticed"], "the keeper to look")
        run = APP.api().start_test("HARB", 20)
        until(lambda: self.letters("a test run began"), "Ada to hear that it began")
        (letter,) = until(
            lambda: self.letters("needs somebody: The test waits for your verdict"), "Ada to be asked"
        )
        text = next(letter.iter_parts()).get_content()
        link = next(word for word in text.split() if word.startswith("http"))
        page.goto(link)
        expect(page.get_by_role("heading", level=1)).to_contain_text("verdict")
        self.assertTrue(link.endswith(f"/runs/{run}"))

        # The program has taken nothing of it yet; it does now, everything, in order.
        page.goto(f"{APP.address}/settings/messages")
        expect(page.get_by_role("row").filter(has_text="pager").filter(has_text="wait").first).to_be_visible()
        self.program.status = 204
        again = page.get_by_role("button", name=re.compile("^Send again what went to pager"))
        again.last.click()
        until(lambda: self.events("run-started"), "the program to hear that it began")
        until(lambda: self.events("run-needs"), "the program to hear that it waits")
        heard = [json.loads(body)["type"] for _, body in self.program.got]
        self.assertEqual(self.events("run-started")[-1]["subject"], str(run))
        self.assertLess(heard.index("maestoso.run-started"), heard.index("maestoso.run-needs"))
        APP.api().send(
            "POST", f"/runs/{run}/controls", {"kind": "verdict", "verdict": "passed", "text": "seen"}
        )
        until(lambda: self.letters("the test run ended, passed"), "Ada to hear that it ended")
        until(lambda: self.events("run-ended"), "the program to hear that it ended")

    def link_to(self, address: str) -> str:
        """The link in the newest letter to somebody."""
        letters = until(
            lambda: [one for one in self.mail.letters if address in str(one["To"])], f"a letter to {address}"
        )
        text = next(letters[-1].iter_parts()).get_content()
        self.mail.letters.clear()
        return next(word for word in text.split() if "/invitation/" in word)

    def test_invited_by_mail_and_in_again_after_the_password_was_forgotten(self) -> None:
        page = self.page
        page.goto(f"{APP.address}/settings/people")
        page.get_by_role("button", name="Invite somebody").click()
        dialog = page.get_by_role("dialog")
        dialog.get_by_label("Full name").fill("Ines Kolm")
        dialog.get_by_label("Signs in as").fill("ines")
        dialog.get_by_label("Mail").fill("ines@tidewell.example")
        dialog.get_by_role("button", name="Invite", exact=True).click()
        expect(dialog.get_by_text("A mail with a link went to ines@tidewell.example.")).to_be_visible()
        first = self.link_to("ines@")

        context = BROWSER["browser"].new_context(reduced_motion="reduce")
        self.addCleanup(context.close)
        context.set_default_timeout(PATIENCE_MS)
        hers = context.new_page()
        for link, password in ((first, "a-ferry-in-the-fog"), ("", "two-ferries-in-the-sun")):
            if not link:
                hers.get_by_role("button", name="Sign out", exact=True).click()
                hers.get_by_label("Name").fill("ines")
                hers.get_by_role("button", name="Forgotten your password?").click()
                expect(hers.get_by_text("a link for a new password is on its way there")).to_be_visible()
                link = self.link_to("ines@")
            hers.goto(link)
            hers.get_by_label("Password", exact=True).fill(password)
            hers.get_by_label("The same once more").fill(password)
            hers.get_by_role("button", name="Sign in with it").click()
            expect(hers.get_by_role("button", name="Sign out", exact=True)).to_be_visible()
        hers.goto(first)
        hers.get_by_label("Password", exact=True).fill("a-third-that-comes-late")
        hers.get_by_label("The same once more").fill("a-third-that-comes-late")
        hers.get_by_role("button", name="Sign in with it").click()
        expect(hers.get_by_text("This link is not good")).to_be_visible()


if __name__ == "__main__":
    unittest.main()
