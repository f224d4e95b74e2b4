"""A plan as data for a file: what people keep in version control, and read and write by hand.

Defaults are left out, order is stable, durations are ISO 8601, and what has nothing but its first key is just
that, so that a small change of the plan is a small change of the file. Reading what was written gives the
same plan. One table of shapes serves writing, reading and the JSON Schema.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import MISSING, dataclass, fields
from difflib import get_close_matches
from typing import Any, Literal, get_type_hints

from maestoso.core.codec import from_data, json_schema
from maestoso.core.errors import BadValue
from maestoso.core.model.cue import Cue, Doors, Hold, NameRecord, Names, Notify, Pause, Probe, ScriptCall
from maestoso.core.model.earlier import plan_today
from maestoso.core.model.plan import Member, Part, Plan, Wave

FORMAT = "plan/1"
_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+)S)?)?")
_DURATION_SCHEMA = {"type": "string", "pattern": "^P(\\d+D)?(T(\\d+H)?(\\d+M)?(\\d+S)?)?$"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Key:
    """One key of the file. ``each`` and ``one`` are shapes of what is in it; ``unit`` of a duration."""

    name: str
    field: str
    unit: Literal["", "seconds", "days"] = ""
    each: Shape | None = None
    one: Shape | None = None
    said: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class Shape:
    """An object of the file. ``brief``: an object that has only this key is written as its value alone."""

    cls: type
    keys: tuple[Key, ...]
    brief: str = ""


def _keys(*names: str, **units: Literal["seconds", "days"]) -> tuple[Key, ...]:
    """Keys called like their fields, and durations whose field has its unit in its name."""
    plain = tuple(Key(name=name, field=name) for name in names)
    return plain + tuple(Key(name=n, field=f"{n}_{_UNITS[unit]}", unit=unit) for n, unit in units.items())


_UNITS = {"seconds": "s", "days": "days"}

_CUE = Shape(
    cls=Cue,
    keys=(
        *_keys("id", "title", "at", "kinds", "on_failure"),
        Key(name="hold", field="hold", one=Shape(
            cls=Hold, keys=_keys("instruction", "who", "answers", "then", "not_right", limit="seconds"),
            brief="instruction")),
        Key(name="script", field="script", one=Shape(
            cls=ScriptCall,
            keys=_keys("script", "sha256", "where", "workload", "parameters", "secrets", "ok_codes",
                       limit="seconds"))),
        Key(name="probe", field="probe", one=Shape(
            cls=Probe,
            keys=_keys("protocol", "workload", "address", "door", "port", "path", "status", "text", "days",
                       "name",
                       limit="seconds"))),
        Key(name="pause", field="pause", one=Shape(
            cls=Pause, keys=(Key(name="for", field="seconds", unit="seconds"),), brief="for")),
        Key(name="notify", field="notify", one=Shape(cls=Notify, keys=_keys("text"), brief="text")),
        Key(name="names", field="names", one=Shape(
            cls=Names,
            keys=(
                Key(name="records", field="records", each=Shape(
                    cls=NameRecord, keys=_keys("name", "type", "workload", "door", "at", ttl="seconds"))),
                *_keys("wait_out", limit="seconds"),
            ))),
        Key(name="doors", field="doors", one=Shape(cls=Doors, keys=_keys("doors"), brief="doors")),
    ),
)  # fmt: skip
_CUES = Key(name="cues", field="cues", each=_CUE)
_MEMBER = Shape(
    cls=Member,
    keys=(
        *_keys("workload", delay="seconds"),
        *_keys("depends_on", "ready", "on_failure", "power_on", ready_timeout="seconds"),
        *_keys("force_off", "cores", "memory_mib", shutdown_limit="seconds"),
        _CUES,
    ),
    brief="workload",
)
_WAVE = Shape(
    cls=Wave,
    keys=(
        *_keys("name", "opens"),
        Key(name="tag_rule", field="tag_rule", said="A filter: the workloads that belong in this wave."),
        _CUES,
        Key(name="members", field="members", each=_MEMBER),
    ),
)
_PLAN = Shape(
    cls=Plan,
    keys=(
        *_keys("code", "name"),
        Key(name="from", field="source", said="Code of the site that is lost or left."),
        Key(name="to", field="target", said="Code of the site where everything comes up."),
        *_keys(rto="seconds", rpo="seconds"),
        *_keys("owner", drill_every="days"),
        *_keys("needs_standby"),
        *_keys("tags", "notes"),
        Key(
            name="parts", field="parts", each=Shape(cls=Part, keys=_keys("plan", "opens"), brief="plan"),
            said="Other plans, whose waves come before this plan's own.",
        ),
        _CUES,
        Key(name="waves", field="waves", each=_WAVE),
    ),
)  # fmt: skip
_ALWAYS = {"members", "waves"}
"""Lists that are written even when they are empty, so that one sees where something belongs."""


# --- the JSON Schema ---


def _object_schema(shape: Shape) -> dict[str, Any]:
    types = {field.name: field for field in fields(shape.cls)}
    hints = _field_schemas(shape.cls)
    properties = {key.name: _key_schema(key, hints[key.field], types[key.field]) for key in shape.keys}
    required = [key.name for key in shape.keys if _is_required(types[key.field])]
    made = {"type": "object", "additionalProperties": False, "properties": properties}
    return {**made, "required": required} if required else made


def _field_schemas(cls: type) -> dict[str, dict[str, Any]]:
    hints = get_type_hints(cls)
    return {
        field.name: _OF_FIELD.get((cls, field.name)) or json_schema(hints[field.name], lambda _: {})
        for field in fields(cls)
    }


_OF_FIELD: dict[tuple[type, str], dict[str, Any]] = {
    (Plan, "code"): {"type": "string", "pattern": "^[A-Z][A-Z0-9-]{1,11}$"},
    (ScriptCall, "sha256"): {"type": "string", "pattern": "^[0-9a-f]{64}$"},
}


def _key_schema(key: Key, plain: dict[str, Any], field: Any) -> dict[str, Any]:
    if key.each is not None:
        made: dict[str, Any] = {"type": "array", "items": _brief_schema(key.each)}
    elif key.one is not None:
        made = _brief_schema(key.one)
    elif key.unit:
        made = dict(_DURATION_SCHEMA)
    else:
        made = plain["anyOf"][0] if "anyOf" in plain else plain
    if key.said:
        made = {**made, "description": key.said}
    if key.each is None and key.one is None and field.default is not MISSING and field.default is not None:
        made = {**made, "default": _plain_value(key, field.default)}
    return made


def _brief_schema(shape: Shape) -> dict[str, Any]:
    schema = _object_schema(shape)
    if not shape.brief:
        return schema
    return {"oneOf": [{"type": "string"}, schema]}


def _is_required(field: Any) -> bool:
    return field.default is MISSING and field.default_factory is MISSING


def _schema() -> dict[str, Any]:
    made = _object_schema(_PLAN)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A recovery plan of Maestoso",
        "type": "object",
        "additionalProperties": False,
        "required": ["maestoso", *made["required"]],
        "properties": {"maestoso": {"const": FORMAT}, **made["properties"]},
    }


# --- durations ---


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


def _days_of(text: Any, at: str) -> int:
    days, rest = divmod(seconds_of(text, at), 86400)
    if rest:
        raise BadValue(f"{at} is not in whole days.", "Write it like P30D.", field=at)
    return days


# --- writing ---


def to_file(plan: Plan) -> dict[str, Any]:
    """The plan as plain data, in the order in which it is written."""
    return {"maestoso": FORMAT, **_object(_PLAN, plan)}


def _object(shape: Shape, value: Any) -> dict[str, Any]:
    made: dict[str, Any] = {}
    defaults = {field.name: field for field in fields(shape.cls)}
    for key in shape.keys:
        held, field = getattr(value, key.field), defaults[key.field]
        usual = field.default if field.default_factory is MISSING else field.default_factory()
        if held == usual and key.name not in _ALWAYS:
            continue
        if key.each is not None:
            made[key.name] = [_written(key.each, one) for one in held]
        elif key.one is not None:
            made[key.name] = _written(key.one, held)
        else:
            made[key.name] = _plain_value(key, held)
    return made


def _written(shape: Shape, value: Any) -> Any:
    made = _object(shape, value)
    return made[shape.brief] if shape.brief and list(made) == [shape.brief] else made


def _plain_value(key: Key, value: Any) -> Any:
    if key.unit:
        return iso(value * 86400 if key.unit == "days" else value)
    if isinstance(value, tuple):
        return list(value)
    if isinstance(value, dict):
        return {name: list(one) if isinstance(one, tuple) else one for name, one in value.items()}
    return value


# --- reading ---


def from_file(data: Any) -> Plan:
    """The plan of a file. Raises BadValue; its ``field`` is the path of the first thing that does not fit."""
    if not isinstance(data, dict):
        raise BadValue("The file holds no plan.", "It is an object that begins with maestoso: plan/1.")
    if "maestoso" not in data:
        raise BadValue("maestoso is missing.", f"Begin the file with maestoso: {FORMAT}.", field="maestoso")
    if data["maestoso"] != FORMAT:
        said = f"maestoso is {str(data['maestoso'])[:40]!r}."
        raise BadValue(said, f"This program reads {FORMAT}.", field="maestoso")
    rest = {key: value for key, value in data.items() if key != "maestoso"}
    return from_data(Plan, _read(_PLAN, plan_today(rest), ""), "plan")


def _read(shape: Shape, data: Any, at: str) -> dict[str, Any]:
    if shape.brief and not isinstance(data, dict):
        data = {shape.brief: data}
    _known(data, shape, at)
    made: dict[str, Any] = {}
    for key in shape.keys:
        if key.name not in data:
            continue
        held, path = data[key.name], f"{at}.{key.name}".lstrip(".")
        if key.each is not None:
            made[key.field] = _list(key.each, held, path)
        elif key.one is not None:
            made[key.field] = _read(key.one, held, path)
        elif key.unit:
            made[key.field] = seconds_of(held, path) if key.unit == "seconds" else _days_of(held, path)
        else:
            made[key.field] = held
    # Known to fit, so that the path of an error is that of the file.
    from_data(shape.cls, made, at or "plan")
    return made


def _list(shape: Shape, items: Any, at: str) -> list[dict[str, Any]]:
    if not isinstance(items, list):
        raise BadValue(f"{at} is no list.", "Begin each of its lines with a dash.", field=at)
    return [_read(shape, item, f"{at}[{index}]") for index, item in enumerate(items)]


def _known(data: Any, shape: Shape, at: str) -> None:
    """Raises BadValue for a key that lacks, or is not in the shape, with what was probably meant."""
    if not isinstance(data, dict):
        raise BadValue(f"{at or 'The file'} is no object.", "Write its parts as key: value.", field=at)
    names = [key.name for key in shape.keys]
    for key in data:
        if key not in names:
            near = get_close_matches(str(key), names, 1)
            remedy = f"Did you mean {near[0]}?" if near else f"Known: {', '.join(names)}."
            raise BadValue(f"{str(key)[:60]!r} is not known here.", remedy, field=f"{at}.{key}".lstrip("."))
    required: Mapping[str, bool] = {field.name: _is_required(field) for field in fields(shape.cls)}
    for one in shape.keys:
        if required[one.field] and one.name not in data:
            raise BadValue(f"{one.name} is missing.", f"Add {one.name}: …", field=at)


SCHEMA: dict[str, Any] = _schema()
"""The JSON Schema of the file, for editors and pipelines."""
