"""Several hosts of one database: the first that answers, beginning with the last that did."""

from __future__ import annotations

from typing import Any
from unittest import mock

import pymysql
from django.db import InterfaceError, OperationalError, connection
from django.db.backends.mysql import base as django_base
from django.test import SimpleTestCase
from rest_framework.response import Response

from maestoso.server.common.mariadb import base
from maestoso.server.common.problems import handle

THREE = [("one.example", 3306), ("two.example", 3307), ("three.example", 3306)]


class Hosts(SimpleTestCase):
    databases = {"default"}

    def setUp(self) -> None:
        self.away: dict[str, Exception] = {}
        self.asked: list[tuple[str, int]] = []

        def connect(_: Any, params: dict[str, Any]) -> Any:
            self.asked.append((params["host"], params["port"]))
            if params["host"] in self.away:
                raise self.away[params["host"]]
            return mock.MagicMock()

        for patch in (
            mock.patch.object(base, "database_hosts", lambda _: THREE),
            mock.patch.object(django_base.DatabaseWrapper, "get_new_connection", connect),
            mock.patch.object(base, "_last", [0]),
        ):
            patch.start()
            self.addCleanup(patch.stop)

    def connect(self) -> Any:
        """Another line."""
        self.asked.clear()
        return connection.get_new_connection({"user": "maestoso"})

    def test_the_first_that_answers_is_kept_to(self) -> None:
        self.away["one.example"] = pymysql.OperationalError(2003, "Can't connect")
        self.connect()
        self.assertEqual(self.asked, THREE[:2])
        self.away.clear()
        self.connect()
        # It is not left for one that may have come back a moment ago.
        self.assertEqual(self.asked, THREE[1:2])
        self.away["two.example"] = OperationalError(2003, "Can't connect")
        self.connect()
        self.assertEqual(self.asked, THREE[1:])

    def test_a_node_that_does_not_take_part_is_passed_over(self) -> None:
        line = mock.MagicMock()
        line.cursor.return_value.__enter__.return_value.execute.side_effect = pymysql.OperationalError(
            1047, "WSREP has not yet prepared node for application use"
        )
        lines = [line, mock.MagicMock()]
        with mock.patch.object(django_base.DatabaseWrapper, "get_new_connection", lambda *_: lines.pop(0)):
            self.assertIsNot(self.connect(), line)

    def test_where_none_answers_the_first_says_why(self) -> None:
        for number, (host, _) in enumerate(THREE):
            self.away[host] = pymysql.OperationalError(2003, f"number {number}")
        with self.assertRaisesRegex(pymysql.OperationalError, "number 0"):
            self.connect()


class GaveWay(SimpleTestCase):
    def test_who_was_second_is_told_so_and_to_try_again(self) -> None:
        for number in (1205, 1213):
            reply: Response = handle(OperationalError(number, "Deadlock found"), {})
            self.assertEqual((reply.status_code, reply.data["code"]), (503, "gave-way"))
            self.assertEqual(reply["Retry-After"], "1")
        self.assertEqual(handle(OperationalError(2003, "away"), {}).data["code"], "database-away")
        self.assertEqual(handle(InterfaceError(0, ""), {}).data["code"], "database-away")
