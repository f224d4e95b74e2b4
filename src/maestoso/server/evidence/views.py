"""Evidence over HTTP: these translate, nothing else."""

from __future__ import annotations

import json

from django.http import HttpResponse, HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.request import Request
from rest_framework.response import Response
from rest_framework.views import APIView

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue, NotFound
from maestoso.core.evidence.check_by_hand import SCRIPT
from maestoso.core.evidence.evidence_file import Verification, verify
from maestoso.core.evidence.report import Report, report
from maestoso.core.people.roles import SEE
from maestoso.engine.clock import SystemClock
from maestoso.server.access.may import require
from maestoso.server.common import seal_keys
from maestoso.server.common.raw_body import body_of, raw_body
from maestoso.server.common.seen import seen_by
from maestoso.server.common.shapes import Number, read, reply, shape
from maestoso.server.evidence import documents, jobs, picture, services
from maestoso.server.evidence.models import Seal
from maestoso.server.evidence.proof import proof
from maestoso.server.evidence.sealing import as_file
from maestoso.server.evidence.shapes import (
    AdditionView,
    Compared,
    LegalHold,
    NoteAdded,
    Proof,
    RunEvidence,
    SealKeys,
    Trend,
    key_of,
)
from maestoso.server.jobs.views import PREFER, answer, makes
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.models import Run
from maestoso.server.runs.services import find_run

CLOCK = SystemClock()
WITH = Number("with", 1, 10**9, "The other run.")
YEAR = Number("year", 0, 9999, "This year where it is missing.", otherwise=0)
LARGEST_EVIDENCE = 64 * 2**20
MOST_IN_ARCHIVE = 200


def _file(body: str | bytes, kind: str, name: str, *, shown: bool = False) -> HttpResponse:
    answer = HttpResponse(body, content_type=kind)
    if not shown:
        answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


class EvidenceView(APIView):
    """The evidence of a run."""

    @extend_schema(operation_id="runEvidence", responses=shape(RunEvidence))
    def get(self, request: Request, pk: int) -> Response:
        """Its report, whether it is as it was sealed, and what was added to it."""
        return reply(picture.run_evidence(pk))


