"""What a site says that is malformed, partial, of a newer protocol, or not of a site at all, reaching the engine."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections import Counter
from collections.abc import Callable
from typing import Any
from unittest import mock

import httpx

from maestoso.core.planning.isolated_test import VERDICT
from maestoso.core.runs import decide
from maestoso.core.runs.words import sentence
from maestoso.engine.conductor import Conductor
from maestoso.engine.site_link import Patience
from maestoso.practice.spec import Fault, Switch
from tests.engine.test_conductor import PATIENCE_S, EngineCase

LONG_POLL_S = 0.3
DEAF_AFTER_S = 4.0
"""More than ten polls: who has not asked again by then does not listen any more."""
Change = Callable[[httpx.Request, Any], httpx.Response | None]


class Bending(httpx.AsyncBaseTransport):
    """Passes on what a site answers, or another answer in its stead; ``polls`` counts how often it is listened to."""

    def __init__(self, inner: httpx.AsyncBaseTransport, change: Change) -> None:
        self.inner = inner
        self.change = change
        self.polls = self.bent = 0

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        """Ask, then say it otherwise."""
        answer = await self.inner.handle_async_request(request)
        self.polls += request.method == "GET" and request.url.path.endswith("/operations")
        other = self.change(request, json.loads(await answer.aread()))
        self.bent += other is not None
        return answer if other is None else other


def states_of(request: httpx.Request, content: Any) -> list[dict[str, Any]]:
    """The states of operations in an answer, to be changed."""
    if not request.url.path.startswith("/v1/operations"):
        return []
    return content.get("operations", [content])


def named(verb: str) -> Callable[[dict[str, Any]], bool]:
    """Whether a state is of an operation of this verb, by its key."""
    return lambda state: f":{verb}:" in str(state.get("key"))


class OddAnswers(EngineCase):
    """A run goes on, or says whose answer could not be understood; no answer stops it for good without a word."""

    def bend(self, change: Change) -> Bending:
        """From now on the site's answers pass through ``change``."""
        inner = self.site.transport.inner
        assert inner is not None
        bending = Bending(inner, change)
        self.site.transport.inner = bending
        return bending

    def bend_once(self, verb: str, change: Callable[[dict[str, Any]], None]) -> Bending:
        """The first settled state of an operation of ``verb`` is changed; later it is as it was."""
        done: list[str] = []

        def once(request: httpx.Request, content: Any) -> httpx.Response | None:
            for state in states_of(request, content):
                if not done and named(verb)(state) and state.get("status") in ("done", "failed"):
                    done.append(state["key"])
                    change(state)
                    text = json.dumps(content)
                    headers = {"Content-Type": "application/json"}
                    return httpx.Response(200, content=text, headers=headers, request=request)
            return None

        return self.bend(once)

    async def to_the_verdict(self, bending: Bending) -> None:
        """Until it waits for the verdict. Raises AssertionError when nobody listens to the site any more."""
        engine = Conductor(
            self.log, lambda code: self.site.client, "one", patience=Patience(long_poll_s=LONG_POLL_S)
        )
        run = asyncio.create_task(
            self.conduct(lambda state: VERDICT in state.persons or bool(state.failed), engine)
        )
        heard = -1
        while not run.done() and bending.polls > heard:
            heard = bending.polls
            await asyncio.wait([run], timeout=DEAF_AFTER_S)
        over = run.done()
        run.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await run
        self.assertTrue(bending.bent, "nothing was changed")
        self.assertTrue(over, "nobody listens to the site any more")
        self.assertEqual(self.log.state("r-1").failed, set())

    async def test_what_a_newer_agent_adds_to_a_capability_or_result_is_kept_apart(self) -> None:
        bending = self.bend_once("register", lambda state: state["result"].update(from_a_newer_agent=7))
        await self.to_the_verdict(bending)

    async def test_a_state_with_a_field_that_we_do_not_know(self) -> None:
        await self.to_the_verdict(self.bend_once("register", lambda state: state.update(since="2026-11-12")))

    async def test_a_state_without_what_may_be_missing(self) -> None:
        def less(state: dict[str, Any]) -> None:
            for name in ("code", "reason", "result"):
                state.pop(name, None)

        await self.to_the_verdict(self.bend_once("set-size", less))

    async def test_a_state_of_another_shape(self) -> None:
        def other(state: dict[str, Any]) -> None:
            state["result"] = ["a", "list"]

        await self.to_the_verdict(self.bend_once("register", other))

    async def test_a_result_that_no_log_can_keep(self) -> None:
        def unclean(state: dict[str, Any]) -> None:
            state["result"] = {"said": "\ud800", "figure": float("nan")}

        await self.to_the_verdict(self.bend_once("register", unclean))
        text = json.dumps(
            [event.data for event in self.log.runs["r-1"].events], ensure_ascii=False, allow_nan=False
        )
        text.encode()

    def instead(self, status: int, text: str, kind: str = "text/html") -> Change:
        """Somebody else answers the first three requests for an operation of ``register``."""
        left = [3]

        def stranger(request: httpx.Request, content: Any) -> httpx.Response | None:
            if request.method == "PUT" and "register" in request.url.path and left[0]:
                left[0] -= 1
                return httpx.Response(status, content=text, headers={"Content-Type": kind}, request=request)
            return None

        return stranger

    async def test_a_page_to_sign_in_to_is_no_answer_of_the_agent(self) -> None:
        await self.to_the_verdict(self.bend(self.instead(200, "<html>Sign in</html>")))

    async def test_a_proxy_that_knows_nothing_of_the_address_is_not_the_agent(self) -> None:
        await self.to_the_verdict(
            self.bend(self.instead(404, '{"error": "no such host"}', "application/json"))
        )

    async def test_json_that_is_not_ours_is_not_the_agents(self) -> None:
        await self.to_the_verdict(self.bend(self.instead(401, '{"message": "expired"}', "application/json")))

    async def test_a_proxy_in_trouble_is_waited_for(self) -> None:
        await self.to_the_verdict(self.bend(self.instead(502, "Bad gateway")))


