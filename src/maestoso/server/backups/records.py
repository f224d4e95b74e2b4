"""The records as SQL: written at one moment without stopping anybody, loaded, and looked at in a database of
their own."""

from __future__ import annotations

import fcntl
import json
import os
import re
import shutil
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, replace
from pathlib import Path

from maestoso.server.backups.archive import ON_ITS_WAY, BackupFailed
from maestoso.server.config.options import (
    CERTIFICATE,
    CHARACTERS,
    SETTINGS,
    Options,
    Secrets,
    database_hosts,
    database_socket,
    variable,
)

SQL, SECRETS, KEYS = "records.sql", "secrets.json", "keys"
SCRATCH = "backup_check"
POSITION = ("--master-data=2", "--gtid")
END_READ = 10_000
LONGEST_S = 6 * 3600.0


def gather(options: Options, secrets: Secrets, folder: Path) -> None:
    """Everything that a backup holds, into an empty folder."""
    dump(options, secrets, folder / SQL)
    if (options.var / CERTIFICATE).is_file():
        shutil.copy(options.var / CERTIFICATE, folder / CERTIFICATE)
    shutil.copy(options.var / SECRETS, folder / SECRETS)
    if (options.var / KEYS).is_dir():
        shutil.copytree(options.var / KEYS, folder / KEYS)


def dump(options: Options, secrets: Secrets, file: Path) -> None:
    """All tables of one moment: in a transaction that reads, so that nobody waits for it.

    With the position of that moment, where standbys follow; only its administrator may ask for that.
    """
    followed = bool(options.replication_port) and not options.db_host
    command = [
        _program("mariadb-dump"), *_line(options, "root" if followed else ""),
        *(POSITION if followed else ()),
        "--single-transaction", "--quick", "--skip-lock-tables",
        "--no-tablespaces", "--hex-blob", "--skip-dump-date", "--default-character-set=utf8mb4",
        options.db_name,
    ]  # fmt: skip
    password = secrets.db_root_password if followed else secrets.db_password
    with file.open("wb") as out:
        _run(command, password, "The records could not be written down", stdout=out)


def position(file: Path) -> str:
    """Behind which position a standby follows that begins with these records; empty where none is said."""
    with file.open("rb") as opened:
        opened.seek(max(file.stat().st_size - END_READ, 0))
        found = re.findall(rb"gtid_slave_pos='([^']*)'", opened.read())
    return found[-1].decode() if found else ""


def load(options: Options, secrets: Secrets, file: Path, database: str) -> None:
    """Load what was written down into an empty database."""
    with file.open("rb") as given:
        command = [_program("mariadb"), *_line(options), "--default-character-set=utf8mb4", database]
        _run(command, secrets.db_password, "The records could not be loaded", stdin=given)


def put_back(options: Options, secrets: Secrets, file: Path) -> None:
    """Make the database anew from what was written down."""
    name = f"`{options.db_name}`"
    execute(options, secrets, f"DROP DATABASE {name}; CREATE DATABASE {name} {CHARACTERS}")
    load(options, secrets, file, options.db_name)


def runs_under_way(options: Options, secrets: Secrets) -> int:
    """How many runs go on when it is started."""
    return int(execute(options, secrets, "SELECT COUNT(*) FROM runs_run WHERE outcome = ''", options.db_name))


def execute(options: Options, secrets: Secrets, statement: str, database: str = "") -> str:
    """What the database says to a statement, without headings."""
    command = [_program("mariadb"), *_line(options), "--batch", "--skip-column-names", "--execute", statement]
    return _run(
        [*command, *([database] if database else [])], secrets.db_password, "The database refused"
    ).decode()


