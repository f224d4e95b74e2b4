"""Figures for monitors, in OpenMetrics: made when they are asked for, of the records and what sites say.

Names follow the conventions of the format: base units, ``_total`` for what only grows.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator
from datetime import datetime

import orjson
from django.db.models import Avg, Count, F, Max
from prometheus_client import CollectorRegistry
from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, InfoMetricFamily, Metric
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest

from maestoso import __version__
from maestoso.core.model.finding import SEVERITIES
from maestoso.core.outbox import WAITING
from maestoso.core.ports import Clock
from maestoso.server.access.stream_door import StreamDoor
from maestoso.server.backups.models import Backup
from maestoso.server.board.stored import board_text
from maestoso.server.common.room import free_mib
from maestoso.server.estate.agents import pulse
from maestoso.server.estate.models import Site
from maestoso.server.jobs.models import Job
from maestoso.server.keeper.leases import LEASE_S
from maestoso.server.messages.models import Message
from maestoso.server.monitoring.health import keeper_is_there
from maestoso.server.outbox.models import SiteRequest
from maestoso.server.protection.picture import overview
from maestoso.server.reign import standbys
from maestoso.server.runs.beats import ages
from maestoso.server.runs.models import Run, RunStep

MEDIA = CONTENT_TYPE_LATEST
MIB = 2**20
QUANTILES = {"0.5": "p50_s", "0.95": "p95_s"}


def text(clock: Clock) -> bytes:
    """All figures as they are now."""
    registry = CollectorRegistry()
    registry.register(_Figures(clock.now()))
    return bytes(generate_latest(registry))  # type: ignore[no-untyped-call]


class _Figures:
    def __init__(self, now: datetime) -> None:
        self.now = now

    def collect(self) -> Iterator[Metric]:
        """Family after family."""
        parts: tuple[Callable[[], Iterator[Metric]], ...] = (
            self._release, self._backups, self._groups, self._plans, self._runs, self._steps, self._sites,
            self._jobs, self._messages, self._processes,
        )  # fmt: skip
        for part in parts:
            yield from part()

    def _release(self) -> Iterator[Metric]:
        yield InfoMetricFamily("maestoso", "Which release this is.", value={"version": __version__})
        yield _gauge("maestoso_free_bytes", "Free space where the records are kept.", float(free_mib() * MIB))

    def _backups(self) -> Iterator[Metric]:
        age = GaugeMetricFamily("maestoso_backup_age_seconds", "How old the last good backup is.")
        last = Backup.objects.filter(trouble="").first()
        if last is not None:
            age.add_metric([], (self.now - last.at).total_seconds())
        yield age

    def _groups(self) -> Iterator[Metric]:
        lag = GaugeMetricFamily(
            "maestoso_group_lag_seconds", "How old the newest recovery point of a group is.",
            labels=["group", "target"],
        )  # fmt: skip
        objective = GaugeMetricFamily("maestoso_rpo_seconds", "What its policy allows.", labels=["group"])
        backlog = GaugeMetricFamily("maestoso_backlog_bytes", "What is still to be copied.", labels=["group"])
        condition = GaugeMetricFamily(
            "maestoso_group_condition", "1 for the condition a group is in.", labels=["group", "condition"]
        )
        for line in overview(self.now).groups:
            if line.health.lag_s is not None:
                lag.add_metric([line.code, line.target], line.health.lag_s)
            objective.add_metric([line.code], float(line.policy.rpo_s))
            backlog.add_metric([line.code], float(line.backlog_bytes))
            condition.add_metric([line.code, line.health.condition], 1.0)
        yield from (lag, objective, backlog, condition)

    def _plans(self) -> Iterator[Metric]:
        board = orjson.loads(board_text(self.now))
        proof = GaugeMetricFamily(
            "maestoso_proof_age_seconds", "How long ago the last test of a plan was judged.", labels=["plan"]
        )
        overdue = GaugeMetricFamily("maestoso_proof_overdue", "1 where a test is overdue.", labels=["plan"])
        forecast = GaugeMetricFamily(
            "maestoso_forecast_seconds", "Forecast of a recovery, in machine time, by quantile.",
            labels=["plan", "quantile"],
        )  # fmt: skip
        objective = GaugeMetricFamily("maestoso_rto_seconds", "What a plan allows.", labels=["plan"])
        ready = GaugeMetricFamily(
            "maestoso_plan_ready", "1 where nothing blocks a run of this kind.", labels=["plan", "kind"]
        )
        findings = GaugeMetricFamily("maestoso_findings", "Findings of all plans.", labels=["severity"])
        counted: Counter[str] = Counter(dict.fromkeys(SEVERITIES, 0))
        for row in board["plans"]:
            counted.update(found["severity"] for found in row["findings"])
            if row["last_proof"]:
                ended = datetime.fromisoformat(row["last_proof"]["ended_at"])
                proof.add_metric([row["code"]], (self.now - ended).total_seconds())
            overdue.add_metric([row["code"]], float(not row["last_proof"] or row["last_proof"]["overdue"]))
            for quantile, name in QUANTILES.items() if row["forecast"] else ():
                forecast.add_metric([row["code"], quantile], float(row["forecast"][name]))
            objective.add_metric([row["code"]], float(row["rto_s"]))
            for kind in row["kinds"]:
                ready.add_metric([row["code"], kind["kind"]], float(not kind["blocking"]))
        for severity, number in counted.items():
            findings.add_metric([severity], float(number))
        yield from (proof, overdue, forecast, objective, ready, findings)

    def _runs(self) -> Iterator[Metric]:
        under_way = GaugeMetricFamily("maestoso_runs_under_way", "Runs that have not ended.", labels=["kind"])
        ended = CounterMetricFamily("maestoso_runs_ended", "Runs that ended.", labels=["kind", "outcome"])
        aside = Run.objects.filter(outcome="").exclude(put_aside="").count()
        for row in (
            Run.objects.values("kind", "outcome").annotate(number=Count("pk")).order_by("kind", "outcome")
        ):
            if row["outcome"]:
                ended.add_metric([row["kind"], row["outcome"]], float(row["number"]))
            else:
                under_way.add_metric([row["kind"]], float(row["number"]))
        yield from (under_way, ended)
        yield _gauge(
            "maestoso_runs_put_aside", "Runs that wait for a person after a fault of ours.", float(aside)
        )

    def _steps(self) -> Iterator[Metric]:
        number = CounterMetricFamily("maestoso_steps", "Steps of ended runs.", labels=["verb", "status"])
        mean = GaugeMetricFamily(
            "maestoso_step_duration_mean_seconds",
            "How long done steps took, in machine time.",
            labels=["verb"],
        )
        longest = GaugeMetricFamily(
            "maestoso_step_duration_max_seconds", "The longest of them.", labels=["verb"]
        )
        there = RunStep.objects.filter(run__steps_written=True)
        for row in there.values("verb", "status").annotate(number=Count("pk")).order_by("verb", "status"):
            number.add_metric([row["verb"], row["status"]], float(row["number"]))
        took = F("settled_s") - F("asked_s")
        done = there.filter(status="done", asked_s__isnull=False, settled_s__isnull=False)
        by_verb = done.values_list("verb").annotate(average=Avg(took), most=Max(took)).order_by("verb")
        for verb, average, most in by_verb:
            mean.add_metric([verb], average)
            longest.add_metric([verb], most)
        yield from (number, mean, longest)

    def _jobs(self) -> Iterator[Metric]:
        jobs = GaugeMetricFamily("maestoso_jobs", "Jobs that are still kept.", labels=["kind", "state"])
        for row in Job.objects.values("kind", "state").annotate(number=Count("pk")).order_by("kind", "state"):
            jobs.add_metric([row["kind"], row["state"]], float(row["number"]))
        yield jobs
        oldest = Job.objects.filter(state="waiting").order_by("asked_at").first()
        waited_s = (self.now - oldest.asked_at).total_seconds() if oldest else 0.0
        yield _gauge(
            "maestoso_job_wait_seconds", "How long the oldest job that nobody took has waited.", waited_s
        )

    def _messages(self) -> Iterator[Metric]:
        told = GaugeMetricFamily(
            "maestoso_messages", "Messages of the last 30 days.", labels=["channel", "state"]
        )
        for channel, rows in (
            ("mail", Message.objects.filter(webhook=None)),
            ("webhook", Message.objects.filter(user=None)),
        ):
            for state, number in rows.values_list("state").annotate(Count("pk")).order_by("state"):
                told.add_metric([channel, state], float(number))
        yield told
        stuck = Message.objects.filter(state="waiting", tries__gt=0).order_by("made_at").first()
        stuck_s = (self.now - stuck.made_at).total_seconds() if stuck else 0.0
        yield _gauge(
            "maestoso_message_stuck_seconds",
            "How old the oldest message is that was tried and not taken.",
            stuck_s,
        )

    def _sites(self) -> Iterator[Metric]:
        up = GaugeMetricFamily("maestoso_site_up", "1 where the agent of a site answers.", labels=["site"])
        skew = GaugeMetricFamily(
            "maestoso_site_clock_skew_seconds", "How far ahead its clock is.", labels=["site"]
        )
        waiting = GaugeMetricFamily(
            "maestoso_site_requests_waiting", "What a site is still to be asked for, or has not answered.",
            labels=["site"],
        )  # fmt: skip
        queued = dict(
            SiteRequest.objects.filter(status=WAITING).values_list("site__code").annotate(Count("pk"))
        )
        for site in Site.objects.all():
            taken = pulse(site)
            up.add_metric([site.code], float(taken.lost_because is None))
            if taken.said is not None:
                skew.add_metric([site.code], taken.skew_s)
            waiting.add_metric([site.code], float(queued.get(site.code, 0)))
        yield from (up, skew, waiting)

    def _processes(self) -> Iterator[Metric]:
        heard = GaugeMetricFamily(
            "maestoso_engine_heard_seconds_ago", "When an engine was heard last.", labels=["engine"]
        )
        turn = GaugeMetricFamily(
            "maestoso_engine_turn_seconds", "Its longest turn of the last seconds.", labels=["engine"]
        )
        for name, (age_s, turn_s) in ages().items():
            heard.add_metric([name], age_s)
            turn.add_metric([name], turn_s)
        yield from (heard, turn)
        said = f"1 where a keeper has looked after the records within {LEASE_S:.0f} s."
        yield _gauge("maestoso_keeper_up", said, float(keeper_is_there()))
        lines = standbys.lines()
        yield _gauge("maestoso_standbys", "Standbys that follow now.", float(len(lines)))
        lacking = float(sum(not line.has_all for line in lines))
        yield _gauge("maestoso_standbys_behind", "Those to which something is still to be sent.", lacking)
        yield _gauge(
            "maestoso_event_stream_clients", "Streams of events that are listened to.", float(StreamDoor.open)
        )


def _gauge(name: str, said: str, value: float) -> Metric:
    return GaugeMetricFamily(name, said, value=value)
