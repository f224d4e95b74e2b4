"""The client tells 'no answer' from 'no'."""

from __future__ import annotations

import unittest

import httpx

from maestoso.core.ports import SiteRefused, SiteUnreachable
from maestoso.sites.client import HttpSite


def site(handler) -> HttpSite:  # type: ignore[no-untyped-def]
    """A client whose every request goes to ``handler``."""
    return HttpSite("http://agent.example/", "t", transport=httpx.MockTransport(handler))


class Answers(unittest.IsolatedAsyncioTestCase):
    """What each kind of answer means."""

    async def unreachable(self, handler) -> str:  # type: ignore[no-untyped-def]
        client = site(handler)
        self.addAsyncCleanup(client.close)
        with self.assertRaises(SiteUnreachable) as caught:
            await client.capabilities()
        return str(caught.exception)

    async def test_no_connection_no_answer_and_a_broken_line_are_unreachable(self) -> None:
        def raising(error: type[httpx.TransportError]):  # type: ignore[no-untyped-def]
            def handler(request: httpx.Request) -> httpx.Response:
                raise error("x", request=request)

            return handler

        self.assertIn("No connection", await self.unreachable(raising(httpx.ConnectError)))
        self.assertIn("in time", await self.unreachable(raising(httpx.ReadTimeout)))
        self.assertIn("broke", await self.unreachable(raising(httpx.ReadError)))

    async def test_a_server_error_says_nothing_about_the_operation(self) -> None:
        self.assertIn("502", await self.unreachable(lambda request: httpx.Response(502)))

    async def test_something_that_is_no_agent_is_refused(self) -> None:
        client = site(lambda request: httpx.Response(200, text="<html>"))
        self.addAsyncCleanup(client.close)
        with self.assertRaises(SiteRefused) as caught:
            await client.inventory()
        self.assertEqual(caught.exception.code, "not-the-protocol")

    async def test_a_refusal_keeps_its_code_and_reason(self) -> None:
        problem = {"code": "fence-too-low", "detail": "Another engine conducts it."}
        client = site(lambda request: httpx.Response(409, json=problem))
        self.addAsyncCleanup(client.close)
        with self.assertRaises(SiteRefused) as caught:
            await client.operation("k")
        self.assertEqual((caught.exception.code, str(caught.exception)), ("fence-too-low", problem["detail"]))

    async def test_the_token_and_the_quoted_key_are_sent(self) -> None:
        seen: list[httpx.Request] = []

        def handler(request: httpx.Request) -> httpx.Response:
            seen.append(request)
            return httpx.Response(200, json={"key": "a/b:c", "status": "done"})

        client = site(handler)
        self.addAsyncCleanup(client.close)
        await client.operation("a/b:c")
        self.assertEqual(seen[0].headers["authorization"], "Bearer t")
        self.assertEqual(seen[0].url.raw_path, b"/v1/operations/a%2Fb%3Ac")


if __name__ == "__main__":
    unittest.main()
