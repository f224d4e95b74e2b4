"""A bell for all processes of this machine: it says that something was changed, and nothing of what.

Whoever hears it looks for itself, as it also does once in a while: a ring that is lost only costs that while.
Each listener has a datagram socket in one directory, to which only the user that runs Maestoso gets.
"""

from __future__ import annotations

import asyncio
import contextlib
import os
import select
import socket
from collections.abc import Callable
from pathlib import Path

SUFFIX = ".bell"


class Ear:
    """Hears the bell of a directory, for a thread that waits."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / f"{os.getpid()}-{id(self)}{SUFFIX}"
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM | socket.SOCK_NONBLOCK)
        self._path.unlink(missing_ok=True)
        self._socket.bind(str(self._path))

    def wait(self, most_s: float) -> bool:
        """Wait for a ring; whether there was one, or many, since the last wait."""
        heard = bool(select.select([self._socket], [], [], most_s)[0])
        self._forget()
        return heard

    def close(self) -> None:
        """Hear it no more."""
        self._socket.close()
        self._path.unlink(missing_ok=True)

    def _forget(self) -> None:
        with contextlib.suppress(BlockingIOError):
            while True:
                self._socket.recv(1)


class Bell(Ear):
    """Hears it in the running event loop; ``heard`` is called once for many rings."""

    def __init__(self, folder: Path, heard: Callable[[], None]) -> None:
        super().__init__(folder)
        self._heard = heard
        self._loop = asyncio.get_running_loop()
        self._loop.add_reader(self._socket, self._read)

    def close(self) -> None:
        """Hear it no more."""
        self._loop.remove_reader(self._socket)
        super().close()

    def _read(self) -> None:
        self._forget()
        self._heard()


def ring(folder: Path, *, others: bool = False) -> None:
    """Have everybody hear it, or only ``others`` than this process. Never waits and never fails."""
    own = f"{os.getpid()}-"
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as line:
        line.setblocking(False)
        for path in folder.iterdir():
            if path.suffix != SUFFIX or (others and path.name.startswith(own)):
                continue
            try:
                line.sendto(b"!", str(path))
            except ConnectionRefusedError:
                # Its process died; the next one makes its own.
                path.unlink(missing_ok=True)
            except OSError:
                # It has more to hear already than it can hold, or is just going.
                continue