class ReportHtml(APIView):
    """The report as a page."""

    @extend_schema(operation_id="reportHtml", responses={(200, "text/html"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Complete in itself, to read or to print."""
        run = find_run(pk)
        return _file(
            documents.page(run, read_log(pk), CLOCK.now()), "text/html; charset=utf-8", "", shown=True
        )


class ReportPdf(APIView):
    """The report as PDF."""

    @extend_schema(
        operation_id="reportPdf",
        parameters=[PREFER],
        responses=makes({(200, "application/pdf"): OpenApiTypes.BINARY}),
    )
    def get(self, request: Request, pk: int) -> HttpResponseBase:
        """Tagged, with its text as text."""
        return answer(request, jobs.begin_report(pk, by=_who(request)))


class ReportJson(APIView):
    """The report as data."""

    @extend_schema(operation_id="reportJson", responses=shape(Report))
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Everything that the page says and more."""
        find_run(pk)
        made = to_data(report(run_name(pk), pk, read_log(pk)))
        return _file(
            json.dumps(made, indent=1, ensure_ascii=False), "application/json", f"run-{pk}.report.json"
        )


class ReportCsv(APIView):
    """The steps as a table."""

    @extend_schema(operation_id="reportCsv", responses={(200, "text/csv"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """One row a step (RFC 4180)."""
        return _file(
            documents.table(find_run(pk), read_log(pk)), "text/csv; charset=utf-8", f"run-{pk}.steps.csv"
        )


class EvidenceFile(APIView):
    """What can be checked by anybody."""

    @extend_schema(operation_id="evidenceFile", responses={(200, "application/jsonl"): OpenApiTypes.STR})
    def get(self, request: Request, pk: int) -> HttpResponse:
        """Seal and key on the first line, an event on every other."""
        find_run(pk)
        seal = Seal.objects.filter(run_id=pk).first()
        if seal is None:
            raise NotFound(f"Run {pk} is not sealed yet.", "Wait until it has ended.")
        return _file(
            as_file(seal, read_log(pk)), "application/jsonl; charset=utf-8", f"run-{pk}.evidence.jsonl"
        )


class ComparedView(APIView):
    """Two runs beside each other."""

    @extend_schema(
        operation_id="comparedRuns",
        parameters=[WITH],
        responses=shape(Compared),
    )
    def get(self, request: Request, pk: int) -> Response:
        """What got slower or faster, and what was changed in between."""
        other = WITH.of(request)
        require(request, SEE, "run", str(other))
        return reply(picture.compared(pk, other))


class NotesView(APIView):
    """Notes that come later."""

    @extend_schema(
        operation_id="addNote", request=shape(NoteAdded, sent=True), responses={201: shape(AdditionView)}
    )
    def post(self, request: Request, pk: int) -> Response:
        """Add a note; it is signed on its own."""
        row = services.add_note(pk, read(NoteAdded, request).text, by=_who(request), at=CLOCK.now())
        return reply(picture.addition(row, row.run), 201)


class FilesView(APIView):
    """Files beside a run."""

    parser_classes = [raw_body(services.LARGEST_FILE)]

    @extend_schema(
        operation_id="addFile",
        parameters=[
            OpenApiParameter("name", OpenApiTypes.STR, required=True, description="The name of the file."),
            OpenApiParameter("type", OpenApiTypes.STR, description="Its media type."),
        ],
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses={201: shape(AdditionView)},
    )
    def post(self, request: Request, pk: int) -> Response:
        """Add a file of up to 10 MiB; its SHA-256 is signed."""
        asked = request.query_params
        row = services.add_file(
            pk,
            asked.get("name", ""),
            asked.get("type", ""),
            body_of(request),
            by=_who(request),
            at=CLOCK.now(),
        )
        return reply(picture.addition(row, row.run), 201)


class FileView(APIView):
    """One added file."""

    @extend_schema(
        operation_id="addedFile", responses={(200, "application/octet-stream"): OpenApiTypes.BINARY}
    )
    def get(self, request: Request, pk: int, number: int) -> HttpResponse:
        """As it was added. It is never shown in the page: whatever it holds stays data."""
        find_run(pk)
        row = services.find_file(pk, number)
        safe = row.name.replace('"', "").encode("ascii", "replace").decode()
        return _file(bytes(row.body or b""), "application/octet-stream", safe)


class LegalHoldView(APIView):
    """Keeping a run beyond its time."""

    @extend_schema(
        operation_id="holdForLaw", request=shape(LegalHold, sent=True), responses=shape(RunEvidence)
    )
    def put(self, request: Request, pk: int) -> Response:
        """Say why it must be kept, or (with an empty reason) that it need not be."""
        services.hold_for_law(pk, read(LegalHold, request).reason)
        return reply(picture.run_evidence(pk))


class TrendView(APIView):
    """A plan over all its runs."""

    @extend_schema(operation_id="planTrend", responses=shape(Trend))
    def get(self, request: Request, code: str) -> Response:
        """Time to recover, data at risk, failures and waiting for people, run by run."""
        return reply(picture.trend(code))


class VerifyView(APIView):
    """Checking a file that somebody brings."""

    parser_classes = [raw_body(LARGEST_EVIDENCE)]

    @extend_schema(
        operation_id="verifyEvidence",
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses=shape(Verification),
    )
    def post(self, request: Request) -> Response:
        """Whether the events are those that were sealed, and with a key of this installation."""
        return reply(verify(_text(body_of(request)), seal_keys.public_keys()))


class KeysView(APIView):
    """The keys that seal."""

    @extend_schema(operation_id="sealKeys", responses=shape(SealKeys))
    def get(self, request: Request) -> Response:
        """All public keys that were ever in use, as a JWK set."""
        return reply(_keys())

    @extend_schema(operation_id="rotateSealKey", request=None, responses={201: shape(SealKeys)})
    def post(self, request: Request) -> Response:
        """Take a new key into use; what the old ones sealed can still be checked."""
        seal_keys.rotate()
        return reply(_keys(), 201)


class SampleHtml(APIView):
    """How reports look now."""

    @extend_schema(operation_id="reportSample", responses={(200, "text/html"): OpenApiTypes.STR})
    def get(self, request: Request) -> HttpResponse:
        """The report of the newest run that has ended."""
        run = Run.objects.exclude(outcome="").filter(removed_at=None).first()
        if run is None:
            raise NotFound("No run has ended yet, so there is nothing to show.", "Start a test first.")
        return _file(
            documents.page(run, read_log(run.pk), CLOCK.now()), "text/html; charset=utf-8", "", shown=True
        )


class ProofView(APIView):
    """What was proved when."""

    @extend_schema(
        operation_id="proof",
        parameters=[YEAR],
        responses=shape(Proof),
    )
    def get(self, request: Request) -> Response:
        """Plans over a year, services and when each last answered, and what no plan holds."""
        return reply(proof(YEAR.of(request) or None, CLOCK.now(), seen_by(request)))


class ArchiveView(APIView):
    """Everything for an auditor."""

    @extend_schema(
        operation_id="evidenceArchive",
        parameters=[
            OpenApiParameter("runs", OpenApiTypes.STR, description="Numbers with commas; all where missing."),
            PREFER,
        ],
        responses=makes({(200, "application/zip"): OpenApiTypes.BINARY}),
    )
    def get(self, request: Request) -> HttpResponseBase:
        """One ZIP with reports, seals, the check to do by hand, and an index."""
        runs = _chosen(request.query_params.get("runs", ""))
        return answer(request, jobs.begin_archive(runs, by=_who(request)))


def _chosen(text: str) -> list[Run]:
    rows = Run.objects.exclude(seal=None).filter(removed_at=None).select_related("seal")
    if text:
        words = text.split(",")
        if not all(word.isascii() and word.isdigit() and len(word) < 10 for word in words):
            raise BadValue(f"runs is {text[:40]!r}.", "Give numbers of runs with commas.", field="runs")
        rows = rows.filter(pk__in=map(int, words))
    found = list(rows[: MOST_IN_ARCHIVE + 1])
    if not found:
        raise NotFound("None of these runs is sealed.", "Choose runs that have ended.")
    if len(found) > MOST_IN_ARCHIVE:
        raise BadValue("These are more than 200 runs.", "Choose fewer of them.", field="runs")
    return found


def _keys() -> SealKeys:
    known = seal_keys.public_keys()
    return SealKeys(
        keys=tuple(key_of(kid, key) for kid, key in known.items()),
        current=seal_keys.current_key().thumbprint(),
        check=SCRIPT,
    )


def _who(request: Request) -> str:
    return str(request.user.get_username())


def _text(body: bytes) -> str:
    if len(body) > LARGEST_EVIDENCE:
        raise BadValue("The file is larger than 64 MiB.", "Check it with ./maestoso verify.", field="body")
    try:
        return body.decode()
    except UnicodeDecodeError as error:
        raise BadValue("The file is no text in UTF-8.", "Give an evidence file.", field="body") from error
