"""What a person waits for while editing: ``python -m bench.editing ADDRESS PASSWORD [members]``.

Runs against an application that was started with a large estate (see docs/estate.md). A plan of as many
members (500) is made there, a boot delay of it changed 15 times, and each time findings, forecast and score
asked for as the page does; the median and the slowest are printed, from the request to the last byte of its
answer: what the page makes of it is measured there. The plan is retired again.
"""

from __future__ import annotations

import statistics
import sys
from typing import Any

from tests.e2e.application import Api

TIMES, PER_WAVE = 15, 80


def main() -> None:
    """Print the two numbers."""
    address, password = sys.argv[1], sys.argv[2]
    size = int(sys.argv[3]) if len(sys.argv) > 3 else 500
    api = Api(address, password)
    group = api.get("/groups")["groups"][0]
    source, target = group["source"], group["target"]
    rows = api.get(f"/workloads?limit=1000&filter=site:{source}")["rows"]
    names = [row["name"] for row in rows if row["group"]][:size]
    plan = _plan(source, target, names)
    api.send("POST", "/plans", {"plan": plan, "summary": "For a comparison"})
    try:
        took = []
        for delay_s in range(TIMES):
            plan["waves"][1]["members"][0]["delay_s"] = delay_s
            reply = api.http.post(
                "/plans/BENCH/assessment",
                json={"plan": plan, "based_on": 1},
                headers={"X-CSRFToken": api.token},
            )
            reply.raise_for_status()
            took.append(reply.elapsed.total_seconds())
        said = reply.json()
        print(f"{len(names)} members, {len(said['steps'])} steps, {len(said['findings'])} findings")
        print(f"  findings, forecast and score of an edit {statistics.median(took) * 1e3:6.0f} ms")
        print(f"  the slowest of {TIMES}                       {max(took) * 1e3:6.0f} ms")
    finally:
        said = api.http.delete("/plans/BENCH", headers={"X-CSRFToken": api.token})
        said.raise_for_status()


def _plan(source: str, target: str, names: list[str]) -> dict[str, Any]:
    waves = [
        {"name": f"Wave {1 + begin // PER_WAVE}",
         "members": [{"workload": name} for name in names[begin : begin + PER_WAVE]]}
        for begin in range(0, len(names), PER_WAVE)
    ]  # fmt: skip
    return {
        "code": "BENCH", "name": "A comparison", "source": source, "target": target, "rto_s": 7200, "rpo_s": 1800, "waves": waves,
    }  # fmt: skip


if __name__ == "__main__":
    main()
