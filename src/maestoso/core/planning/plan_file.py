"""A plan as data for a file: what people keep in version control, and read and write by hand.

Defaults are left out, order is stable, durations are ISO 8601, and a member without rules of its own is just
its name, so that a small change of the plan is a small change of the file. Reading what was written gives the
same plan.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from difflib import get_close_matches
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue
from maestoso.core.model.plan import HoldCue, Member, Plan, Wave

FORMAT = "plan/1"
_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")
_TEXT = {"type": "string"}
_DURATION_SCHEMA = {"type": "string", "pattern": "^P(\\d+D)?(T(\\d+H)?(\\d+M)?(\\d+S)?)?$"}
_KINDS = ["test", "planned", "disaster"]

SCHEMA: dict[str, Any] = {
    "$schema": "https://json-schema.org/draft/2020-12/schema",
    "title": "A recovery plan of Maestoso",
    "type": "object",
    "additionalProperties": False,
    "required": ["maestoso", "code", "name", "from", "to", "rto", "rpo"],
    "properties": {
        "maestoso": {"const": FORMAT},
        "code": {**_TEXT, "pattern": "^[A-Z][A-Z0-9-]{1,11}$"},
        "name": _TEXT,
        "from": {**_TEXT, "description": "Code of the site that is lost or left."},
        "to": {**_TEXT, "description": "Code of the site where everything comes up."},
        "rto": _DURATION_SCHEMA,
        "rpo": _DURATION_SCHEMA,
        "owner": _TEXT,
        "drill_every": {**_DURATION_SCHEMA, "default": "P90D"},
        "notes": _TEXT,
        "waves": {
            "type": "array",
            "items": {
                "type": "object",
                "additionalProperties": False,
                "required": ["name"],
                "properties": {
                    "name": _TEXT,
                    "opens": {"enum": ["ready", "powered-on", "at-once"], "default": "ready"},
                    "holds": {
                        "type": "array",
                        "items": {
                            "type": "object",
                            "additionalProperties": False,
                            "required": ["id", "title", "instruction"],
                            "properties": {
                                "id": _TEXT,
                                "title": _TEXT,
                                "instruction": _TEXT,
                                "kinds": {"type": "array", "items": {"enum": _KINDS}, "default": _KINDS},
                            },
                        },
                    },
                    "members": {
                        "type": "array",
                        "items": {
                            "oneOf": [
                                _TEXT,
                                {
                                    "type": "object",
                                    "additionalProperties": False,
                                    "required": ["workload"],
                                    "properties": {
                                        "workload": _TEXT,
                                        "delay": {**_DURATION_SCHEMA, "default": "PT0S"},
                                        "depends_on": {"type": "array", "items": _TEXT},
                                        "ready": {
                                            "enum": ["heartbeat", "checks", "powered-on", "at-once"],
                                            "default": "checks",
                                        },
                                        "ready_timeout": {**_DURATION_SCHEMA, "default": "PT10M"},
                                        "on_failure": {"enum": ["ask", "go-on", "stop"], "default": "ask"},
                                        "power_on": {"type": "boolean", "default": True},
                                    },
                                },
                            ]
                        },
                    },
                },
            },
        },
    },
}
"""The JSON Schema of the file, for editors and pipelines."""


def iso(seconds: int) -> str:
    """Seconds as an ISO 8601 duration, such as PT1H30M; days only where it is whole days."""
    if seconds and seconds % 86400 == 0:
        return f"P{seconds // 86400}D"
    hours, rest = divmod(seconds, 3600)
    minutes, left = divmod(rest, 60)
    parts = ((hours, "H"), (minutes, "M"), (left, "S"))
    return "PT" + ("".join(f"{value}{unit}" for value, unit in parts if value) or "0S")


def seconds_of(text: Any, at: str) -> int:
    """An ISO 8601 duration in seconds. Raises BadValue."""
    match = _DURATION.fullmatch(text) if isinstance(text, str) and len(text) < 40 else None
    if match is None or text in ("P", "PT") or text.endswith("T"):
        raise BadValue(
            f"{str(text)[:60]!r} is no duration.", "Write it like PT2M, PT1H30M or P30D.", field=at
        )
    days, hours, minutes, seconds = (int(part or 0) for part in match.groups())
    return ((days * 24 + hours) * 60 + minutes) * 60 + seconds


def to_file(plan: Plan) -> dict[str, Any]:
    """The plan as plain data, in the order in which it is written."""
    made: dict[str, Any] = {
        "maestoso": FORMAT,
        "code": plan.code,
        "name": plan.name,
        "from": plan.source,
        "to": plan.target,
        "rto": iso(plan.rto_s),
        "rpo": iso(plan.rpo_s),
    }
    if plan.owner:
        made["owner"] = plan.owner
    if plan.drill_every_days != 90:
        made["drill_every"] = iso(plan.drill_every_days * 86400)
    if plan.notes:
        made["notes"] = plan.notes
    made["waves"] = [_wave_data(wave) for wave in plan.waves]
    return made


def _wave_data(wave: Wave) -> dict[str, Any]:
    made: dict[str, Any] = {"name": wave.name}
    if wave.opens != "ready":
        made["opens"] = wave.opens
    if wave.holds:
        made["holds"] = [
            {"id": hold.id, "title": hold.title, "instruction": hold.instruction}
            | ({} if list(hold.kinds) == _KINDS else {"kinds": list(hold.kinds)})
            for hold in wave.holds
        ]
    made["members"] = [_member_data(member) for member in wave.members]
    return made


def _member_data(member: Member) -> str | dict[str, Any]:
    usual = Member(workload=member.workload)
    if member == usual:
        return member.workload
    made: dict[str, Any] = {"workload": member.workload}
    if member.delay_s:
        made["delay"] = iso(member.delay_s)
    if member.depends_on:
        made["depends_on"] = list(member.depends_on)
    for field in ("ready", "on_failure", "power_on"):
        if getattr(member, field) != getattr(usual, field):
            made[field] = getattr(member, field)
    if member.ready_timeout_s != usual.ready_timeout_s:
        made["ready_timeout"] = iso(member.ready_timeout_s)
    return made


def from_file(data: Any) -> Plan:
    """The plan of a file. Raises BadValue; its ``field`` is the path of the first thing that does not fit."""
    if not isinstance(data, dict):
        raise BadValue("The file holds no plan.", "It is an object that begins with maestoso: plan/1.")
    _known(data, SCHEMA, "")
    if data["maestoso"] != FORMAT:
        said = f"maestoso is {str(data['maestoso'])[:40]!r}."
        raise BadValue(said, f"This program reads {FORMAT}.", field="maestoso")
    days, rest = divmod(seconds_of(data.get("drill_every", "P90D"), "drill_every"), 86400)
    if rest:
        raise BadValue("drill_every is not in whole days.", "Write it like P30D.", field="drill_every")
    plain: dict[str, Any] = {
        "code": data["code"], "name": data["name"], "source": data["from"], "target": data["to"],
        "rto_s": seconds_of(data["rto"], "rto"), "rpo_s": seconds_of(data["rpo"], "rpo"),
        "owner": data.get("owner", ""), "drill_every_days": days, "notes": data.get("notes", ""),
    }  # fmt: skip
    waves = _list(data.get("waves", []), "waves", _wave)
    return from_data(Plan, {**plain, "waves": waves}, "plan")


def _wave(data: Any, at: str) -> dict[str, Any]:
    schema = SCHEMA["properties"]["waves"]["items"]
    _known(data, schema, at)
    hold_schema = schema["properties"]["holds"]["items"]

    def hold(item: Any, where: str) -> dict[str, Any]:
        _known(item, hold_schema, where)
        return _checked(HoldCue, item, where)

    made = {key: data[key] for key in ("name", "opens") if key in data}
    holds = _list(data.get("holds", []), f"{at}.holds", hold)
    members = _list(data.get("members", []), f"{at}.members", _member)
    return _checked(Wave, {**made, "holds": holds, "members": members}, at)


def _member(data: Any, at: str) -> dict[str, Any]:
    if isinstance(data, str):
        return {"workload": data}
    properties = SCHEMA["properties"]["waves"]["items"]["properties"]["members"]["items"]["oneOf"]
    _known(data, properties[1], at)
    made = {key: value for key, value in data.items() if key not in ("delay", "ready_timeout")}
    for key, field in (("delay", "delay_s"), ("ready_timeout", "ready_timeout_s")):
        if key in data:
            made[field] = seconds_of(data[key], f"{at}.{key}")
    return _checked(Member, made, at)


def _checked(cls: type, data: dict[str, Any], at: str) -> dict[str, Any]:
    """The same data, once it is known to fit; the path of an error is that of the file."""
    from_data(cls, data, at)
    return data


def _list(items: Any, at: str, read: Callable[[Any, str], dict[str, Any]]) -> list[dict[str, Any]]:
    if not isinstance(items, list):
        raise BadValue(f"{at} is no list.", "Begin each of its lines with a dash.", field=at)
    return [read(item, f"{at}[{index}]") for index, item in enumerate(items)]


def _known(data: Any, schema: Mapping[str, Any], at: str) -> None:
    """Raises BadValue for a key that lacks, or is not in the schema, with what was probably meant."""
    if not isinstance(data, dict):
        raise BadValue(f"{at or 'The file'} is no object.", "Write its parts as key: value.", field=at)
    known = list(schema["properties"])
    for key in data:
        if key not in known:
            near = get_close_matches(str(key), known, 1)
            remedy = f"Did you mean {near[0]}?" if near else f"Known: {', '.join(known)}."
            raise BadValue(f"{str(key)[:60]!r} is not known here.", remedy, field=f"{at}.{key}".lstrip("."))
    for key in schema["required"]:
        if key not in data:
            raise BadValue(f"{key} is missing.", f"Add {key}: …", field=at)