class Memory(EngineCase):
    """An agent that was restored from an older state does not know what it was asked for."""

    async def forgets(self, change: Change | None = None) -> None:
        """It forgets while it is at work, and the run goes on all the same, with each effect once."""
        if change is not None:
            assert self.site.transport.inner is not None
            self.site.transport.inner = Bending(self.site.transport.inner, change)
        self.site.practice.fault(Fault(verb="register", effect="hang", times=None))
        engine = Conductor(
            self.log, lambda code: self.site.client, "one", patience=Patience(long_poll_s=LONG_POLL_S)
        )
        run = asyncio.create_task(self.conduct(lambda state: VERDICT in state.persons, engine))
        try:
            async with asyncio.timeout(PATIENCE_S):
                while not any(
                    op.submission.verb == "register" for op in self.site.practice.world.ops.values()
                ):
                    await asyncio.sleep(0.02)
            world = self.site.practice.world
            world.faults.clear()
            world.throw(Switch(effect="forgets"), self.site.practice.seconds())
            await run
        finally:
            run.cancel()
        said = [event for event in self.log.runs["r-1"].events if event.kind == "site.forgot"]
        self.assertTrue(any(step.startswith("register:") for event in said for step in event.data["steps"]))
        attempts = {e.data["attempt"] for e in self.log.runs["r-1"].events if e.kind == "step.asked"}
        self.assertEqual(attempts, {1}, "it is asked again under the key that it had")
        done = Counter(entry.key for entry in world.journal if entry.verb == "register")
        self.assertEqual(set(done.values()), {1})

    async def test_what_it_does_not_know_any_more_is_asked_for_under_the_same_key(self) -> None:
        await self.forgets()

    async def test_one_that_says_no_epoch_is_known_by_its_feed(self) -> None:
        def no_epoch(request: httpx.Request, content: Any) -> httpx.Response | None:
            if not isinstance(content, dict) or content.pop("epoch", None) is None:
                return None
            return httpx.Response(200, json=content, request=request)

        await self.forgets(no_epoch)


