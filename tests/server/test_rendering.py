"""Replies as JSON are what the values of the model are."""

from __future__ import annotations

import json
import unittest
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, timezone
from ipaddress import ip_interface, ip_network
from typing import Any

from maestoso.core.codec import to_data
from maestoso.server.common.rendering import Json
from tests import worlds


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    """One of everything."""

    text: str = "Fähre “Möwe” \u2028"
    number: float = 0.1
    large: int = 2**53 + 1
    nothing: str | None = None
    yes: bool = True
    at: datetime = datetime(2026, 11, 12, 15, 0, 0, 250_000, tzinfo=UTC)
    addresses: tuple[Any, ...] = (ip_interface("10.1.0.7/24"), ip_network("2001:db8::/64"))
    names: frozenset[str] = frozenset({"only"})


def rendered(value: Any) -> Any:
    """As the client reads it."""
    return json.loads(Json().render(value))


class Rendering(unittest.TestCase):
    """The same as :func:`to_data`, without making that first."""

    def test_one_of_everything(self) -> None:
        self.assertEqual(rendered(Thing()), to_data(Thing()))

    def test_whole_plans_and_what_they_are_compiled_from(self) -> None:
        for value in (worlds.plan(), worlds.inputs(), worlds.crosswalk(), worlds.WORKLOADS):
            self.assertEqual(rendered(value), json.loads(json.dumps(to_data(value))))

    def test_moments_keep_their_offset(self) -> None:
        west = datetime(2026, 7, 1, 12, 0, tzinfo=timezone(timedelta(hours=-3)))
        self.assertEqual(rendered({"at": west}), {"at": "2026-07-01T12:00:00-03:00"})

    def test_keys_are_texts(self) -> None:
        self.assertEqual(rendered({1: "one"}), {"1": "one"})

    def test_nothing_to_say_has_no_body(self) -> None:
        self.assertEqual(Json().render(None), b"")


if __name__ == "__main__":
    unittest.main()
