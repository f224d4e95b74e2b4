"""Ports for tests that nobody has, nor gets for a connection while nobody listens there.

Linux gives connections ports from 32768. Applications have theirs in blocks above 20000; single ones are below.
"""

from __future__ import annotations

import fcntl
import itertools
import os
import random
import socket
import tempfile
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import TextIO

from maestoso.server.config.options import Options

SINGLE = range(10_000, 20_000)
FIRST_PORT, BLOCKS, BLOCK = 20_000, 750, 16
# Each call gets a block of its own: what is chosen early and started late meets nothing of this process.
_blocks = itertools.count(os.getpid())
_kept: dict[int, TextIO] = {}
"""Blocks of this process: until it ends no other gets them, even before anything listens there."""


def free_ports(options: Options, sites: int, first: int | None = None) -> Options:
    """The options with ports that are free now: where it can be, those of the block ``first``.

    Raises OSError where no block is free.
    """
    for number in itertools.chain([] if first is None else [first], itertools.islice(_blocks, BLOCKS)):
        if not _keeps(number % BLOCKS):
            continue
        base = FIRST_PORT + number % BLOCKS * BLOCK
        held: list[socket.socket] = []
        try:
            for port in range(base, base + 3 + sites):
                held.append(_bound(port))
        except OSError:
            continue
        finally:
            for one in held:
                one.close()
        return replace(
            options, web_port=base, practice_port=base + 1, names_port=base + 2, site_port=base + 3
        )
    raise OSError("no ports are free for a test")


def _keeps(block: int) -> bool:
    """Whether a block belongs to this process. What two tests began at once would answer for each other."""
    if block in _kept:
        return True
    folder = Path(tempfile.gettempdir(), f"maestoso-test-ports-{os.getuid()}")
    folder.mkdir(exist_ok=True)
    held = (folder / str(block)).open("w")
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        held.close()
        return False
    _kept[block] = held
    return True


def _bound(port: int) -> socket.socket:
    taken = socket.socket()
    # What listened there a moment ago still ends its connections: that does not keep the next one away.
    taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        taken.bind(("127.0.0.1", port))
    except (OSError, OverflowError):
        taken.close()
        raise OSError(f"port {port} is taken") from None
    return taken


def free_port() -> int:
    """A single one. Whoever listens there may end, and come back."""
    for port in random.sample(SINGLE, 200):
        with suppress(OSError):
            _bound(port).close()
            return port
    raise OSError("no port is free for a test")
