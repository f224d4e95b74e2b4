"""Jobs on 1, 2 and 4 workers: ``python -m bench.workers [rounds]``. Asserts nothing.

A demo of its own is started without workers. Each round asks for 24 rehearsals in the names of 12 people, and
lets 1, 2 and 4 workers do them, in turn; medians and their ratios.
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
from contextlib import suppress
from dataclasses import replace

from tests.e2e.application import Application, until

PEOPLE, EACH, NUMBERS = 12, 2, (1, 2, 4)
ASK = """
import json, os
from maestoso.server.jobs.models import Job
from maestoso.server.jobs.services import begin
args = json.loads(os.environ["ASKED"])
Job.objects.all().delete()
for number in range(int(os.environ["JOBS"])):
    begin("rehearsal", "bench", args, by=f"person {number // 2}")
"""


def main() -> None:
    """All rounds."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 3
    app = Application()
    app.options = replace(app.options, workers=0)
    took: dict[int, list[float]] = {number: [] for number in NUMBERS}
    try:
        app.start()
        plan = app.api().get("/plans/BOOK")["plan"]
        for _ in range(rounds):
            for number in NUMBERS:
                took[number].append(once(app, plan, number))
    finally:
        app.close()
    first = statistics.median(took[1])
    for number in NUMBERS:
        middle = statistics.median(took[number])
        print(
            f"  {number} workers, {PEOPLE * EACH} rehearsals {middle:8.1f} s, {first / middle:5.2f} times one"
        )


def once(app: Application, plan: object, number: int) -> float:
    """Seconds from when the first job is begun to when the last is done; every worker is up before."""
    django = app.environment(DJANGO_SETTINGS_MODULE="maestoso.server.config.settings")
    command = [sys.executable, "-m", "django", "run_workers"]
    workers = subprocess.Popen(command, env={**django, "MAESTOSO_WORKERS": str(number)})
    try:
        asked = json.dumps({"plan": "BOOK", "sent": {"plan": plan}})
        for jobs in (number, PEOPLE * EACH):  # the first are for each worker to load what it needs
            env = {**django, "ASKED": asked, "JOBS": str(jobs)}
            subprocess.run([sys.executable, "-m", "django", "shell", "-c", ASK], env=env, check=True)
            until(lambda jobs=jobs: done(app) == jobs, "all jobs to be done", 900)
        rows = app.records()["jobs_job"]
        return float((max(r["ended_at"] for r in rows) - min(r["began_at"] for r in rows)).total_seconds())
    finally:
        workers.terminate()
        with suppress(subprocess.TimeoutExpired):
            workers.wait(60)


def done(app: Application) -> int:
    """How many are."""
    return sum(row["state"] == "done" for row in app.records()["jobs_job"])


if __name__ == "__main__":
    os.environ.setdefault("PYTHONWARNINGS", "ignore")
    main()
