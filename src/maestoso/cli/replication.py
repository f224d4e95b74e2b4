"""How a standby follows the private database: MariaDB's own replication, by GTID, with TLS.

The account for it may follow and nothing else. Its certificate signs itself; the standby has it from the
backup that it began with, and trusts no other.
"""

from __future__ import annotations

import secrets as chance
import socket
import time
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from pymysql.cursors import DictCursor

from maestoso.cli.stages import StageFailed
from maestoso.real_lab import certificate
from maestoso.server.config.exposure import ANY
from maestoso.server.config.options import CERTIFICATE, REPLICA_USER, Options, Secrets
from maestoso.server.config.standby import ASKS, Following, Standby, read_standby, understood

LOGS_KEPT_DAYS = 7
APPLIED_WITHIN_S = 300.0


def refuse_standby(options: Options, instead: str) -> None:
    """Raises StageFailed where this is a standby, whose records are written by its primary alone."""
    if read_standby(options.var) is not None:
        raise StageFailed(f"What is installed in {options.var} is a standby, and only follows. {instead}")


def is_used(options: Options) -> bool:
    """Whether the database writes down what it does, for others to follow."""
    return bool(options.replication_port) or read_standby(options.var) is not None


def make_certificate(options: Options, place: Path) -> Path:
    """The certificate of the database, with its key, in its directory; beside the secrets, without it.

    On a standby that of its primary stays there, which it trusts, until it conducts.
    """
    file = place / "replication.pem"
    if not file.is_file():
        certificate.write(file, "database of Maestoso", *names(options))
        file.chmod(0o600)
    if read_standby(options.var) is None:
        keep_certificate(options, certificate.public_part(file))
    return file


def keep_certificate(options: Options, text: str) -> None:
    """Beside the secrets, where the database may read it, whoever it runs as."""
    (options.var / CERTIFICATE).write_text(text, encoding="utf-8")
    (options.var / CERTIFICATE).chmod(0o644)


def names(options: Options) -> list[str]:
    """What this machine is reached by, as far as it is known: the certificate is for these."""
    here = socket.gethostname()
    found = [
        "localhost",
        "127.0.0.1",
        here,
        socket.getfqdn(),
        urlsplit(options.public_address).hostname or "",
    ]
    with suppress(OSError):
        found += [str(one[4][0]) for one in socket.getaddrinfo(here, None)]
    found += [] if options.listen in ANY else [options.listen]
    return [name for name in dict.fromkeys(found) if name]


def server_id(place: Path) -> int:
    """The number of a database among those that follow each other: drawn once."""
    file = place / "server-id"
    if not file.is_file():
        file.write_text(str(chance.randbelow(2**31 - 2) + 2))
    return int(file.read_text())


def flags(options: Options, place: Path) -> list[str]:
    """What the command line of the database has besides: how it is reached, what it writes down."""
    if not is_used(options):
        return ["--skip-networking"]
    found = [
        "--log-bin=binlog", "--log-slave-updates", "--binlog-format=ROW", f"--binlog-do-db={options.db_name}",
        "--gtid-strict-mode=ON", f"--server-id={server_id(place)}", f"--expire-logs-days={LOGS_KEPT_DAYS}",
        f"--sync-binlog={int(options.db_durable)}",
    ]  # fmt: skip
    if read_standby(options.var) is not None:
        found += ["--read-only=ON", f"--replicate-wild-do-table={options.db_name}.%"]
    if not options.replication_port:
        return [*found, "--skip-networking"]
    pem = place / "replication.pem"
    return [
        *found, f"--port={options.replication_port}", f"--bind-address={options.listen}", f"--ssl-cert={pem}",
        f"--ssl-key={pem}", "--require-secure-transport=ON",
    ]  # fmt: skip


def statements(options: Options, secrets: Secrets) -> list[str]:
    """The account of standbys, where there is a port for them; and the right to say how far behind one is."""
    user = f"'{options.db_user}'@'localhost'"
    own = [f"GRANT SLAVE MONITOR ON *.* TO {user}"]
    if not options.replication_port:
        return own
    who = f"'{REPLICA_USER}'@'%'"
    return [
        *own,
        f"CREATE USER {who} IDENTIFIED BY '{secrets.replica_password}' REQUIRE SSL",
        f"GRANT REPLICATION SLAVE ON *.* TO {who}",
        # So that the application sees whether somebody follows.
        f"GRANT PROCESS ON *.* TO {user}",
    ]


def follow(cursor: Any, options: Options, secrets: Secrets, standby: Standby) -> None:
    """Follow from where the records of this database are of."""
    cursor.execute("STOP SLAVE")
    # Where it has a port for standbys of its own, its log says how the backup was loaded; none follows that.
    cursor.execute("RESET MASTER")
    cursor.execute("SET GLOBAL gtid_slave_pos=%s", [standby.position])
    cursor.execute(
        "CHANGE MASTER TO MASTER_HOST=%s, MASTER_PORT=%s, MASTER_USER=%s, MASTER_PASSWORD=%s, MASTER_SSL=1,"
        " MASTER_SSL_CA=%s, MASTER_SSL_VERIFY_SERVER_CERT=1, MASTER_USE_GTID=slave_pos,"
        " MASTER_CONNECT_RETRY=5, MASTER_HEARTBEAT_PERIOD=5",
        [standby.host, standby.port, REPLICA_USER, secrets.replica_password, str(options.var / CERTIFICATE)],
    )
    cursor.execute("START SLAVE")


def following(line: Any) -> Following:
    """How it goes now, by what the database says."""
    with line.cursor(DictCursor) as cursor:
        cursor.execute(ASKS)
        return understood(cursor.fetchone() or {})


def stop_following(line: Any) -> None:
    """Take in what has arrived, and follow no more. Raises StageFailed where that cannot be taken in."""
    with line.cursor(DictCursor) as cursor:
        cursor.execute("STOP SLAVE IO_THREAD")
        until = time.monotonic() + APPLIED_WITHIN_S
        while True:
            cursor.execute(ASKS)
            row = cursor.fetchone() or {}
            if not row or row["Read_Master_Log_Pos"] == row["Exec_Master_Log_Pos"]:
                break
            if row["Slave_SQL_Running"] != "Yes" or time.monotonic() > until:
                raise StageFailed(
                    f"What has arrived cannot be taken in: {row['Last_SQL_Error'] or 'it takes too long'}."
                )
            time.sleep(0.1)
        cursor.execute("STOP SLAVE")
        cursor.execute("RESET SLAVE ALL")
        cursor.execute("SET GLOBAL read_only=0")
