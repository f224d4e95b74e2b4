"""Templates: waves with rules and cues, no workloads. A plan begun from one takes in what its rules name."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from maestoso.core.codec import to_data
from maestoso.core.estate.filter import compile_filter
from maestoso.core.estate.row import row_of
from maestoso.core.model.cue import Cue, Hold, Notify
from maestoso.core.model.estate import Workload
from maestoso.core.model.plan import Member, Plan, Wave
from maestoso.core.planning.suggest import Piece, Suggestion, suggest_changes


@dataclass(frozen=True, slots=True, kw_only=True)
class Template:
    """``key`` names it for ever; ``says`` is for whom it is."""

    key: str
    title: str
    says: str
    waves: tuple[Wave, ...]
    cues: tuple[Cue, ...] = ()


_TOLD = Cue(
    id="told",
    title="Everybody knows",
    at="after",
    kinds=("planned", "disaster"),
    notify=Notify(text="It is up at the other site. Tell those who wait for it."),
)
_LOOK = Cue(
    id="look",
    title="Somebody has looked",
    at="after",
    hold=Hold(instruction="Open it as its users do, and say what you saw.", limit_s=3600, then="stop"),
)

TEMPLATES: tuple[Template, ...] = (
    Template(
        key="tiers",
        title="An application in tiers",
        says="Core, data, services, faces: by the tag tier.",
        waves=(
            Wave(name="Core", tag_rule="tier=core"),
            Wave(name="Data", tag_rule="tier=data"),
            Wave(name="Services", tag_rule="tier=app"),
            Wave(name="Faces", tag_rule="tier=web"),
        ),
        cues=(_TOLD,),
    ),
    Template(
        key="vital-first",
        title="What is vital first",
        says="Three waves by criticality, each looked at before the next one opens.",
        waves=(
            Wave(name="Vital", tag_rule="criticality:vital", cues=(_LOOK,)),
            Wave(name="Important", tag_rule="criticality:important"),
            Wave(name="Deferrable", tag_rule="criticality:deferrable"),
        ),
        cues=(_TOLD,),
    ),
)


def from_template(template: Template, workloads: Sequence[Workload]) -> Suggestion:
    """Each workload in the first wave whose rule names it; those that none names in the last one."""
    rules = [(index, wave, compile_filter(wave.tag_rule)) for index, wave in enumerate(template.waves)]
    pieces = []
    for workload in workloads:
        row = row_of(to_data(workload), "", "")
        found = next(((index, wave) for index, wave, fits in rules if fits(row)), None)
        last = len(template.waves) - 1
        pieces.append(
            Piece(
                kind="wave",
                workload=workload.name,
                wave=found[0] if found else last,
                reason=f"matches {found[1].tag_rule}" if found else "matches no rule of the template",
            )
        )
    names = tuple(wave.name for wave in template.waves)
    return Suggestion(waves=names, pieces=(*pieces, *_waiting(names, pieces, workloads)))


def _waiting(names: Sequence[str], pieces: Sequence[Piece], workloads: Sequence[Workload]) -> list[Piece]:
    """Who should wait for whom within a wave, by what uses what."""
    members: list[list[Member]] = [[] for _ in names]
    for piece in pieces:
        members[piece.wave].append(Member(workload=piece.workload))
    waves = tuple(Wave(name=name, members=tuple(its)) for name, its in zip(names, members, strict=True))
    plan = Plan(code="", name="", source="", target="", rto_s=1, rpo_s=1, waves=waves)
    return [
        piece
        for piece in suggest_changes(plan, {workload.name: workload for workload in workloads})
        if piece.kind == "dependency"
    ]


BY_KEY: Mapping[str, Template] = {template.key: template for template in TEMPLATES}
