"""The private MariaDB: where it lives, whose it is, its accounts, its command line, its readiness.

It has no port. Whoever is not its owner gets neither to its socket nor to its files, and it never runs as the
system's root: where root starts it, it runs as a user of its own.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import pwd
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pymysql

from maestoso.cli import replication
from maestoso.cli.accounts import system_user
from maestoso.cli.stages import run
from maestoso.server.config.options import (
    CHARACTERS,
    LONGEST_SOCKET,
    Options,
    Secrets,
    database_hosts,
    database_socket,
)

SEARCH = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", "/sbin"])
SYSTEM_USER = "maestoso-db"
TEMPORARY = "tmp"
SYSTEM_HOMES = Path("/var/lib/maestoso")
"""Where the database lives that root starts from a place which its user may not enter, such as /root."""


def program(name: str) -> str:
    """Where a program of MariaDB is; Debian keeps the server in /usr/sbin, which users may not search."""
    found = shutil.which(name, path=SEARCH)
    if found is None:
        raise FileNotFoundError(f"{name} is not installed. Install the Debian package mariadb-server-core.")
    return found


def home(var: Path) -> Path:
    """The directory of the database: its data, socket, statements of every start. It may be a link."""
    return var / "mariadb"


def initialise(options: Options, secrets: Secrets, log: Path) -> None:
    """Make the database unless there is one, and the statements that every start runs.

    Nothing where there is a database of somebody else's.
    """
    if options.db_host:
        return
    owner = _owner()
    place = _make_home(options.var, owner)
    _adopt(options.var, place, owner)
    if not (place / "ready").is_file():
        shutil.rmtree(place / "data", ignore_errors=True)
        _give(_folder(place / "data"), owner)
        command = [
            program("mariadb-install-db"), "--no-defaults", f"--datadir={place / 'data'}",
            "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve",
            _own_tmpdir(place), *_as(owner),
        ]  # fmt: skip
        run(command, log)
        # The last thing that the initialisation writes tells whether it came to its end.
        (place / "ready").touch()
    if options.replication_port:
        _give(replication.make_certificate(options, place), owner)
    statements = place / "init.sql"
    statements.unlink(missing_ok=True)
    statements.touch(mode=0o600)
    statements.write_text(_statements(options, secrets), encoding="utf-8")
    _give(statements, owner)


def is_made(options: Options) -> bool:
    """Whether there is a database, so that what a stamp says of its tables can be so."""
    return bool(options.db_host) or (home(options.var) / "ready").is_file()


def _statements(options: Options, secrets: Secrets) -> str:
    """Accounts as they must be, whatever an earlier release left: one administrator with a password and the
    application, both on the socket only."""
    user = f"'{options.db_user}'@'localhost'"
    lines = [
        # Whoever follows has accounts of its own.
        "SET SESSION sql_log_bin=0",
        f"CREATE DATABASE IF NOT EXISTS `{options.db_name}` {CHARACTERS}",
        "DELETE FROM mysql.global_priv WHERE User = '' OR (Host <> 'localhost')",
        "DELETE FROM mysql.db WHERE User = '' OR Host <> 'localhost'",
        "DELETE FROM mysql.proxies_priv WHERE Host <> 'localhost'",
        "FLUSH PRIVILEGES",
        f"CREATE USER IF NOT EXISTS {user} IDENTIFIED BY '{secrets.db_password}'",
        f"GRANT ALL ON `{options.db_name}`.* TO {user}",
        f"GRANT ALL ON `test\\_{options.db_name}%`.* TO {user}",
        f"ALTER USER root@localhost IDENTIFIED BY '{secrets.db_root_password}'",
        *replication.statements(options, secrets),
    ]
    return "".join(f"{line};\n" for line in lines)


def server_command(options: Options) -> list[str]:
    """The command line of the server."""
    place = home(options.var).resolve()
    command = [
        program("mariadbd"), "--no-defaults", f"--datadir={place / 'data'}",
        f"--socket={database_socket(options.var)}", f"--pid-file={place / 'db.pid'}",
        *replication.flags(options, place), "--skip-name-resolve",
        "--local-infile=0", f"--secure-file-priv={place / 'files'}", _own_tmpdir(place),
        "--character-set-server=utf8mb4", "--collation-server=utf8mb4_uca1400_nopad_as_cs",
        "--transaction-isolation=READ-COMMITTED", f"--init-file={place / 'init.sql'}",
        "--innodb-buffer-pool-size=128M", "--max-connections=200", *_as(_owner()),
    ]  # fmt: skip
    if not options.db_durable:
        command += [
            # 2, not 0: what was committed outlives the server itself, which tests kill.
            "--innodb-flush-log-at-trx-commit=2", "--innodb-doublewrite=0", "--innodb-log-file-size=32M",
        ]  # fmt: skip
    return command


def answers(options: Options, secrets: Secrets) -> bool:
    """Whether the application can sign in to its database."""
    if not options.db_host and not database_socket(options.var).exists():
        return False
    try:
        _connect(options, options.db_user, secrets.db_password, database=options.db_name).close()
    except pymysql.MySQLError:
        return False
    return True


def has_people(options: Options, secrets: Secrets) -> bool:
    """Whether the records know anybody. Raises pymysql.MySQLError."""
    line = _connect(options, options.db_user, secrets.db_password, database=options.db_name)
    with line, line.cursor() as cursor:
        return bool(cursor.execute("SELECT 1 FROM auth_user LIMIT 1"))


def _connect(options: Options, user: str, password: str, **more: Any) -> pymysql.Connection[Any]:
    tls = {"ssl_ca": options.db_ca, "ssl_verify_identity": True} if options.db_ca else {"ssl_disabled": True}
    places: list[dict[str, Any]] = [
        {"host": host, "port": port, **tls} for host, port in database_hosts(options)
    ] or [{"unix_socket": str(database_socket(options.var)), "ssl_disabled": True}]
    for last, place in enumerate(places, start=1 - len(places)):
        try:
            return pymysql.connect(user=user, password=password, connect_timeout=2, **place, **more)
        except pymysql.MySQLError:
            if not last:
                raise
    raise AssertionError("the last try returns or raises")


def accounts(options: Options, secrets: Secrets) -> list[tuple[str, str, bool]]:
    """Name, host, and whether no password is needed, of every account. Raises pymysql.MySQLError."""
    query = (
        "SELECT User, Host, JSON_VALUE(Priv, '$.authentication_string') = ''"
        " OR JSON_VALUE(Priv, '$.authentication_string') IS NULL,"
        " COALESCE(JSON_VALUE(Priv, '$.account_locked'), 0) FROM mysql.global_priv"
    )
    with administrator(options, secrets) as line, line.cursor() as cursor:
        cursor.execute(query)
        return [
            (name, host, bool(bare) and not int(locked)) for name, host, bare, locked in cursor.fetchall()
        ]


@contextlib.contextmanager
def administrator(options: Options, secrets: Secrets) -> Iterator[Any]:
    """A line to the private database that may do everything."""
    with _connect(options, "root", secrets.db_root_password, autocommit=True) as line:
        yield line


def remove(var: Path) -> None:
    """Remove the data of an installation, also where its database lives elsewhere."""
    place = home(var)
    if place.is_symlink():
        shutil.rmtree(place.resolve(), ignore_errors=True)
    shutil.rmtree(var)


# --- whose it is ---


def _owner() -> pwd.struct_passwd | None:
    """Who the server runs as; None for whoever calls. Root gets a user made for it. Raises StageFailed."""
    if os.geteuid() != 0:
        return None
    return system_user(SYSTEM_USER, ", or start Maestoso as an ordinary user")


def _as(owner: pwd.struct_passwd | None) -> list[str]:
    return [] if owner is None else [f"--user={owner.pw_name}"]


def _give(path: Path, owner: pwd.struct_passwd | None) -> None:
    if owner is not None:
        os.chown(path, owner.pw_uid, owner.pw_gid, follow_symlinks=False)


def _folder(path: Path) -> Path:
    """A directory that its owner alone may enter."""
    path.mkdir(parents=True, exist_ok=True)
    path.chmod(0o700)
    return path


def _make_home(var: Path, owner: pwd.struct_passwd | None) -> Path:
    """The directory of the database as its server may enter it; what was chosen once stays."""
    place = home(var)
    if not place.exists() and owner is not None and not _enterable(place):
        mark = hashlib.sha256(str(var).encode()).hexdigest()[:10]
        SYSTEM_HOMES.mkdir(parents=True, exist_ok=True)
        SYSTEM_HOMES.chmod(0o711)
        _folder(SYSTEM_HOMES / mark)
        place.unlink(missing_ok=True)
        place.symlink_to(SYSTEM_HOMES / mark)
    place = place.resolve()
    for folder in (place, place / "files", place / TEMPORARY):
        _give(_folder(folder), owner)
    return place


def _own_tmpdir(place: Path) -> str:
    """Where the server keeps temporary tables.

    Not in /tmp: at its start a server removes all that it finds there, also what another one just works with.
    """
    return f"--tmpdir={place / TEMPORARY}"


def _enterable(place: Path) -> bool:
    """Whether a user without rights of its own gets there, and its socket path is short enough."""
    through = all(parent.stat().st_mode & 0o001 for parent in place.resolve().parents)
    return through and len(str(place.resolve() / "db.sock")) <= LONGEST_SOCKET


def _adopt(var: Path, place: Path, owner: pwd.struct_passwd | None) -> None:
    """Take over the data from where releases up to 0.7 kept them, owned by whoever started it."""
    old, mark = var / "db", var / "db.ready"
    if not mark.is_file():
        return
    if old.is_dir():
        shutil.rmtree(place / "data", ignore_errors=True)
        try:
            old.rename(place / "data")
        except OSError:  # another file system
            shutil.copytree(old, place / "data")
    for path in (place / "data", *(place / "data").rglob("*")):
        _give(path, owner)
    _folder(place / "data")
    (place / "ready").touch()
    mark.unlink()
    (var / "db-init.sql").unlink(missing_ok=True)
    shutil.rmtree(old, ignore_errors=True)
