"""A line to a site on which messages are lost, doubled, late or garbled: between Maestoso and an agent.

By chance, while ``trouble`` is above 0: a request is cut off before it arrives or before its answer comes back,
is passed on twice, stands still, or is answered by something that is no agent, in half, or by a newer protocol.
"""

from __future__ import annotations

import asyncio
import json
import random
import socket
import struct
import threading
from collections import Counter

ENDS = b"\r\n\r\n"
STALLS_S = 2.5
LOGIN = b"<html><title>Sign in</title><form>Your name, please.</form></html>"
TROUBLES = (
    "cut before",
    "cut after",
    "twice",
    "stands still",
    "login page",
    "half an answer",
    "newer protocol",
)
Message = tuple[bytes, bytes]
"""Head and body."""


class LossyLine:
    """Passes on what comes to ``port`` to the agent at ``target``, in a thread with a loop of its own."""

    def __init__(self, target: int, seed: str) -> None:
        self.trouble = 0.0
        self.had: Counter[str] = Counter()
        self._target, self._chance = target, random.Random(seed)
        self._loop: asyncio.AbstractEventLoop | None = None
        self._closed = asyncio.Event()
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._listening.getsockname()[1])
        self._thread = threading.Thread(target=lambda: asyncio.run(self._run()), daemon=True)
        self._thread.start()

    async def _run(self) -> None:
        self._loop = asyncio.get_running_loop()
        async with await asyncio.start_server(self._serve, sock=self._listening):
            await self._closed.wait()

    def close(self) -> None:
        """Pass nothing on any more."""
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._closed.set)
        self._thread.join(10)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                asked = await _read(reader)
                drawn = self._chance.random() < self.trouble
                trouble = self._chance.choice(TROUBLES) if drawn else ""
                self.had[trouble] += 1
                answer = await self._answer(asked, trouble)
                if answer is None:
                    # As a reset: what was on its way is gone.
                    writer.get_extra_info("socket").setsockopt(
                        socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0)
                    )
                    break
                writer.write(answer)
                await writer.drain()
        except (asyncio.IncompleteReadError, OSError):
            pass
        finally:
            writer.close()

    async def _answer(self, asked: Message, trouble: str) -> bytes | None:
        if trouble == "cut before":
            return None
        if trouble == "login page":
            return _written(b"HTTP/1.1 200 OK\r\ncontent-type: text/html", LOGIN)
        if trouble == "stands still":
            await asyncio.sleep(STALLS_S)
        if trouble == "twice":
            await self._passed_on(asked)
        head, body = await self._passed_on(asked)
        if trouble == "cut after":
            return None
        if trouble == "half an answer":
            return _written(head, body[: len(body) // 2])
        if trouble == "newer protocol" and body.startswith(b"{"):
            return _written(head, json.dumps({**json.loads(body), "since-9.0": {"more": [1, None]}}).encode())
        return _written(head, body)

    async def _passed_on(self, asked: Message) -> Message:
        reader, writer = await asyncio.open_connection("127.0.0.1", self._target)
        try:
            writer.write(ENDS.join(asked))
            await writer.drain()
            return await _read(reader)
        finally:
            writer.close()


async def _read(reader: asyncio.StreamReader) -> Message:
    """One message with a length, as both sides send them."""
    head = (await reader.readuntil(ENDS)).removesuffix(ENDS)
    fields = dict(line.lower().split(b":", 1) for line in head.split(b"\r\n")[1:])
    return head, await reader.readexactly(int(fields.get(b"content-length", b"0")))


def _written(head: bytes, body: bytes) -> bytes:
    lines = [line for line in head.split(b"\r\n") if not line.lower().startswith(b"content-length:")]
    return b"\r\n".join([*lines, b"content-length: %d" % len(body)]) + ENDS + body
