"""When the launcher takes what it started for being up."""

from __future__ import annotations

import unittest

from maestoso.cli.processes import THERE, answers
from tests.server.answers import answering


class Up(unittest.TestCase):
    """By what is answered."""

    def test_what_answers_well_is_up(self) -> None:
        self.assertTrue(answers(answering(self, 200)))

    def test_a_practice_site_that_was_switched_off_is_there_and_a_web_server_in_trouble_is_not_up(
        self,
    ) -> None:
        address = answering(self, 503)
        self.assertTrue(answers(address, {}, THERE))
        self.assertFalse(answers(address))

    def test_who_refuses_or_is_not_there_is_not_up(self) -> None:
        self.assertFalse(answers(answering(self, 403), {}, THERE))
        self.assertFalse(answers("http://127.0.0.1:9/", {}, THERE))


if __name__ == "__main__":
    unittest.main()
