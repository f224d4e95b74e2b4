"""``./maestoso standby`` and ``./maestoso takeover``: a second Maestoso, for the day the first one burns.

A standby begins with a backup of the primary, which holds its records, keys and secrets, and follows its
database from there. It conducts nothing, until somebody has it take over.
"""

from __future__ import annotations

import fcntl
import sys
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import pymysql

from maestoso.cli import database, front_end, replication
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.stages import StageFailed, stage
from maestoso.engine.clock import SystemClock
from maestoso.real_lab import certificate
from maestoso.server.backups import records
from maestoso.server.config.options import CERTIFICATE, Options
from maestoso.server.config.standby import (
    NOBODY,
    WORDS,
    Following,
    Standby,
    conducts_now,
    read_standby,
    write_standby,
)

CONNECTED_WITHIN_S = 20.0
LOOK_EVERY_S = 0.5
Django = Callable[..., None]
"""Runs a command of Django's on an installation."""


def parse_of(of: str) -> tuple[str, int]:
    """Host and port of a primary. Raises StageFailed."""
    host, _, port = of.rpartition(":")
    if not host or not port.isdigit():
        raise StageFailed(
            f"{of!r} is no address of a database. Write HOST:PORT, with the primary's replication_port."
        )
    return host.strip("[]"), int(port)


def become_standby(options: Options, of: str, room: Path) -> None:
    """Note what is followed, of a backup that was just unpacked and loaded. Raises StageFailed."""
    host, port = parse_of(of)
    position = records.position(room / records.SQL)
    if not position or not (room / CERTIFICATE).is_file():
        raise StageFailed(
            "This backup cannot begin a standby: it was made while the primary had no replication_port. "
            "Set one there, start it anew, and make another backup."
        )
    known = certificate.names_of(room / CERTIFICATE)
    if host not in known:
        raise StageFailed(
            f"The certificate of the primary's database is for {', '.join(known)}, and not for {host}. "
            "Name it by one of these, or set its public_address to a name that it is reached by, remove "
            "mariadb/replication.pem there, start it anew, and make another backup."
        )
    replication.keep_certificate(options, (room / CERTIFICATE).read_text(encoding="utf-8"))
    since = SystemClock().now().isoformat(timespec="seconds")
    write_standby(options.var, Standby(host=host, port=port, since=since, position=position))


def serve_standby(processes: Processes, django: Django) -> bool:
    """Follow, and serve pages to look at, until somebody stops it; True when it has taken over."""
    options, log = processes.options, processes.logs / "setup.log"
    if processes.serves_pages():
        front_end.build(log)
    with stage("Database and web server" if processes.serves_pages() else "Database"):
        database.initialise(options, processes.secrets, log)
        processes.start_supervisor(everything=True)
        processes.wait_until_up()
    standby = _is_standby(options)
    print(f"\n  This is the standby of the Maestoso at {standby.host}. {begin_to_follow(processes, standby)}")
    if processes.serves_pages():
        print(f"  What it has is shown at {processes.address}; nothing is changed there.")
    print("  ./maestoso takeover, or its page, makes it conduct. Ctrl+C stops everything.\n", flush=True)
    while processes.running() is not None:
        if took_over(processes, django):
            print("\n  It has taken over, and conducts from now on.")
            return True
        time.sleep(LOOK_EVERY_S)
    print("The standby was stopped.")
    return False


def rest(processes: Processes, django: Django) -> None:
    """What a service does without work on a standby: once that has taken over it ends, to be started anew."""
    print("This is a standby: it follows, and serves pages to look at, until it takes over.", flush=True)
    while not took_over(processes, django):
        time.sleep(LOOK_EVERY_S)


def took_over(processes: Processes, django: Django) -> bool:
    """Whether this is no standby any more: what somebody has said is done first, by whoever comes first.

    What cannot be done is written down, for who asked for it.
    """
    with suppress(StageFailed, pymysql.MySQLError):
        _do_as_said(processes, django)
    return read_standby(processes.options.var) is None


