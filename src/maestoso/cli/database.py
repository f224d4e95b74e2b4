"""The private MariaDB: its data directory, its command line, its readiness."""

from __future__ import annotations

import hashlib
import os
import shutil
import tempfile
from pathlib import Path

import MySQLdb

from maestoso.cli.stages import run
from maestoso.server.config.options import Options, Secrets

SEARCH = os.pathsep.join([os.environ.get("PATH", ""), "/usr/sbin", "/sbin"])
LONGEST_SOCKET = 100  # sun_path holds 108 bytes


def program(name: str) -> str:
    """Where a program of MariaDB is; Debian keeps the server in /usr/sbin, which users may not search."""
    found = shutil.which(name, path=SEARCH)
    if found is None:
        raise FileNotFoundError(f"{name} is not installed. Install the Debian package mariadb-server.")
    return found


def short_path(var: Path, name: str) -> Path:
    """A socket path under ``var``, or where that is too long, in a directory of its own for this user."""
    path = var / "run" / name
    if len(str(path)) > LONGEST_SOCKET:
        mark = hashlib.sha256(str(var).encode()).hexdigest()[:10]
        path = Path(tempfile.gettempdir()) / f"maestoso-{os.getuid()}-{mark}" / name
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    return path


def initialise(options: Options, secrets: Secrets, log: Path) -> None:
    """Make the data directory unless there is one, and the statements that every start runs."""
    data = options.var / "db"
    # The last thing that the initialisation writes tells whether it came to its end.
    done = options.var / "db.ready"
    if not done.is_file():
        shutil.rmtree(data, ignore_errors=True)
        command = [
            program("mariadb-install-db"), "--no-defaults", f"--datadir={data}",
            "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve",
        ]  # fmt: skip
        run([*command, *_as_root()], log)
        done.touch()
    statements = options.var / "db-init.sql"
    statements.touch(mode=0o600)
    user = f"'{options.db_user}'@'127.0.0.1'"
    statements.write_text(
        f"CREATE DATABASE IF NOT EXISTS `{options.db_name}`"
        " CHARACTER SET utf8mb4 COLLATE utf8mb4_uca1400_nopad_as_cs;\n"
        f"CREATE USER IF NOT EXISTS {user} IDENTIFIED BY '{secrets.db_password}';\n"
        f"GRANT ALL ON `{options.db_name}`.* TO {user};\n"
        f"GRANT ALL ON `test\\_{options.db_name}`.* TO {user};\n"
        f"ALTER USER root@localhost IDENTIFIED BY '{secrets.db_root_password}';\n",
        encoding="utf-8",
    )


def server_command(options: Options, *, scratch: bool = False) -> list[str]:
    """The command line of the server. ``scratch`` trades durability for speed, for tests only."""
    command = [
        program("mariadbd"), "--no-defaults", f"--datadir={options.var / 'db'}",
        f"--socket={short_path(options.var, 'db.sock')}", f"--pid-file={options.var / 'run' / 'db.pid'}",
        f"--port={options.db_port}", "--bind-address=127.0.0.1", "--skip-name-resolve",
        "--character-set-server=utf8mb4", "--collation-server=utf8mb4_uca1400_nopad_as_cs",
        "--transaction-isolation=READ-COMMITTED", f"--init-file={options.var / 'db-init.sql'}",
        "--innodb-buffer-pool-size=128M", "--max-connections=200", *_as_root(),
    ]  # fmt: skip
    if scratch:
        command += [
            "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--innodb-log-file-size=32M",
        ]  # fmt: skip
    return command


def answers(options: Options, secrets: Secrets) -> bool:
    """Whether the application can sign in to its database."""
    try:
        MySQLdb.connect(
            host=options.db_host, port=options.db_port, user=options.db_user,
            password=secrets.db_password, database=options.db_name, connect_timeout=2,
        ).close()  # fmt: skip
    except MySQLdb.OperationalError:
        return False
    return True


def _as_root() -> list[str]:
    return ["--user=root"] if os.geteuid() == 0 else []
