"""Event streams opened all at once: ``python -m bench.streams ADDRESS PASSWORD RUN [200]``. Asserts nothing.

Opens so many streams of one run of an application that was started before (``./maestoso demo``), prints when the
first and the last of them had its first message, and
how long after signing out the last of them ended.
"""

from __future__ import annotations

import asyncio
import sys
import time
from urllib.parse import urlsplit

import httpx

PATIENCE_S = 60.0


async def one(host: str, port: int, path: str, cookie: str, opened: list[float], ended: list[float]) -> None:
    """One stream, until it ends."""
    begin = time.perf_counter()
    reader, writer = await asyncio.open_connection(host, port, limit=2**24)
    writer.write(
        f"GET {path} HTTP/1.1\r\nHost: {host}\r\nCookie: {cookie}\r\nConnection: close\r\n\r\n".encode()
    )
    while line := await reader.readline():
        if line.startswith(b"data:"):
            opened.append(time.perf_counter() - begin)
            break
    while await reader.read(65536):
        pass
    ended.append(time.perf_counter())
    writer.close()


async def measure(address: str, password: str, run: int, count: int) -> None:
    """Open, sign out, wait for the end."""
    at = urlsplit(address)
    with httpx.Client(base_url=f"{address}/api/v1", trust_env=False, timeout=30) as http:
        csrf = {"X-CSRFToken": http.get("/session").json()["csrf"]}
        reply = http.post("/session", json={"name": "administrator", "password": password}, headers=csrf)
        csrf = {"X-CSRFToken": reply.json()["csrf"]}
        cookie = f"maestoso_session={http.cookies['maestoso_session']}"
        opened: list[float] = []
        ended: list[float] = []
        path = f"/api/v1/runs/{run}/stream"
        streams = [
            asyncio.create_task(one(at.hostname or "", at.port or 80, path, cookie, opened, ended))
            for _ in range(count)
        ]
        async with asyncio.timeout(PATIENCE_S):
            while len(opened) < count:
                await asyncio.sleep(0.01)
        opened.sort()
        print(
            f"{count} streams: first message after {opened[0]:.2f} to {opened[-1]:.2f} s, half {opened[count // 2]:.2f} s"
        )
        begin = time.perf_counter()
        http.request("DELETE", "/session", headers=csrf)
        async with asyncio.timeout(PATIENCE_S):
            await asyncio.gather(*streams)
        print(f"ended {max(ended) - begin:.2f} s after signing out")


if __name__ == "__main__":
    asyncio.run(
        measure(sys.argv[1], sys.argv[2], int(sys.argv[3]), int(sys.argv[4]) if len(sys.argv) > 4 else 200)
    )