class TakesNothing(httpx.AsyncBaseTransport):
    """No request for an operation of ``register`` arrives."""

    def __init__(self, inner: httpx.AsyncBaseTransport) -> None:
        self.inner = inner

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        """Pass on all others."""
        if request.method == "PUT" and "register" in request.url.path:
            raise httpx.ReadTimeout("no answer", request=request)
        return await self.inner.handle_async_request(request)


class Deaf(EngineCase):
    """It says what changes, and takes in nothing."""

    async def test_what_is_never_taken_in_is_said_once_and_overdue_in_the_end(self) -> None:
        assert self.site.transport.inner is not None
        self.site.transport.inner = TakesNothing(self.site.transport.inner)
        patience = Patience(long_poll_s=LONG_POLL_S, longest_pause_s=0.1)
        engine = Conductor(self.log, lambda code: self.site.client, "one", patience=patience)
        with mock.patch.object(decide, "GRACE_S", 1.0), mock.patch.object(decide, "OVERDUE_S", 400.0):
            await self.conduct(lambda state: bool(state.failed), engine)
        kinds = Counter(event.kind for event in self.log.runs["r-1"].events)
        self.assertEqual((kinds["site.lost"], kinds["site.back"]), (0, 0))
        events = self.log.runs["r-1"].events
        said = [step for event in events if event.kind == "site.deaf" for step in event.data["steps"]]
        self.assertTrue(said)
        self.assertEqual(sorted(said), sorted(set(said)))
        (failed, *_) = (e for e in self.log.runs["r-1"].events if e.kind == "step.failed")
        self.assertEqual(failed.data["code"], "overdue")


class TakesLater(httpx.AsyncBaseTransport):
    """Each operation of ``register`` arrives at the third try, and every fifth look at the feed is put off."""

    def __init__(self, inner: httpx.AsyncBaseTransport) -> None:
        self.inner = inner
        self.tries: Counter[str] = Counter()

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        """Say so as RFC 6585 and RFC 9110 do, or pass on."""
        path = request.url.path
        self.tries[path] += 1
        if request.method == "PUT" and "register" in path and self.tries[path] < 3:
            return httpx.Response(429, headers={"Retry-After": "1"}, request=request)
        if request.method == "GET" and path.endswith("/operations") and self.tries[path] % 5 == 0:
            return httpx.Response(503, headers={"Retry-After": "1"}, request=request)
        return await self.inner.handle_async_request(request)


class Busy(EngineCase):
    """It wants to be asked later."""

    async def test_what_is_put_off_is_said_once_and_is_no_failure(self) -> None:
        assert self.site.transport.inner is not None
        later = TakesLater(self.site.transport.inner)
        self.site.transport.inner = later
        patience = Patience(long_poll_s=LONG_POLL_S, longest_pause_s=0.1)
        engine = Conductor(self.log, lambda code: self.site.client, "one", patience=patience)
        await self.conduct(lambda state: VERDICT in state.persons or bool(state.failed), engine)
        events = self.log.runs["r-1"].events
        kinds = Counter(event.kind for event in events)
        self.assertEqual(self.log.state("r-1").failed, set())
        self.assertEqual([kinds[kind] for kind in ("site.lost", "site.deaf", "step.failed")], [0, 0, 0])
        put_off = [step for event in events if event.kind == "site.busy" for step in event.data["steps"]]
        registered = {step.id for step in self.log.state("r-1").graph.steps if step.verb == "register"}
        self.assertEqual(sorted(put_off), sorted(registered))
        (first, *_) = (event for event in events if event.kind == "site.busy")
        self.assertIn("takes in later what it is asked for", sentence(first, self.log.state("r-1").graph))
        self.assertEqual(max(later.tries[path] for path in later.tries if "register" in path), 3)


class LetGo(EngineCase):
    """Nothing is kept of a run that is over, or that another engine has."""

    async def test_no_answers_and_no_keys_are_left(self) -> None:
        engine = self.engine()
        await self.conduct(lambda state: bool(state.in_flight), engine)
        engine._let_go("r-1") if "r-1" in engine.runs else None
        await self.judged()
        for one in (engine, self.engine()):
            self.assertEqual((one.answers, one.troubles), ({}, {}))
            self.assertEqual([key for link in one.links.values() for key in link.waiting], [])
