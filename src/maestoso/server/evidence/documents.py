"""Reports as pages and files, in the organisation's name."""

from __future__ import annotations

import base64
import json
import zipfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import IO, cast
from zoneinfo import ZoneInfo

from django.template import Context as Values
from django.template import Engine
from django.utils.safestring import mark_safe

from maestoso.core.codec import to_data
from maestoso.core.errors import BadValue
from maestoso.core.evidence.check_by_hand import SCRIPT
from maestoso.core.evidence.report import ReportStep, as_csv, compact, heading, report
from maestoso.core.evidence.score_drawing import drawings
from maestoso.core.runs.events import Event
from maestoso.core.wording import KINDS, PHASES, lasting, on_clock
from maestoso.server.common.pixels import drawn_anew
from maestoso.server.common.print import fonts_here, pdf_of
from maestoso.server.common.print import rendered as markdown
from maestoso.server.common.seal_keys import public_keys
from maestoso.server.estate.models import Site
from maestoso.server.evidence.models import Addition, Seal
from maestoso.server.evidence.sealing import as_file
from maestoso.server.organisation.services import organisation
from maestoso.server.runs.events import read_log, run_name
from maestoso.server.runs.models import Run

LONGEST_SAID = 600
"""Characters of an answer that a page repeats; the JSON and the evidence file hold all."""
MOST_NAMED = 12
MOST_DRAWN, A_BLOCK = 400, 10
"""Steps that are set with care in a PDF; of a larger run all are set as plain lines."""
PRINTED, MOST_PRINTED, MOST_PIXELS, PRINTED_AT = ("image/png", "image/jpeg"), 12, 8000, 1400
"""Media types of added files that a report shows, how many, how large they may be, and at how many pixels."""
_Told = tuple[ReportStep, str, list[tuple[str, str]]]
_engine = Engine(
    dirs=[str(Path(__file__).parent / "templates")], autoescape=True,
    libraries={"words": "maestoso.server.evidence.words"},
)  # fmt: skip


def page(run: Run, events: Sequence[Event], now: datetime, *, faces: bool = False) -> str:
    """The report as HTML, complete in itself; ``faces`` names the fonts of this machine."""
    made, style = report(run_name(run.pk), run.pk, events), organisation()
    site = Site.objects.filter(code=made.target).first()
    zone = ZoneInfo(site.time_zone if site else style.time_zone)
    seal = Seal.objects.filter(run=run).first()
    steps = [(step, _cut(compact(step.asked)), _said(step)) for step in made.steps if step.attempts]
    plain = faces and len(steps) > MOST_DRAWN
    values = {
        "report": made,
        "heading": heading(made),
        "kind": KINDS[made.kind],
        "organisation": style.organisation,
        "words": markdown(style.words),
        "logo": _as_address(bytes(style.logo)) if style.logo else "",
        "zone": zone.key,
        "tz": zone,
        "now": now,
        "drawings": [mark_safe(one) for one in drawings(made)],
        "phases": [(PHASES[one.phase], one.from_s, one.to_s) for one in made.phases],
        "steps": steps if not plain else [],
        "blocks": ["".join(map(_as_text, part)) for part in batched(steps)] if plain else [],
        "groups": [(group, _named(group.workloads)) for group in made.groups],
        "others": [step for step in made.steps if not step.attempts and step.status != "waiting"],
        "differs": [one for one in made.landings if one.differs],
        "notes": markdown(made.notes),
        "additions": list(run.additions.defer("body")),
        "pictures": _pictures(run),
        "seal": seal,
        "head": run.chain_head,
        "script": SCRIPT,
        "faces": fonts_here() if faces else [],
    }
    return _engine.get_template("report.html").render(Values(values))


def _as_address(png: bytes) -> str:
    return f"data:image/png;base64,{base64.b64encode(png).decode()}"


def _pictures(run: Run) -> list[tuple[Addition, str]]:
    """What was added and is a picture, to be printed; what cannot be read as one is only named."""
    found: list[tuple[Addition, str]] = []
    added = run.additions.exclude(name="").filter(media_type__in=PRINTED)
    # One at a time: fifty files of 10 MiB are more than a page is worth.
    for pk in added.values_list("pk", flat=True):
        row = added.get(pk=pk)
        with suppress(BadValue):
            drawn = drawn_anew(bytes(row.body or b""), what=row.name, most=MOST_PIXELS, shown=PRINTED_AT)
            found.append((row, _as_address(drawn)))
        if len(found) == MOST_PRINTED:
            break
    return found


def pdf(run: Run, events: Sequence[Event], now: datetime, tell: Callable[[int], None] | None = None) -> bytes:
    """The same as PDF, tagged and with its text as text; ``tell`` hears the number of every page."""
    return pdf_of(page(run, events, now, faces=True), tell)


def table(run: Run, events: Sequence[Event]) -> str:
    """The steps as CSV."""
    return as_csv(report(run_name(run.pk), run.pk, events))


def _said(step: ReportStep) -> list[tuple[str, str]]:
    """Every attempt in a line: when, how long, what came of it."""
    lines = []
    for one in step.attempts:
        took = "" if one.settled_s is None else f" after {lasting(one.settled_s - one.asked_s)}"
        outcome = one.outcome or "no answer"
        lines.append((f"{on_clock(one.asked_s)} {outcome}{took}", _cut(one.reason or compact(one.result))))
    return lines


