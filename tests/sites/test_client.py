"""The client tells 'no answer' from 'no'."""

from __future__ import annotations

import unittest

import httpx

from maestoso.core.ports import SiteBusy, SiteRefused, SiteUnintelligible, SiteUnreachable
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

    async def test_one_that_is_busy_is_neither_away_nor_says_no(self) -> None:
        for status, said, wait_s in (
            (429, "7", 7.0), (429, None, 5.0), (503, "30", 30.0), (503, "Wed, 21 Oct 2026 07:28:00 GMT", 5.0),
            (429, "0", 1.0), (429, "99999", 300.0), (429, "-3", 5.0), (503, "999999999", 5.0),
        ):  # fmt: skip
            with self.subTest(status=status, said=said):
                headers = {} if said is None else {"Retry-After": said}
                client = site(lambda request, s=status, h=headers: httpx.Response(s, headers=h))
                self.addAsyncCleanup(client.close)
                with self.assertRaises(SiteBusy) as caught:
                    await client.capabilities()
                self.assertEqual(caught.exception.wait_s, wait_s)
        client = site(lambda request: httpx.Response(503))
        self.addAsyncCleanup(client.close)
        with self.assertRaises(SiteUnreachable) as away:
            await client.capabilities()
        self.assertNotIsInstance(away.exception, SiteBusy)

    async def test_of_something_that_is_no_agent_nothing_is_concluded(self) -> None:
        strangers = {
            "a page": httpx.Response(200, text="<html>"),
            "a page to sign in to": httpx.Response(302, headers={"Location": "/login"}),
            "a wrong token": httpx.Response(401, json={"code": "unauthorised", "detail": "No."}),
            "a proxy": httpx.Response(404, json={"error": "no such host"}),
            "a list": httpx.Response(200, json=[1, 2]),
            "other json": httpx.Response(200, json={"message": "hello"}),
            "a feed that is none": httpx.Response(200, json={"operations": 5, "cursor": "x"}),
        }
        for what, answer in strangers.items():
            with self.subTest(what):
                client = site(lambda request, answer=answer: answer)
                self.addAsyncCleanup(client.close)
                with self.assertRaises(SiteUnintelligible):
                    await client.changes(0, 0.0)

    async def test_what_a_newer_agent_adds_is_left_out_and_no_text_is_unclean_or_endless(self) -> None:
        body = (
            '{"key": "k", "status": "done", "since": 1, "result": {"a": "\\ud800", "b": NaN, "c": "'
            + "x" * 50_000
            + '"}}'
        )
        client = site(lambda request: httpx.Response(200, content=body))
        self.addAsyncCleanup(client.close)
        state = await client.operation("k")
        assert state is not None
        self.assertEqual((state.result["a"], state.result["b"]), ("?", None))
        self.assertLess(len(state.result["c"]), 20_100)

    async def test_an_epoch_without_end_is_cut_alike_wherever_it_is_said(self) -> None:
        pulse = {"now": "2026-11-29T00:00:00+00:00", "inventory": "a", "groups": [], "links": []}
        body = {**pulse, "operations": [], "cursor": 0, "epoch": "x" * 500}
        client = site(lambda request: httpx.Response(200, json=body))
        self.addAsyncCleanup(client.close)
        said, fed = (await client.pulse()).epoch, (await client.changes(0, 0.0)).epoch
        self.assertEqual((len(said), said), (64, fed))

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
