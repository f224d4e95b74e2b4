"""Starts practice sites.

``python -m maestoso.practice --scenario DIR --site QUA --port 8472 --state FILE`` is one site of a scenario;
``python -m maestoso.practice --port 8479 --state DIR`` is as many empty ones as are asked for.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any

import uvicorn

from maestoso.engine.clock import SystemClock
from maestoso.practice.host import Host
from maestoso.practice.scenario import Scenario
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store


def main() -> None:
    """Replay what the site already did, and serve the protocol on loopback."""
    parser = argparse.ArgumentParser(prog="maestoso.practice", description=__doc__)
    parser.add_argument("--scenario", type=Path, help="folder of scenario files")
    parser.add_argument("--site", help="code of the site of the scenario to be")
    parser.add_argument("--port", type=int, required=True, help="port on 127.0.0.1")
    parser.add_argument("--state", type=Path, required=True, help="file or folder that keeps what sites did")
    parser.add_argument("--peer", action="append", default=[], help="CODE=URL of another site")
    options = parser.parse_args()
    if (options.scenario is None) != (options.site is None):
        parser.error("--scenario and --site belong together")
    uvicorn.run(
        _application(options), host="127.0.0.1", port=options.port, log_level="warning",
        timeout_graceful_shutdown=1, access_log=False,
    )  # fmt: skip


def _application(options: argparse.Namespace) -> Any:
    clock = SystemClock()
    # In the environment, not in the arguments: those can be read by everybody on the machine.
    token = os.environ["MAESTOSO_SITE_TOKEN"]
    if options.site is None:
        return Host(options.state, clock, token)
    store = Store(options.state, clock.now())
    world = store.replay(Scenario(options.scenario).spec(options.site, store.created_at))
    peers = dict(peer.split("=", 1) for peer in options.peer)
    return application(PracticeSite(world, store, clock, token, peers))


if __name__ == "__main__":
    main()