def troubles_of(options: Options, secrets: Secrets, folder: Path, *, older: bool = False) -> list[str]:
    """Load what a backup holds into a database of its own, and hold it against its seals; what is wrong.

    With the keys that are in it, beside what runs, one after the other. Those of an ``older`` release are
    brought up to this one first. Raises BackupFailed where that cannot be tried.
    """
    scratch = f"test_{options.db_name}_{SCRATCH}"
    with (options.var / "backup-check.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        execute(
            options, secrets,
            f"DROP DATABASE IF EXISTS `{scratch}`; CREATE DATABASE `{scratch}` {CHARACTERS}",
        )  # fmt: skip
        try:
            load(options, secrets, folder / SQL, scratch)
            with _as_installed(options, secrets, folder) as var:
                there = {variable("var"): str(var), variable("db_name"): scratch, SETTINGS: ""}
                wrong = _django("prepare", there) if older else []
                return wrong or _django("check_integrity", there)
        finally:
            execute(options, secrets, f"DROP DATABASE IF EXISTS `{scratch}`")


def _django(command: str, there: dict[str, str]) -> list[str]:
    """What a management command finds wrong with the installation that is ``there``."""
    environment = {**os.environ, "DJANGO_SETTINGS_MODULE": "maestoso.server.config.settings", **there}
    done = subprocess.run(
        [sys.executable, "-m", "django", command], capture_output=True, text=True, env=environment,
        check=False, timeout=LONGEST_S,
    )  # fmt: skip
    if done.returncode == 0:
        return []
    said = [line for line in done.stdout.splitlines() if not line.endswith("as it was written")]
    checked = command == "check_integrity" and said
    return checked or done.stderr.strip().splitlines()[-1:]


@contextmanager
def _as_installed(options: Options, secrets: Secrets, folder: Path) -> Iterator[Path]:
    """A directory like that of an installation: keys and secrets of the backup, the database that runs."""
    with tempfile.TemporaryDirectory(prefix=ON_ITS_WAY, dir=options.var) as place:
        var = Path(place)
        kept = Secrets(**json.loads((folder / SECRETS).read_text(encoding="utf-8")))
        own = replace(kept, db_password=secrets.db_password, db_root_password=secrets.db_root_password)
        (var / SECRETS).touch(mode=0o600)
        (var / SECRETS).write_text(json.dumps(asdict(own)), encoding="utf-8")
        if (folder / KEYS).is_dir():
            shutil.copytree(folder / KEYS, var / KEYS)
        (var / "mariadb").symlink_to((options.var / "mariadb").resolve())
        yield var


def _line(options: Options, user: str = "") -> list[str]:
    """How the database is reached, of the command line of its own programs."""
    user = user or options.db_user
    if not options.db_host:
        return ["--no-defaults", f"--socket={database_socket(options.var)}", f"--user={user}"]
    tls = [f"--ssl-ca={options.db_ca}", "--ssl-verify-server-cert"] if options.db_ca else []
    host, port = _that_answers(database_hosts(options))
    there = [f"--host={host}", f"--port={port}", f"--user={user}"]
    return ["--no-defaults", *there, *tls]


def _that_answers(hosts: list[tuple[str, int]]) -> tuple[str, int]:
    for place in hosts:
        with suppress(OSError):
            socket.create_connection(place, 2).close()
            return place
    return hosts[0]


def _program(name: str) -> str:
    found = shutil.which(name)
    if found is None:
        raise BackupFailed(
            f"{name} is not installed.", "apt-get install --no-install-recommends mariadb-client"
        )
    return found


def _run(command: list[str], password: str, failed: str, **streams: object) -> bytes:
    """The password goes by the environment, which its owner alone can read."""
    streams.setdefault("stdout", subprocess.PIPE)
    done = subprocess.run(
        command, env={**os.environ, "MYSQL_PWD": password}, stderr=subprocess.PIPE, check=False,
        timeout=LONGEST_S, **streams,  # type: ignore[call-overload]
    )  # fmt: skip
    if done.returncode:
        said = done.stderr.decode(errors="replace").strip().splitlines()
        raise BackupFailed(f"{failed}: {said[-1] if said else f'status {done.returncode}'}.", "See the log.")
    return bytes(done.stdout or b"")
