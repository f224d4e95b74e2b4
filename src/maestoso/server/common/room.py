"""How much room is left where the records are kept."""

from __future__ import annotations

import os

from maestoso.server.config.settings import OPTIONS

MIB = 2**20


def free_mib() -> int:
    """Free space in MiB, of the fuller one where records and database are on two file systems.

    A database of somebody else's (``db_host``) is not seen.
    """
    places = [OPTIONS.var] + ([] if OPTIONS.db_host else [OPTIONS.var / "mariadb"])
    found = [os.statvfs(place) for place in places if place.exists()]
    return min(one.f_bavail * one.f_frsize // MIB for one in found)
