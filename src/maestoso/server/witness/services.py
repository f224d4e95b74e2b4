"""Who asks the witness for the lease: the keeper of who conducts, and the pages of its standby."""

from __future__ import annotations

import logging
import threading
import time
from dataclasses import replace

from django.conf import settings
from django.db import connection

from maestoso.core.errors import BadValue
from maestoso.core.ports import REIGN_PAST, SiteRefused, SiteUnreachable
from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation
from maestoso.server.config.settings import OPTIONS
from maestoso.server.config.standby import read_standby, write_standby
from maestoso.server.estate.agents import ask, needed
from maestoso.server.estate.models import Site
from maestoso.server.reign import following, lease, standbys
from maestoso.server.reign.models import Reign
from maestoso.server.reign.services import note_past, number

HOLDER = "maestoso"
"""With what makes one process of another, this is what the witness knows one by."""
SINCE = (1, 4)
"""The version of the site protocol that leases came with."""
WATCH_EVERY_S = min(5.0, lease.FOR_S / 6)
log = logging.getLogger("maestoso.witness")


def renew() -> None:
    """Renew the lease; what is in the way is noted."""
    due = lease.next_renewal()
    if due is None:
        return
    try:
        lease.renewed(_ask_for(_site(due.witness), due.reign, due.renewals))
    except SiteRefused as refused:
        if refused.code == REIGN_PAST:
            note_past(refused.reason)
        lease.not_renewed(refused.reason)
    except (SiteUnreachable, BadValue) as error:
        lease.not_renewed(str(error))


def choose(code: str) -> None:
    """Make a site the witness. Raises BadValue, Refused; nothing is changed then."""
    if not standbys.are_expected():
        raise BadValue(
            "A witness is of use where a standby can follow, and none can.",
            "Set replication_port, start anew, and begin a standby first.", field="body.site",
        )  # fmt: skip
    site = _site(code)
    with needed(f"{code} was not made the witness"):
        said = ask(site, lambda agent: agent.capabilities()).get("protocol", "")
    if not _speaks(str(said)):
        raise BadValue(
            f"The agent of {code} speaks protocol {said or '1.0'}, and leases came with 1.4.",
            "Name another site, or bring its agent up to date.", field="body.site",
        )  # fmt: skip
    row, _ = Reign.objects.get_or_create(pk=1)
    renewals = row.renewals + 1
    with needed(f"{code} was not made the witness"):
        took_s = _ask_for(site, number(), renewals)
    lease.choose(code, renewals, took_s)


def go_without() -> None:
    """Have no witness any more: what it remembers counts for nothing."""
    lease.choose("", 0, 0.0)


def watch_on_a_standby() -> None:
    """From now on, while this is a standby: where it hears nothing of its primary it asks the witness."""
    if settings.IS_STANDBY:
        threading.Thread(target=_watch, name="witness", daemon=True).start()


def _watch() -> None:
    while read_standby(OPTIONS.var) is not None:
        try:
            look()
        except Exception:
            log.exception("The witness could not be asked; it is tried again")
        finally:
            connection.close()
        time.sleep(WATCH_EVERY_S)


def _above() -> int:
    """A reign above all that the records know, and not above the one that a takeover begins after it."""
    row = Reign.objects.filter(pk=1).first()
    return max((row.number if row else 0) + 1, int(SystemClock().now().timestamp()))


def look() -> str:
    """One look of a standby: ask for the lease where nothing is heard of the primary, and take over with it.

    What the witness said, in a sentence; empty where nobody was asked. While it takes over, the promise is
    renewed.
    """
    row = Reign.objects.filter(pk=1).first()
    standby = read_standby(OPTIONS.var)
    if row is None or not row.witness or standby is None:
        return following.witness_said("")
    by_itself = standby.taking_over and standby.witness
    if not by_itself and (standby.taking_over or following.takeover().connected):
        return following.witness_said("")
    try:
        _ask_for(_site(row.witness), _above(), row.renewals, if_over=True)
    except SiteRefused as refused:
        return following.witness_said(refused.reason)
    except (SiteUnreachable, BadValue) as error:
        return following.witness_said(str(error))
    if not by_itself:
        log.warning("The witness %s gives the lease: this standby takes over.", row.witness)
        write_standby(OPTIONS.var, replace(standby, taking_over=True, by="", witness=row.witness, failed=""))
    return following.witness_said("It gives the lease to this one.")


def _ask_for(site: Site, reign: int, renewals: int, *, if_over: bool = False) -> float:
    """How long it took, in seconds. Raises SiteUnreachable, SiteRefused."""
    begun = time.monotonic()
    ask(site, lambda agent: agent.lease(reign, renewals, lease.FOR_S, incarnation(HOLDER), if_over=if_over))
    return time.monotonic() - begun


def _site(code: str) -> Site:
    """Raises BadValue."""
    site = Site.objects.filter(code=code).first()
    if site is None:
        raise BadValue(f"There is no site {code[:20]!r}.", "Name one of the estate.", field="body.site")
    return site


def _speaks(protocol: str) -> bool:
    """Whether a version of the protocol has leases."""
    numbers = protocol.split(".")
    return len(numbers) == 2 and all(part.isdigit() for part in numbers) and tuple(map(int, numbers)) >= SINCE