def _as_text(step: _Told) -> str:
    """A step as plain lines, which take a fifth of the time to set; what went well at once is one line."""
    one, asked, said = step
    about = f"{one.workload}: {one.title}" if one.workload else one.title
    if one.status == "done" and len(said) == 1:
        ((when, what),) = said
        return (
            f"{when.replace(' done', '', 1)} {about} ({one.site}) ✓ {asked}{f' → {what}' if what else ''}\n"
        )
    ended = "✓" if one.status == "done" else f"✕ {one.status} {one.reason}"
    lines = [f"{on_clock(one.start_s)} {about} ({one.site}) {ended}", f"    {one.verb} {asked}"]
    lines += [f"    {when}: {what}" if what else f"    {when}" for when, what in said]
    return "".join(f"{line}\n" for line in lines)


def batched(steps: Sequence[_Told]) -> Iterator[Sequence[_Told]]:
    """Small blocks: a page break is sought within each."""
    return (steps[at : at + A_BLOCK] for at in range(0, len(steps), A_BLOCK))


def _named(names: Sequence[str]) -> str:
    """Some names and how many more: a cell with hundreds takes minutes to set, and nobody reads it."""
    more = len(names) - MOST_NAMED
    return ", ".join(names[:MOST_NAMED]) + (f" and {more} more" if more > 0 else "")


def _cut(text: str) -> str:
    return text if len(text) <= LONGEST_SAID else f"{text[:LONGEST_SAID]} … (whole in the JSON)"


INDEX = """\
# Evidence{of_organisation}

Made on {now}. {count}.

Each folder holds one run: `report.pdf` to read, `report.json` and `steps.csv` to reckon with,
`run.evidence.jsonl` to check, and what people added to it afterwards (`additions.jsonl`, signed line by line,
and the files themselves).

## How to check

You need Python 3 and the command `openssl` (1.1.1 or newer), and the fingerprint of the key from somebody
you trust; the files here cannot vouch for themselves.

    python3 check.py run-1/run.evidence.jsonl FINGERPRINT

Keys that sealed what is here:

{keys}

A seal is a JSON Web Signature (RFC 7515) with an Ed25519 key (RFC 8037). It holds the SHA-256 hash behind
the last event; the hash behind an event is that of the hash before it (64 zeros before the first), a line
feed, and the event as it stands on its line.

## Runs

| run | plan | kind | ended | outcome | folder |
|---|---|---|---|---|---|
{rows}
"""


class _Parts:
    """A file that is handed on while it is written, so that nobody waits for the whole of it."""

    def __init__(self) -> None:
        self._kept = bytearray()

    def write(self, data: bytes) -> int:
        self._kept += data
        return len(data)

    def flush(self) -> None:
        """Nothing is held back."""

    def drain(self) -> bytes:
        """What was written since the last time."""
        part, self._kept = bytes(self._kept), bytearray()
        return part


def archive(runs: Sequence[Run], now: datetime) -> Iterator[bytes]:
    """One ZIP for an auditor, run by run: reports, seals, the check to do by hand, and an index.

    All runs are sealed.
    """
    out, rows, used = _Parts(), [], set()
    # It is written from the beginning to the end, as the archive of a pipe.
    with zipfile.ZipFile(cast(IO[bytes], out), "w", zipfile.ZIP_DEFLATED) as put:
        for run in runs:
            used.add(run.seal.key)
            rows.append(_put_run(put, run, now))
            yield out.drain()
        keys = public_keys()
        put.writestr("keys.json", json.dumps({"keys": [{**keys[kid], "kid": kid} for kid in sorted(used)]}))
        put.writestr("check.py", SCRIPT)
        name = organisation().organisation
        text = INDEX.format(
            of_organisation=f" of {name}" if name else "", now=now.isoformat(timespec="seconds"),
            rows="\n".join(rows), count=f"{len(runs)} runs" if len(runs) != 1 else "One run",
            keys="\n".join(f"- `{kid}`" for kid in sorted(used)),
        )  # fmt: skip
        put.writestr("README.md", text)
    yield out.drain()


def _put_run(put: zipfile.ZipFile, run: Run, now: datetime) -> str:
    """Add the folder of a run; returns its line in the index."""
    events, folder = read_log(run.pk), f"run-{run.pk}"
    made = report(run_name(run.pk), run.pk, events)
    put.writestr(f"{folder}/report.pdf", pdf(run, events, now))
    put.writestr(f"{folder}/report.json", json.dumps(to_data(made), indent=1, ensure_ascii=False))
    put.writestr(f"{folder}/steps.csv", as_csv(made))
    put.writestr(f"{folder}/run.evidence.jsonl", as_file(run.seal, events))
    added = list(run.additions.all())
    if added:
        lines = [json.dumps({"number": one.number, "token": one.token}) for one in added]
        put.writestr(f"{folder}/additions.jsonl", "".join(f"{line}\n" for line in lines))
        for one in added:
            if one.name:
                put.writestr(f"{folder}/added/{_file_name(one)}", bytes(one.body or b""))
    return (
        f"| {run.pk} | {made.plan_name} | {KINDS[made.kind]} | {made.ended_at} | {made.outcome} | {folder} |"
    )


def _file_name(row: Addition) -> str:
    return f"{row.number:02}-{row.name}"
