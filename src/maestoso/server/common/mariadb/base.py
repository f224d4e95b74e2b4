"""A line to the first host of a database that answers, of those that the settings name.

They are nodes of one cluster, or a primary and whatever stands in for it: each must hold the same. A node
that is up and does not take part (Galera says so with error 1047) is passed over like one that is gone.
"""

from __future__ import annotations

from typing import Any

import pymysql
from django.db.backends.mysql import base
from django.db.utils import OperationalError

from maestoso.server.config.options import database_hosts
from maestoso.server.config.settings import OPTIONS


class DatabaseWrapper(base.DatabaseWrapper):
    """Begins with the host that answered last."""

    def get_new_connection(self, conn_params: dict[str, Any]) -> Any:
        """A line to one of them. Raises OperationalError, that of the first, where none answers."""
        hosts = database_hosts(OPTIONS)
        if len(hosts) < 2:
            return super().get_new_connection(conn_params)
        first: Exception | None = None
        for host, port in [*hosts[_last[0] :], *hosts[: _last[0]]]:
            try:
                line = super().get_new_connection({**conn_params, "host": host, "port": port})
                with line.cursor() as cursor:
                    cursor.execute("SELECT 1")
            except (OperationalError, pymysql.OperationalError) as error:
                first = first or error
                continue
            _last[0] = hosts.index((host, port))
            return line
        assert first is not None
        raise first


_last = [0]
"""The place of the host that answered last, for all lines of this process."""
