"""Who follows the records of this installation now, as its database says."""

from __future__ import annotations

from django.db import DatabaseError, connection

from maestoso.server.config.options import REPLICA_USER
from maestoso.server.config.settings import OPTIONS
from maestoso.server.reign import lease
from maestoso.server.reign.shapes import StandbyLine, Standbys

ALL_SENT = "Master has sent all binlog to slave"
"""How MariaDB calls the state of a line to a follower that lacks nothing (processlist)."""


def are_expected() -> bool:
    """Whether a setting opens a port for them."""
    return bool(OPTIONS.replication_port) and not OPTIONS.db_host


def lines() -> tuple[StandbyLine, ...]:
    """Those that follow at this moment, each once; none where that cannot be asked."""
    if not are_expected():
        return ()
    question = (
        "SELECT SUBSTRING_INDEX(host, ':', 1), MAX(state LIKE %s) FROM information_schema.processlist"
        " WHERE user = %s AND command LIKE 'Binlog Dump%%' GROUP BY 1 ORDER BY 1"
    )
    try:
        with connection.cursor() as cursor:
            cursor.execute(question, [f"{ALL_SENT}%", REPLICA_USER])
            return tuple(StandbyLine(host=str(host), has_all=bool(sent)) for host, sent in cursor.fetchall())
    except DatabaseError:
        return ()


def stand() -> Standbys:
    """Who follows, and how the lease at the witness stands."""
    now = lease.standing()
    return Standbys(
        expected=are_expected(),
        lines=lines(),
        witness=now.witness,
        trouble=now.trouble,
        withheld=now.withheld,
    )


def following() -> tuple[str, ...]:
    """The hosts that follow at this moment."""
    return tuple(line.host for line in lines())
