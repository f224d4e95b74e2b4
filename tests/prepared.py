"""One prepared world, made once and copied for whoever needs it: the demo as the launcher makes it.

It is a data directory whose processes have ended (database, practice sites, keys, secrets), kept under ``var/test`` by
a hash of what it is made from. ``python -m tests.prepared`` makes it unless it is there.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

from maestoso.cli import database
from maestoso.cli.__main__ import made_from, make_records, stamp_of
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.stages import run
from maestoso.cli.testing import LOG
from maestoso.engine.clock import SystemClock
from maestoso.practice.scenario import Scenario
from maestoso.practice.store import Store
from maestoso.server.config.options import ROOT, Options
from tests.ports import free_ports

FOLDER = ROOT / "var" / "test"
WORKER = "MAESTOSO_TEST_WORKER"
"""In the environment of what a worker of ``./maestoso test`` runs: a number of its own, for its ports."""
KEPT_S = 3600.0
"""How long it is used: the demo speaks of days ago, and of what was copied until now."""
LEFT = ("run", "log", "start.lock", "made")
"""What is of one start only."""
SOURCES = ("src", "demo", "requirements.lock", "tests/prepared.py", "tests/server/databases.py")


@contextlib.contextmanager
def scratch() -> Iterator[Options]:
    """A directory and free ports that belong to one test alone, with a database that need not last."""
    memory = Path("/dev/shm")
    parent = memory if os.access(memory, os.W_OK) else None
    folder = Path(tempfile.mkdtemp(prefix="maestoso-test-", dir=parent))
    folder.chmod(0o711)  # the database has a user of its own where root runs the tests
    try:
        yield free_ports(replace(Options(), var=folder / "var", db_durable=False), sites=3)
    finally:
        if database.home(folder / "var").is_symlink():
            database.remove(folder / "var")
        shutil.rmtree(folder, ignore_errors=True)


def world() -> Path:
    """The prepared world; others may ask at once.

    In a whole run it is that which was made when the run began, whatever somebody edits meanwhile.
    """
    made = [place for place in FOLDER.glob("world-*/base") if (place / "made").is_file()]
    return made[0] if made and WORKER in os.environ else fresh_world()


def fresh_world() -> Path:
    """The prepared world, made unless there is a fresh one of these sources; a whole run begins with it."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    place = FOLDER / f"world-{_made_from()}" / "base"
    with (FOLDER / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        made = place / "made"
        if not made.is_file() or SystemClock().now().timestamp() - made.stat().st_mtime > KEPT_S:
            for old in FOLDER.glob("world-*"):
                shutil.rmtree(old)
            with scratch() as options:
                _make(options, [sys.executable, "-m", "tests.server.databases"])
                _copy(options.var, place)
            made.touch()
        if WORKER in os.environ:  # what an earlier run had at its ports
            for old in place.parent.glob("at-*"):
                shutil.rmtree(old)
    return place


def copy_to(options: Options, *, again: bool = False) -> None:
    """Make a copy of the prepared world the data directory of ``options``, which must not be there yet.

    ``again``: others will be wanted at the same ports, so that the next start has nothing left to prepare.
    """
    place = world()
    if again:
        place = _at_ports(place, options)
    _copy(place, options.var)


def _at_ports(place: Path, options: Options) -> Path:
    """The world as it is after its first start at these ports, where its practice sites are looked for."""
    there = place.parent / f"at-{options.site_port}"
    if not (there / "made").is_file():
        shutil.rmtree(there, ignore_errors=True)
        with scratch() as other:
            options = replace(options, var=other.var)
            _copy(place, options.var)
            _make(options)
            stamp_of(options.var, demo=True).write_text(made_from(options))
            _copy(options.var, there)
        (there / "made").touch()
    return there


def _make(options: Options, *more: list[str]) -> None:
    """Make the records in ``options.var``, as the launcher would; all its processes have ended when this returns.

    ``more`` commands are run while they are there.
    """
    with nobody_at_work(options) as processes:
        for command in more:
            run(command, LOG, cwd=ROOT, env=processes.environment())
    _nobody_is_away(options)


@contextlib.contextmanager
def nobody_at_work(options: Options) -> Iterator[Processes]:
    """Database and practice sites alone, with the records as the launcher makes them: nothing changes them."""
    processes = Processes(options, make_secrets(options), practice=True)
    try:
        make_records(processes, demo=True, log=LOG)
        yield processes
    finally:
        processes.stop()


def _nobody_is_away(options: Options) -> None:
    """The practice sites ended one after the other, and each saw those before it go away."""
    scenario, now = Scenario(options.scenario), SystemClock().now()
    for code in scenario.site_codes():
        store = Store(options.var / "sites" / f"{code}.sqlite", now)
        world = store.replay(scenario.spec(code, store.created_at))
        world.advance(now.timestamp())
        for other in list(world.replication.away):
            world.set_away(other, "", now.timestamp())
        store.keep_copying(world)
        store.close()


def _copy(source: Path, target: Path) -> None:
    # Whose files they are and who may read them is part of the world.
    target.parent.mkdir(parents=True, exist_ok=True)
    subprocess.run(["cp", "-a", str(source), str(target)], check=True)
    for left in LEFT:
        path = target / left
        shutil.rmtree(path) if path.is_dir() else path.unlink(missing_ok=True)


def _made_from() -> str:
    digest = hashlib.sha256(f"{os.getuid()}".encode())
    for name in SOURCES:
        top = ROOT / name
        files = (
            sorted(path for path in top.rglob("*") if "__pycache__" not in path.parts)
            if top.is_dir()
            else [top]
        )
        for file in files:
            if file.is_file():
                digest.update(str(file.relative_to(ROOT)).encode() + b"\0" + file.read_bytes())
    return digest.hexdigest()[:16]


if __name__ == "__main__":
    print(f"The prepared world is {fresh_world()}.")
