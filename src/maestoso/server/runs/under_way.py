"""How far the steps are that a site is at, as it says in its pulse."""

from __future__ import annotations

from collections.abc import Mapping

from maestoso.core.replication.cost import in_rate, in_size
from maestoso.core.replication.health import in_time
from maestoso.server.estate.agents import pulse_at_hand
from maestoso.server.estate.models import Site
from maestoso.server.runs.events import run_name
from maestoso.server.runs.models import Run
from maestoso.sites.contract import UnderWay


def under_way(run: Run, sites: Mapping[str, Site]) -> dict[str, str]:
    """By step, how far it is, in words; of what its sites said last, nobody waits for them."""
    if run.outcome:
        return {}
    begin, found = f"{run_name(run.pk)}:", {}
    for code in (run.source, run.target):
        taken = pulse_at_hand(sites[code]) if code in sites else None
        for one in taken.said.under_way if taken and taken.said else ():
            if one.key.startswith(begin):
                found[one.key.removeprefix(begin).rpartition(":")[0]] = in_words(one)
    return found


def in_words(one: UnderWay) -> str:
    """As "6 GiB of 8 GiB, at 4.29 Gbit/s, 4 s left"."""
    said = f"{in_size(one.done_bytes)} of {in_size(one.total_bytes)}"
    if one.rate_bps <= 0:
        return said
    left_s = max(one.total_bytes - one.done_bytes, 0) / one.rate_bps
    return f"{said}, at {in_rate(one.rate_bps)}, {in_time(left_s)} left"
