"""Who follows the records of this installation now, as its database says."""

from __future__ import annotations

from django.db import DatabaseError, connection

from maestoso.server.config.options import REPLICA_USER
from maestoso.server.config.settings import OPTIONS


def are_expected() -> bool:
    """Whether a setting opens a port for them."""
    return bool(OPTIONS.replication_port) and not OPTIONS.db_host


def following() -> tuple[str, ...]:
    """The hosts that follow at this moment, each once; none where that cannot be asked."""
    if not are_expected():
        return ()
    question = (
        "SELECT DISTINCT SUBSTRING_INDEX(host, ':', 1) FROM information_schema.processlist"
        " WHERE user = %s AND command LIKE 'Binlog Dump%%' ORDER BY 1"
    )
    try:
        with connection.cursor() as cursor:
            cursor.execute(question, [REPLICA_USER])
            return tuple(str(host) for (host,) in cursor.fetchall())
    except DatabaseError:
        return ()
