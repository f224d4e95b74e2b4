"""Nobody holds up everybody else by wanting very much at once."""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any, cast

from maestoso.server.common.fair import TooMuchAtOnce, fairly
from tests.server.tidewell import Browser, Tidewell


def asked_by(name: str) -> Any:
    """A request of somebody."""
    return cast(Any, SimpleNamespace(user=SimpleNamespace(get_username=lambda: name)))


class Fair(Tidewell):
    def test_two_of_a_kind_at_once_for_each_and_again_when_one_is_done(self) -> None:
        with fairly(asked_by("ann"), "document"):
            with fairly(asked_by("ann"), "document"):
                with self.assertRaises(TooMuchAtOnce) as caught, fairly(asked_by("ann"), "document"):
                    self.fail("it was begun all the same")
                self.assertEqual(caught.exception.sentence, "2 documents of yours are being made already.")
                with fairly(asked_by("ben"), "document"), fairly(asked_by("ann"), "rehearsal"):
                    pass
            with fairly(asked_by("ann"), "document"):
                pass

    def test_one_that_fails_is_over_too(self) -> None:
        for _ in range(3):
            with self.assertRaises(ValueError), fairly(asked_by("ann"), "document"):
                raise ValueError

    def test_it_is_said_over_http(self) -> None:
        with fairly(asked_by("ann"), "document"), fairly(asked_by("ann"), "document"):
            self.problem(self.browser.get("/api/v1/plans/HARB/run-book.pdf"), 429, "too-much-at-once")
            other = Browser()
            other.sign_in("ben")
            self.assertEqual(other.get("/api/v1/plans/HARB/run-book.pdf").status_code, 200)
