"""The event stream of a run, as browsers get it."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import AsyncIterator
from typing import Any
from unittest import mock

from django.contrib.auth.models import User
from django.contrib.sessions.models import Session
from django.db import OperationalError, connection
from django.test import AsyncClient, TransactionTestCase

from maestoso.core.errors import LogCorrupt
from maestoso.core.people.scope import Reach
from maestoso.engine.clock import SystemClock
from maestoso.server.access import listeners, stream_door
from maestoso.server.access.models import ApiToken, RoleGrant
from maestoso.server.access.stream_door import StreamDoor, Streams
from maestoso.server.board import stream as live_updates
from maestoso.server.board.models import StoredBoard
from maestoso.server.board.stream import LiveUpdates
from maestoso.server.runs import states, stream
from maestoso.server.runs.models import Run, RunStep
from maestoso.server.runs.services import control_run
from maestoso.server.runs.shapes import Control
from tests.server.people import make_person
from tests.server.test_run_log import make_run
from tests.server.tidewell import PASSWORD


class Opened:
    """One stream of one browser, spoken to as the server speaks to applications (ASGI)."""

    def __init__(
        self, path: str, session: str, headers: dict[str, str], streams: Streams, paths: str = stream.PATH
    ) -> None:
        self.gone = asyncio.Event()
        self.sent: asyncio.Queue[dict[str, Any]] = asyncio.Queue()
        said = {"host": "127.0.0.1:8470", "cookie": f"x=1; maestoso_session={session}", **headers}
        scope = {
            "type": "http", "method": "GET", "path": path,
            "headers": [(name.encode(), value.encode()) for name, value in said.items()],
        }  # fmt: skip
        self.task = asyncio.ensure_future(
            StreamDoor(self.elsewhere, {paths: streams})(scope, self.receive, self.send)
        )

    async def elsewhere(self, *asked: Any) -> None:
        raise AssertionError("the door passed a stream on")

    async def receive(self) -> dict[str, Any]:
        await self.gone.wait()
        return {"type": "http.disconnect"}

    async def send(self, message: Any) -> None:
        await self.sent.put(message)

    async def begun(self) -> None:
        """Wait for the status."""
        async with asyncio.timeout(60):
            begin = await self.sent.get()
        self.status, self.headers = begin["status"], dict(begin["headers"])

    async def text(self) -> str:
        """The next part; empty at the end."""
        async with asyncio.timeout(60):
            return (await self.sent.get())["body"].decode()

    async def rest(self) -> AsyncIterator[str]:
        """All parts until the end."""
        while text := await self.text():
            yield text

    def problem(self) -> Any:
        """What a refusal says."""
        return json.loads(self.sent.get_nowait()["body"])

    async def close(self) -> None:
        """The browser goes away."""
        self.gone.set()
        await asyncio.wait((self.task,))


def hold(pk: int) -> None:
    """Somebody holds a run, in a thread of its own."""
    control_run(pk, Control(kind="hold"), by="ben", key=None, at=SystemClock().now())
    connection.close()


class Streaming(TransactionTestCase):
    """The event stream of a run."""

    def setUp(self) -> None:
        make_person("ann", password=PASSWORD)
        self.run_row = make_run()

    async def open(self, session: str, pk: int = 0, **headers: str) -> Opened:
        """A stream, as the server is asked for it."""
        self.pump = stream.Pump()
        opened = Opened(f"/api/v1/runs/{pk or self.run_row.pk}/stream", session, headers, self.pump)
        await opened.begun()
        return opened

    async def messages(self, session: str, count: int, **headers: str) -> list[dict[str, Any]]:
        """The first messages of a stream."""
        opened = await self.open(session, **headers)
        self.assertEqual(opened.headers[b"content-type"], b"text/event-stream")
        found: list[dict[str, Any]] = []
        while len(found) < count:
            text = await opened.text()
            if text.startswith("id:"):
                number, data = text.strip().split("\n", 1)
                found.append({"id": int(number[4:]), **json.loads(data.removeprefix("data: "))})
                if len(found) == 1 and count > 1:
                    await asyncio.to_thread(self.hold)
        return found

    async def signed_in(self) -> str:
        """The key of a session of Ann's."""
        client = AsyncClient()
        await client.alogin(username="ann", password=PASSWORD)
        return client.cookies["maestoso_session"].value

    def hold(self, pk: int = 0) -> None:
        """Somebody holds the run."""
        hold(pk or self.run_row.pk)

    async def test_the_whole_score_comes_first_then_what_changes(self) -> None:
        first, second = await self.messages(await self.signed_in(), 2)
        self.assertEqual(len(first["steps"]), await RunStep.objects.filter(run=self.run_row).acount())
        self.assertEqual([e["seq"] for e in first["events"]], [1])
        self.assertEqual((second["id"], second["events"][0]["kind"]), (2, "run.held"))
        self.assertEqual(second["status"]["held_because"], "A person held the run.")

    async def test_who_comes_back_with_the_last_number_misses_nothing_and_gets_nothing_twice(self) -> None:
        await asyncio.to_thread(self.hold)
        (message,) = await self.messages(await self.signed_in(), 1, **{"last-event-id": "1"})
        self.assertEqual([e["seq"] for e in message["events"]], [2])

    async def test_many_who_open_at_once_share_one_fold_and_one_first_message(self) -> None:
        pump = stream.Pump()
        states.forget_all()
        with (
            mock.patch.object(states, "fold", wraps=states.fold) as folds,
            mock.patch.object(stream, "_message", wraps=stream._message) as messages,
        ):
            streams = [pump.listen(self.run_row.pk, 0, "s") for _ in range(200)]
            async with asyncio.timeout(60):
                first = await asyncio.gather(*(anext(one) for one in streams))
        self.assertEqual((folds.call_count, messages.call_count, len(set(first))), (1, 1, 1))
        for one in streams:
            await one.aclose()
        self.assertEqual((await pump._watch(self.run_row.pk)).listeners, set())

    async def test_what_happened_while_the_database_was_away_is_told_when_it_is_back(self) -> None:
        make, tries = stream._message, []

        def away_once(*asked: Any) -> str:
            tries.append(asked)
            if len(tries) == 2:
                raise OperationalError(2006, "gone")
            return make(*asked)

        with mock.patch.object(stream, "_message", away_once), self.assertLogs("maestoso.stream"):
            first, second = await self.messages(await self.signed_in(), 2)
        self.assertGreaterEqual(len(tries), 3)
        told = [[event["seq"] for event in message["events"]] for message in (first, second)]
        self.assertEqual(told, [[1], [2]])

    async def test_a_log_that_cannot_be_read_ends_its_own_streams_alone(self) -> None:
        other = await asyncio.to_thread(self.another)
        session, pump = await self.signed_in(), stream.Pump()
        paths = [f"/api/v1/runs/{pk}/stream" for pk in (self.run_row.pk, other.pk)]
        broken, sound = (Opened(path, session, {}, pump) for path in paths)
        for opened in (broken, sound):
            await opened.begun()
            await opened.text()
        news = stream._news

        def read(pk: int, watched: stream.Watched) -> tuple[int, str]:
            if pk == self.run_row.pk:
                raise LogCorrupt("Event 7 follows event 2: something is missing or doubled.")
            return news(pk, watched)

        with mock.patch.object(stream, "_news", read), self.assertLogs("maestoso.stream"):
            await asyncio.to_thread(self.hold)
            await asyncio.to_thread(self.hold, other.pk)
            self.assertIn("cannot be read", [text async for text in broken.rest()][-1])
            while not (text := await sound.text()).startswith("id: 2"):
                self.assertIn("still here", text)
        await sound.close()

    def another(self) -> Run:
        made = make_run()
        connection.close()
        return made

    async def test_a_stream_ends_with_its_session(self) -> None:
        opened = await self.open(await self.signed_in())
        await opened.text()
        await asyncio.to_thread(self.sign_out_everywhere)
        self.assertEqual([text async for text in opened.rest()][-1], ": your session is over\n\n")

    async def test_a_browser_that_goes_away_is_forgotten(self) -> None:
        opened = await self.open(await self.signed_in())
        await opened.text()
        watched = await self.pump._watch(self.run_row.pk)
        self.assertEqual(len(watched.listeners), 1)
        await opened.close()
        self.assertEqual(len(watched.listeners), 0)

    def sign_out_everywhere(self) -> None:
        Session.objects.all().delete()
        connection.close()

    async def test_a_database_that_is_away_is_said_before_the_stream_begins(self) -> None:
        session = await self.signed_in()
        away = OperationalError(2006, "gone")
        for module, where in ((stream, "read_log"), (listeners, "ended"), (stream, "_message")):
            with self.subTest(where), mock.patch.object(module, where, side_effect=away):
                opened = await self.open(session)
                self.assertEqual((opened.status, opened.problem()["code"]), (503, "database-away"))

    async def test_who_does_not_take_what_is_sent_is_let_go(self) -> None:
        listener = stream.Listener("s")
        for number in range(listeners.MOST_WAITING + 1):
            listener.put(number, "x")
        self.assertTrue(listener.over.is_set())

    async def test_who_is_not_signed_in_or_asks_for_nothing_is_refused(self) -> None:
        session = await self.signed_in()
        for key, pk, status, code in (
            ("", 0, 403, "not-signed-in"),
            ("never-was", 0, 403, "not-signed-in"),
            (session, 999, 404, "not-found"),
        ):
            opened = await self.open(key, pk)
            self.assertEqual((opened.status, opened.problem()["code"]), (status, code))

    async def test_a_session_has_only_so_many_and_another_is_not_held_up(self) -> None:
        session = await self.signed_in()
        with mock.patch.object(stream_door, "MOST_OF_A_SESSION", 2):
            first, second = [await self.open(session) for _ in range(2)]
            third = await self.open(session)
            self.assertEqual(third.status, 429)
            self.assertEqual(third.problem()["code"], "too-many-streams")
            other = await self.open(await self.signed_in())
            self.assertEqual(other.status, 200)
            await first.close()
            fourth = await self.open(session)
            self.assertEqual(fourth.status, 200)
            for one in (second, other, fourth):
                await one.close()
        self.assertEqual(StreamDoor.of_session, {})

    async def test_a_program_listens_with_a_token_until_it_is_revoked(self) -> None:
        row, secret = await asyncio.to_thread(self.make_token)
        opened = await self.open("", authorization=f"Bearer {secret}")
        self.assertEqual(opened.status, 200)
        await opened.text()
        await asyncio.to_thread(row.delete)
        self.assertEqual([text async for text in opened.rest()][-1], ": your session is over\n\n")
        again = await self.open("", authorization=f"Bearer {secret}")
        self.assertEqual((again.status, again.problem()["code"]), (403, "not-signed-in"))

    async def test_a_run_that_is_out_of_reach_is_not_found(self) -> None:
        session = await self.signed_in()
        await asyncio.to_thread(RoleGrant.objects.update, scope={"plans": ["NONE"]})
        opened = await self.open(session)
        self.assertEqual((opened.status, opened.problem()["code"]), (404, "not-found"))

    def make_token(self) -> Any:
        """A token of Ann's, and its secret."""
        ann = User.objects.get(username="ann")
        return ApiToken.objects.create(ann, None, "", name="script", roles=["administrator"])

    async def test_many_who_ask_at_once_are_looked_up_in_one_question(self) -> None:
        pump, session = stream.Pump(), await self.signed_in()
        with mock.patch.object(listeners, "ended", wraps=listeners.ended) as looks:
            asked = [pump.sessions.is_over(key) for key in [session] * 50 + ["never-was"] * 50]
            self.assertEqual(await asyncio.gather(*asked), [False] * 50 + [True] * 50)
        self.assertEqual(looks.call_count, 1)


