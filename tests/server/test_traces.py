"""What a collector of traces is told of requests, jobs and runs; and nobody else anything."""

from __future__ import annotations

from dataclasses import replace
from datetime import datetime
from typing import Any
from unittest import mock

from opentelemetry.proto.collector.trace.v1.trace_service_pb2 import ExportTraceServiceRequest

from maestoso.engine.clock import SystemClock
from maestoso.engine.incarnation import incarnation
from maestoso.server.common import traces
from maestoso.server.config.exposure import faults
from maestoso.server.config.options import Options
from maestoso.server.jobs import services, work
from maestoso.server.jobs.work import perform
from maestoso.server.runs.models import Run, RunStep
from maestoso.server.runs.projection import write_steps_of_ended
from tests.receivers import Program
from tests.server.tidewell import Tidewell

CLOCK = SystemClock()
OUTSIDE = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"


class Traces(Tidewell):
    """A collector, and what it got."""

    history = True

    def setUp(self) -> None:
        super().setUp()
        self.collector = Program()
        self.collector.status = 200
        self.addCleanup(self.collector.close)
        address = self.collector.url.partition("/hook")[0]
        set_so = mock.patch.object(traces, "OPTIONS", replace(traces.OPTIONS, traces=address))
        set_so.start()
        self.addCleanup(set_so.stop)
        traces._sender.cache_clear()
        self.addCleanup(traces._sender.cache_clear)

    def told(self) -> list[Any]:
        """All spans, in the order in which they came."""
        sender = traces._sender()[1]
        self.assertTrue(sender.force_flush(30_000))
        found = []
        for _, body in self.collector.got:
            said = ExportTraceServiceRequest.FromString(body)
            about = {one.key: one.value.string_value for one in said.resource_spans[0].resource.attributes}
            self.assertEqual(about["service.name"], "maestoso")
            found += [span for part in said.resource_spans[0].scope_spans for span in part.spans]
        return found

    def about(self, span: Any) -> dict[str, Any]:
        """What a span says of itself."""
        return {one.key: one.value.string_value or one.value.int_value for one in span.attributes}

    def test_a_request_is_in_the_trace_of_who_sent_it(self) -> None:
        reply = self.browser.get("/api/v1/plans/BOOK", HTTP_TRACEPARENT=OUTSIDE)
        self.browser.get("/api/v1/plans/NONE", HTTP_TRACEPARENT="00-" + "0" * 32 + "-00f067aa0ba902b7-01")
        first, second = self.told()
        self.assertEqual((first.trace_id.hex(), first.parent_span_id.hex()), tuple(OUTSIDE.split("-")[1:3]))
        self.assertEqual(first.name, "GET /api/v1/plans/<str:code>")
        said = self.about(first)
        self.assertEqual((said["url.path"], said["http.response.status_code"]), ("/api/v1/plans/BOOK", 200))
        self.assertEqual(said["maestoso.request"], reply.headers["X-Request-ID"])
        self.assertLess(first.start_time_unix_nano, first.end_time_unix_nano)
        self.assertEqual((second.parent_span_id, self.about(second)["http.response.status_code"]), (b"", 404))
        self.assertNotEqual(second.trace_id, bytes(16))

    def test_a_job_that_failed_is_said_to(self) -> None:
        def fails(at: work.Work) -> None:
            raise ValueError("no")

        for do in (lambda at: None, fails):
            job = services.begin("tried", "Something", {}, by="ann")
            with mock.patch.dict(work._kinds, {"tried": do}):
                perform(job.pk, incarnation("worker of tests"), renewing=False)
        done, failed = self.told()
        self.assertEqual(
            (done.name, self.about(done)["maestoso.state"], done.status.code), ("job tried", "done", 0)
        )
        self.assertEqual((self.about(failed)["maestoso.state"], failed.status.code), ("failed", 2))

    def test_a_run_is_one_trace_by_the_clock_and_the_same_if_it_is_told_twice(self) -> None:
        run = Run.objects.exclude(outcome="").filter(removed_at=None).latest("pk")
        for _ in range(2):
            Run.objects.filter(pk=run.pk).update(steps_written=False)
            write_steps_of_ended(CLOCK)
        spans = self.told()
        half = len(spans) // 2
        self.assertEqual([one.span_id for one in spans[:half]], [one.span_id for one in spans[half:]])
        whole, *steps = spans[:half]
        self.assertEqual({one.trace_id for one in spans}, {whole.trace_id})
        self.assertEqual({one.parent_span_id for one in steps}, {whole.span_id})
        self.assertEqual(
            (whole.name, self.about(whole)["maestoso.outcome"]), (f"run {run.kind}", run.outcome)
        )
        asked = RunStep.objects.filter(run=run).exclude(asked_s=None).exclude(settled_s=None)
        self.assertEqual(
            {self.about(one)["maestoso.step"]: self.about(one)["maestoso.status"] for one in steps},
            dict(asked.values_list("step", "status")),
        )
        assert isinstance(run.ended_at, datetime)
        last = max(one.end_time_unix_nano for one in steps)
        self.assertLessEqual(last / 1e9, run.ended_at.timestamp() + 1e-3)
        self.assertGreaterEqual(
            min(one.start_time_unix_nano for one in steps) / 1e9, run.started_at.timestamp() - 1e-3
        )

    def test_a_collector_that_is_away_keeps_nobody_waiting(self) -> None:
        self.collector.close()
        self.assertEqual(self.browser.get("/api/v1/plans/BOOK").status_code, 200)

    def test_without_one_nothing_is_loaded_and_a_wrong_address_is_said(self) -> None:
        with mock.patch.object(traces, "OPTIONS", replace(traces.OPTIONS, traces="")):
            self.browser.get("/api/v1/plans/BOOK", HTTP_TRACEPARENT=OUTSIDE)
        self.assertEqual(traces._sender.cache_info().misses, 0)
        wrong = faults(replace(Options(), traces="collector:4318"), CLOCK.now())
        self.assertEqual([(one.setting, one.stop) for one in wrong], [("traces", True)])
