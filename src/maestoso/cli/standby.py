"""``./maestoso standby`` and ``./maestoso takeover``: a second Maestoso, for the day the first one burns.

A standby begins with a backup of the primary, which holds its records, keys and secrets, and follows its
database from there. It conducts nothing, until somebody has it take over.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from pathlib import Path

import pymysql

from maestoso.cli import database, replication
from maestoso.cli.keys import make_secrets
from maestoso.cli.processes import Processes
from maestoso.cli.replication import Following, Standby
from maestoso.cli.stages import StageFailed, stage
from maestoso.engine.clock import SystemClock
from maestoso.real_lab import certificate
from maestoso.server.backups import records
from maestoso.server.config.options import CERTIFICATE, STANDBY, Options

WORDS = "take over"
CONNECTED_WITHIN_S = 20.0
SAID_EVERY_S = 60.0


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
    replication.write_standby(options, Standby(host=host, port=port, since=since, position=position))


def serve_standby(processes: Processes, standby: Standby, wait: Callable[[], None]) -> None:
    """Follow until somebody stops it; ``wait`` returns then."""
    options, log = processes.options, processes.logs / "setup.log"
    with stage("Database"):
        database.initialise(options, processes.secrets, log)
        processes.start_supervisor(everything=False)
        processes.wait_for_records()
    print(f"\n  This is the standby of the Maestoso at {standby.host}. {begin_to_follow(processes, standby)}")
    print(
        "  ./maestoso takeover, in another terminal, makes it conduct. Ctrl+C stops everything.\n", flush=True
    )
    wait()


def begin_to_follow(processes: Processes, standby: Standby) -> str:
    """See to it that it follows; how that goes, in a sentence. Its database must run."""
    with database.administrator(processes.options, processes.secrets) as line:
        if replication.following(line).trouble == replication.NOBODY:
            with line.cursor() as cursor:
                replication.follow(cursor, processes.options, processes.secrets, standby)
        return in_words(_settled(line))


def in_words(found: Following) -> str:
    """How the following goes, in a sentence."""
    if found.behind_s is None or not found.connected:
        return f"It does not hear from it: {found.trouble or 'the line is being made'}."
    return "It has all that the primary has." if not found.behind_s else f"It is {found.behind_s} s behind."


def say(options: Options) -> int:
    """How the standby stands; the status is 1 where it does not follow."""
    standby = _is_standby(options)
    secrets = make_secrets(options)
    if not database.answers(options, secrets):
        raise StageFailed(f"The standby in {options.var} does not run. Start it: ./maestoso start")
    with database.administrator(options, secrets) as line:
        found = replication.following(line)
    print(f"It follows {standby.host}:{standby.port} since {standby.since}. {in_words(found)}")
    return 0 if found.connected else 1


def take_over(options: Options, sure: bool, django: Callable[..., None]) -> int:
    """Make a standby conduct: what has arrived is taken in, and a new reign begins, which sites hold to.

    Raises StageFailed; the standby is one still then.
    """
    standby = _is_standby(options)
    processes = Processes(options, make_secrets(options), practice=False)
    if not database.answers(options, processes.secrets):
        database.initialise(options, processes.secrets, processes.logs / "setup.log")
        processes.start_supervisor(everything=False)
        processes.wait_for_records()
    with database.administrator(options, processes.secrets) as line:
        found = replication.following(line)
        _tell(line, options, standby, found)
        if not sure and not _typed():
            print("Nothing was changed. Say it with --yes where nobody can be asked.")
            return 1
        with stage("Taking in what has arrived"):
            replication.stop_following(line)
    (options.var / STANDBY).unlink()
    try:
        with stage("Beginning a new reign"):
            django(processes, "begin_reign")
    except BaseException:
        replication.write_standby(options, standby)
        raise
    processes.stop()
    print(
        "\n  This Maestoso conducts now, as soon as it is started: ./maestoso start, or its services anew.\n"
        "  Sites refuse the one before from the first thing on that they are asked for."
    )
    return 0


def _is_standby(options: Options) -> Standby:
    standby = replication.read_standby(options)
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