class EverywhereStream(TransactionTestCase):
    """One stream for a whole browser."""

    def setUp(self) -> None:
        make_person("ann", password=PASSWORD)
        self.run_row = make_run()
        self.streams = LiveUpdates()

    async def opened(self) -> Opened:
        """As the server is asked for it."""
        client = AsyncClient()
        await client.alogin(username="ann", password=PASSWORD)
        session = client.cookies["maestoso_session"].value
        opened = Opened("/api/v1/stream", session, {}, self.streams, live_updates.PATH)
        await opened.begun()
        return opened

    async def next(self, opened: Opened, kind: str) -> Any:
        """The data of the next event of a kind."""
        while not (text := await opened.text()).startswith(f"event: {kind}\n"):
            self.assertTrue(text, "the stream ended")
        return json.loads(text.split("data: ", 1)[1])

    async def test_it_says_how_the_line_stands_and_which_records_changed(self) -> None:
        opened = await self.opened()
        line = await self.next(opened, "line")
        self.assertEqual([run["id"] for run in line["runs"]], [self.run_row.pk])
        self.assertIsNone(line["runs"][0]["waits"])
        await asyncio.to_thread(hold, self.run_row.pk)
        while (line := await self.next(opened, "line"))["runs"][0]["waits"] is None:
            pass
        self.assertEqual(line["runs"][0]["waits"]["title"], "The run is held")
        self.assertEqual(await self.next(opened, "changed"), {"topics": ["runs"]})
        await opened.close()
        self.assertEqual(self.streams.listeners, {})

    async def test_it_beats_while_a_look_takes_long_so_that_nobody_holds_the_server_for_lost(self) -> None:
        going = threading.Event()

        def slow(now: Any, who: str, reach: Reach) -> str:
            going.wait(60)
            return "nothing"

        with (
            mock.patch.object(live_updates, "BEAT_S", 0.01),
            mock.patch.object(live_updates, "site_line", slow),
        ):
            opened = await self.opened()
            for _ in range(5):
                self.assertEqual(await self.next(opened, "beat"), {})
            going.set()
            await opened.close()

    async def test_that_somebody_looks_is_known_to_who_keeps_the_board(self) -> None:
        opened = await self.opened()
        await self.next(opened, "line")
        kept = await StoredBoard.objects.aget(pk=1)
        self.assertGreater(kept.watched_until, SystemClock().now())
        await opened.close()

    async def test_every_topic_has_a_mark_that_moves_with_its_records(self) -> None:
        before = await asyncio.to_thread(self.marks)
        self.assertEqual(await asyncio.to_thread(self.marks), before)
        await asyncio.to_thread(hold, self.run_row.pk)
        after = await asyncio.to_thread(self.marks)
        self.assertEqual({topic for topic in before if before[topic] != after[topic]}, {"runs"})

    def marks(self) -> live_updates.Marks:
        found = live_updates.read_marks()
        connection.close()
        return found
