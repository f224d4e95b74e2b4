"""What every process of an installation needs, loaded by who starts them as copies of itself."""

from __future__ import annotations

from importlib import import_module

import django

MODULES = (
    "uvicorn.main",
    "uvicorn.loops.auto",
    "uvicorn.protocols.http.auto",
    "maestoso.practice.host",
    "maestoso.practice.server",
    "maestoso.server.access.stream_door",
    "maestoso.server.board.stream",
    "maestoso.server.runs.stream",
    "maestoso.server.config.urls",
    "maestoso.server.jobs.management.commands.run_workers",
    "maestoso.server.keeper.management.commands.run_keeper",
    "maestoso.server.runs.management.commands.run_engine",
)
"""What the command lines of :mod:`maestoso.cli.processes` lead to. None connects to anything or starts
anything when it is loaded: what it made then would be the same in all copies."""


def load() -> None:
    """Load all of it. Raises what goes wrong: ImportError, say, or ValueError for a bad setting."""
    django.setup()
    for name in MODULES:
        import_module(name)
