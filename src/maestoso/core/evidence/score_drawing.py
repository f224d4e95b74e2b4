"""The score of a run as pictures for a report: SVG with the marks that the pages use."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from xml.sax.saxutils import escape

from maestoso.core.evidence.report import Report, ReportStep
from maestoso.core.wording import on_clock

ROW, LEFT, WIDTH, TOP, FOOT = 13.0, 130.0, 680.0, 20.0, 6.0
ROWS_A_PICTURE = 52
INK, QUIET, RULE, BAD, BRASS = "#17202e", "#7c8290", "#dcd4c1", "#b23622", "#8f6212"
TICKS_S = (10, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 28800, 86400)
_BOOTS = ("power-on", "await-heartbeat")
_CHECKS = ("probe-service", "probe")
_DRAWN = ("prepare", "close-down", "hand-over", "bring-up")


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    label: str
    wave: str
    steps: tuple[ReportStep, ...]


def drawings(made: Report) -> tuple[str, ...]:
    """The score up to the verdict or the decision, in pictures that each fit on a page."""
    rows = _rows(made)
    end = max([made.rto_objective_s, *(step.finish_s or 0.0 for row in rows for step in row.steps)])
    return tuple(
        _picture(made, rows[at : at + ROWS_A_PICTURE], end * 1.03)
        for at in range(0, len(rows), ROWS_A_PICTURE)
    )


def _rows(made: Report) -> list[_Row]:
    found: dict[tuple[str, str], list[ReportStep]] = {}
    for step in made.steps:
        if step.phase in _DRAWN and step.start_s is not None and step.finish_s is not None:
            label = step.workload or ("whole plan" if step.verb != "sync" else step.title)
            found.setdefault((step.wave if step.workload else "", label), []).append(step)
    first = {
        key: min(s.start_s or 0.0 for s in steps if s.phase == steps[-1].phase)
        for key, steps in found.items()
    }
    waves = _order(made)
    listed = sorted(found, key=lambda key: (waves.get(key[0], -1), first[key], key[1]))
    return [_Row(label=label, wave=wave, steps=tuple(found[wave, label])) for wave, label in listed]


def _order(made: Report) -> dict[str, int]:
    """Waves by when their first workload got power; a report does not repeat the plan."""
    powered = [step for step in made.steps if step.verb == "power-on" and step.wave]
    found: dict[str, int] = {}
    for step in powered:
        found.setdefault(step.wave, len(found))
    return found


def _picture(made: Report, rows: Sequence[_Row], end: float) -> str:
    height = TOP + len(rows) * ROW + FOOT

    def x(seconds: float) -> float:
        return round(LEFT + max(seconds, 0.0) / end * (WIDTH - LEFT - 6), 2)

    parts = [_axis(end, height, x)]
    wave = None
    for index, row in enumerate(rows):
        y = TOP + index * ROW
        if row.wave != wave:
            parts.append(f'<line x1="0" y1="{y}" x2="{WIDTH}" y2="{y}" stroke="{RULE}"/>')
            wave = row.wave
        parts.append(f'<text x="2" y="{y + 9.5}" font-size="8" fill="{INK}">{escape(row.label[:28])}</text>')
        parts += [_marks(step, x, y) for step in row.steps]
    objective = x(made.rto_objective_s)
    parts.append(f'<line x1="{objective}" y1="12" x2="{objective}" y2="{height}" stroke="{INK}"/>')
    told = f"Score of run {made.run}: {len(rows)} rows, {on_clock(end)} long"
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {height}" role="img" '
        f'aria-label="{escape(told)}" font-family="Sans, sans-serif">{"".join(parts)}</svg>'
    )


def _axis(end: float, height: float, x: Callable[[float], float]) -> str:
    step = next((one for one in TICKS_S if end / one <= 9), TICKS_S[-1])
    parts = []
    for at in range(0, int(end) + 1, step):
        parts.append(
            f'<line x1="{x(at)}" y1="14" x2="{x(at)}" y2="{height}" stroke="{RULE}" stroke-width=".5"/>'
        )
        parts.append(f'<text x="{x(at) + 1}" y="9" font-size="7" fill="{QUIET}">{on_clock(at)}</text>')
    return "".join(parts)


def _marks(step: ReportStep, x: Callable[[float], float], y: float) -> str:
    """A bar for every try, with a framed cross behind one that failed."""
    if step.verb in ("hold", "acknowledge"):
        return f'<circle cx="{x(step.start_s or 0.0)}" cy="{y + 6.5}" r="2.5" fill="{BRASS}"/>'
    parts = []
    for one in step.attempts:
        begin, end = x(one.asked_s), x(one.settled_s or step.finish_s or one.asked_s)
        parts.append(_bar(step.verb, begin, round(max(end - begin, 1.0), 2), y))
        if one.outcome == "failed":
            parts.append(
                f'<rect x="{end - 4.5}" y="{y + 2}" width="9" height="9" fill="#fff" stroke="{BAD}"/>'
                f'<path d="M{end - 2.5} {y + 4}l5 5m0 -5l-5 5" stroke="{BAD}" fill="none"/>'
            )
    return "".join(parts)


def _bar(verb: str, begin: float, wide: float, y: float) -> str:
    if verb in _BOOTS:
        return f'<rect x="{begin}" y="{y + 2.5}" width="{wide}" height="8" fill="{INK}"/>'
    if verb in _CHECKS:
        return f'<rect x="{begin}" y="{y + 3}" width="{max(wide, 4)}" height="7" fill="none" stroke="{INK}"/>'
    if verb in ("shut-down", "fence"):
        return f'<rect x="{begin}" y="{y + 4}" width="{wide}" height="5" fill="none" stroke="{INK}"/>'
    return f'<rect x="{begin}" y="{y + 5.5}" width="{wide}" height="2" fill="{QUIET}"/>'
