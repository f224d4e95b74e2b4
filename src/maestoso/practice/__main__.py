"""Starts one practice site: ``python -m maestoso.practice --scenario DIR --site QUA --port 8711 ...``."""

from __future__ import annotations

import argparse
import os
from pathlib import Path

import uvicorn

from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.practice.server import PracticeSite, application
from maestoso.practice.store import Store


def main() -> None:
    """Read the scenario, replay what the site already did, and serve the protocol on loopback."""
    parser = argparse.ArgumentParser(prog="maestoso.practice", description=__doc__)
    parser.add_argument("--scenario", type=Path, required=True, help="folder of scenario files")
    parser.add_argument("--site", required=True, help="code of the site to be")
    parser.add_argument("--port", type=int, required=True, help="port on 127.0.0.1")
    parser.add_argument("--state", type=Path, required=True, help="file that keeps what the site did")
    parser.add_argument("--peer", action="append", default=[], help="CODE=URL of another site")
    options = parser.parse_args()
    clock = SystemClock()
    store = Store(options.state, clock.now())
    world = store.replay(Scenario(options.scenario).spec(options.site, store.created_at))
    peers = dict(peer.split("=", 1) for peer in options.peer)
    # In the environment, not in the arguments: those can be read by everybody on the machine.
    site = PracticeSite(world, store, clock, os.environ["MAESTOSO_SITE_TOKEN"], peers)
    uvicorn.run(
        application(site), host="127.0.0.1", port=options.port, log_level="warning",
        timeout_graceful_shutdown=1, access_log=False,
    )  # fmt: skip


if __name__ == "__main__":
    main()
