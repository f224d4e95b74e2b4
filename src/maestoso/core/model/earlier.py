"""Plans as earlier releases wrote them, in saved versions and run logs that nobody may change."""

from __future__ import annotations

from typing import Any


def plan_today(data: dict[str, Any]) -> dict[str, Any]:
    """The data of a plan in today's shape. Waves once had ``holds``; now a hold is one kind of cue.

    What is not of an earlier shape stays as it is, good or bad.
    """
    waves = data.get("waves")
    return {**data, "waves": [_wave(wave) for wave in waves]} if isinstance(waves, list) else data


def _wave(wave: Any) -> Any:
    holds = wave.get("holds") if isinstance(wave, dict) else None
    if not isinstance(holds, list) or not all(isinstance(hold, dict) for hold in holds):
        return wave
    rest = {key: value for key, value in wave.items() if key != "holds"}
    return {**rest, "cues": [*map(_cue, holds), *wave.get("cues", [])]}


def _cue(hold: dict[str, Any]) -> dict[str, Any]:
    rest = {key: value for key, value in hold.items() if key != "instruction"}
    return {**rest, "hold": {key: hold[key] for key in ("instruction",) if key in hold}}