def _do_as_said(processes: Processes, django: Django) -> None:
    """Raises StageFailed, pymysql.MySQLError."""
    var = processes.options.var
    standby = read_standby(var)
    if standby is None or not standby.taking_over:
        return
    with (var / "takeover.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        standby = read_standby(var)
        if standby is None or not standby.taking_over:
            return
        try:
            with (
                database.administrator(processes.options, processes.secrets) as line,
                stage("Taking in what has arrived"),
            ):
                replication.stop_following(line)
        except (StageFailed, pymysql.MySQLError) as error:
            # It follows still, and can be asked again.
            write_standby(var, replace(standby, taking_over=False, failed=str(error)))
            raise
        with stage("Beginning a new reign"):
            did = f"Take over from {standby.host}"
            if standby.witness:
                did += f", with the lease of the witness {standby.witness}"
            django(processes, "begin_reign", f"--by={standby.by}", f"--did={did}")
        # Last: whoever was cut off before finds it said, and does it.
        conducts_now(var)
        if processes.options.replication_port:
            replication.make_certificate(processes.options, var / "mariadb")


def begin_to_follow(processes: Processes, standby: Standby) -> str:
    """See to it that it follows; how that goes, in a sentence. Its database must run."""
    with database.administrator(processes.options, processes.secrets) as line:
        if standby.taking_over:
            return "It takes over."
        if replication.following(line).trouble == NOBODY:
            with line.cursor() as cursor:
                replication.follow(cursor, processes.options, processes.secrets, standby)
        return _settled(line).in_words()


def say(options: Options) -> int:
    """How the standby stands; the status is 1 where it does not follow."""
    standby = _is_standby(options)
    secrets = make_secrets(options)
    if not database.answers(options, secrets):
        raise StageFailed(f"The standby in {options.var} does not run. Start it: ./maestoso start")
    with database.administrator(options, secrets) as line:
        found = replication.following(line)
    print(f"It follows {standby.host}:{standby.port} since {standby.since}. {found.in_words()}")
    return 0 if found.connected else 1


def take_over(options: Options, sure: bool, django: Django) -> int:
    """Make a standby conduct: what has arrived is taken in, and a new reign begins, which sites hold to.

    Raises StageFailed; the standby is one still then.
    """
    standby = _is_standby(options)
    processes = Processes(options, make_secrets(options), practice=False)
    ran = database.answers(options, processes.secrets)
    if not ran:
        database.initialise(options, processes.secrets, processes.logs / "setup.log")
        processes.start_supervisor(everything=False)
        processes.wait_for_records()
    with database.administrator(options, processes.secrets) as line:
        _tell(line, options, standby, replication.following(line))
    if not sure and not _typed():
        print("Nothing was changed. Say it with --yes where nobody can be asked.")
        return 1
    write_standby(options.var, replace(standby, taking_over=True, by="", witness="", failed=""))
    done = took_over(processes, django)
    left = read_standby(options.var)
    if not done and left is not None:
        raise StageFailed(left.failed or "A new reign could not be begun. Say it again.")
    if not ran:
        processes.stop()
    then = "as soon as it is started: ./maestoso start" if not ran else "and starts all that it needs"
    print(
        f"\n  This Maestoso conducts now, {then}.\n"
        "  Sites refuse the one before from the first thing on that they are asked for."
    )
    return 0


def _is_standby(options: Options) -> Standby:
    standby = read_standby(options.var)
    if standby is None:
        raise StageFailed(f"What is installed in {options.var} is no standby.")
    return standby


def _settled(line: object) -> Following:
    """How it goes, once the line is made or is known not to be."""
    until = time.monotonic() + CONNECTED_WITHIN_S
    while True:
        found = replication.following(line)
        if found.connected or found.trouble or time.monotonic() > until:
            return found
        time.sleep(0.2)


def _tell(line: pymysql.Connection, options: Options, standby: Standby, found: Following) -> None:
    """What is known of the primary, and what may be missing."""
    print(f"\n  The primary is at {standby.host}:{standby.port}.")
    if found.connected:
        print("  It ANSWERS: it is alive. It will be refused by the sites when this one takes over.")
    else:
        print(f"  It does not answer: {found.trouble or 'the line is down'}.")
    with line.cursor() as cursor:
        cursor.execute(
            f"SELECT TIMESTAMPDIFF(SECOND, MAX(at), UTC_TIMESTAMP()) FROM `{options.db_name}`.runs_enginebeat"
        )
        (age,) = cursor.fetchone() or (None,)
        cursor.execute(f"SELECT COUNT(*) FROM `{options.db_name}`.runs_run WHERE outcome = ''")
        (under_way,) = cursor.fetchone() or (0,)
    if age is not None:
        print(f"  Its engine was heard last {age} s ago. What people said since is asked anew.")
    print(
        f"  Runs under way: {under_way}. Steps since then are asked for again, and answered by the sites.\n"
    )


def _typed() -> bool:
    return sys.stdin.isatty() and input(f"  Type {WORDS}: ").strip() == WORDS
