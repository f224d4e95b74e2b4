"""Frozen values to and from JSON-ready data, by their type annotations.

The rule: a dataclass is an object with its field names, a tuple is a list, an address or a moment is its
usual text (RFC 3339 for moments, always with an offset). Unknown and missing fields are refused by name, so
that a misspelt key in a file is never silently lost. What another program says is read tolerantly instead:
fields that are not known are left out, so that a newer one is understood.
"""

from __future__ import annotations

import dataclasses
import types
import typing
from collections.abc import Callable, Mapping
from datetime import datetime
from functools import cache
from ipaddress import IPv4Interface, IPv4Network, IPv6Interface, IPv6Network, ip_interface, ip_network
from typing import Any, TypeVar

from maestoso.core.errors import BadValue

T = TypeVar("T")
_PLAIN_TYPES = frozenset({str, int, float, bool, type(None)})
_TEXTUAL = (IPv4Interface, IPv6Interface, IPv4Network, IPv6Network)


@cache
def _hints(cls: type) -> dict[str, Any]:
    return typing.get_type_hints(cls)


@cache
def _names(cls: type) -> tuple[str, ...]:
    return tuple(field.name for field in dataclasses.fields(cls))


def to_data(value: Any) -> Any:
    """Turn a value of the model into dicts, lists, strings, numbers, booleans and None."""
    if type(value) in _PLAIN_TYPES:
        return value
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        # Most values are plain: a score of five thousand steps has a hundred thousand of them.
        return {
            name: item if type(item := getattr(value, name)) in _PLAIN_TYPES else to_data(item)
            for name in _names(type(value))
        }
    if isinstance(value, dict):
        return {str(key): to_data(item) for key, item in value.items()}
    if isinstance(value, list | tuple | frozenset):
        return [to_data(item) for item in value]
    if isinstance(value, datetime):
        return value.isoformat()
    if isinstance(value, _TEXTUAL):
        return str(value)
    return value


def from_data(cls: type[T], data: Any, at: str = "", *, tolerant: bool = False) -> T:
    """Build a ``cls`` from data made by :func:`to_data`, or from a file that people wrote.

    ``tolerant`` leaves fields out that are not known. Raises BadValue with ``field`` set to the path of the
    first value that does not fit.
    """
    return typing.cast(T, _read(cls, data, at or cls.__name__, tolerant))


def _read(kind: Any, data: Any, at: str, tolerant: bool) -> Any:
    origin = typing.get_origin(kind)
    if origin in (typing.Union, types.UnionType):
        return _read_union(kind, data, at, tolerant)
    if origin is tuple:
        if not isinstance(data, list | tuple):
            raise _bad_value(at, data, "a list")
        item = typing.get_args(kind)[0]
        return tuple(_read(item, element, f"{at}[{index}]", tolerant) for index, element in enumerate(data))
    if origin in (dict, Mapping):
        if not isinstance(data, dict):
            raise _bad_value(at, data, "an object")
        item = typing.get_args(kind)[1]
        return {
            _text(str(key), at): _read(item, element, f"{at}.{key}", tolerant)
            for key, element in data.items()
        }
    if origin is typing.Literal:
        choices = typing.get_args(kind)
        if data not in choices:
            raise _bad_value(at, data, f"one of {', '.join(map(str, choices))}")
        return data
    if dataclasses.is_dataclass(kind):
        return _read_object(typing.cast(type, kind), data, at, tolerant)
    return _read_plain(kind, data, at)


def _read_union(kind: Any, data: Any, at: str, tolerant: bool) -> Any:
    choices = typing.get_args(kind)
    if type(None) in choices and data is None:
        return None
    real = [choice for choice in choices if choice is not type(None)]
    if all(choice in _TEXTUAL for choice in real):
        return _read_textual(real, data, at)
    return _read(real[0], data, at, tolerant)


def _read_textual(choices: list[Any], data: Any, at: str) -> Any:
    networks = any(choice in (IPv4Network, IPv6Network) for choice in choices)
    try:
        return ip_network(str(data)) if networks else ip_interface(str(data))
    except ValueError as error:
        wanted = "a prefix such as 10.20.4.0/24" if networks else "an address such as 10.20.4.17/24"
        raise _bad_value(at, data, wanted) from error


def _read_object(cls: type, data: Any, at: str, tolerant: bool) -> Any:
    if not isinstance(data, dict):
        raise _bad_value(at, data, "an object")
    hints = _hints(cls)
    unknown = [] if tolerant else [key for key in data if key not in hints]
    if unknown:
        raise BadValue(
            f"{at} has a field {unknown[0]!r} that is not known.",
            f"Use one of: {', '.join(hints)}.",
            field=f"{at}.{str(unknown[0]).encode('ascii', 'backslashreplace').decode()[:60]}",
        )
    values: dict[str, Any] = {}
    for field in dataclasses.fields(cls):
        if field.name in data:
            values[field.name] = _read(hints[field.name], data[field.name], f"{at}.{field.name}", tolerant)
        elif field.default is dataclasses.MISSING and field.default_factory is dataclasses.MISSING:
            raise BadValue(f"{at}.{field.name} is missing.", "Give it a value.", field=f"{at}.{field.name}")
    return cls(**values)


def _read_plain(kind: Any, data: Any, at: str) -> Any:
    if kind is Any or kind is object:
        return data
    if kind in _TEXTUAL:
        return _read_textual([kind], data, at)
    if kind is datetime:
        return _read_moment(data, at)
    if kind is float and isinstance(data, int | float) and not isinstance(data, bool):
        number = float(data)
        if number - number != 0.0:
            raise _bad_value(at, data, "a finite number")
        return number
    if kind is int and isinstance(data, int) and not isinstance(data, bool):
        return data
    if kind is bool and isinstance(data, bool):
        return data
    if kind is str and isinstance(data, str):
        return _text(data, at)
    names = {int: "a whole number", float: "a number", bool: "true or false", str: "text"}
    raise _bad_value(at, data, names.get(kind, str(kind)))


def _text(data: str, at: str) -> str:
    """JSON can spell half a character (a lone surrogate), which no database or file can hold."""
    try:
        data.encode()
    except UnicodeEncodeError as error:
        raise _bad_value(at, data, "text in Unicode") from error
    return data


def _read_moment(data: Any, at: str) -> datetime:
    try:
        moment = data if isinstance(data, datetime) else datetime.fromisoformat(str(data))
    except ValueError as error:
        raise _bad_value(at, data, "a time such as 2026-11-12T03:14:00+00:00") from error
    if moment.tzinfo is None:
        raise _bad_value(at, data, "a time with its offset, such as 2026-11-12T03:14:00+00:00")
    return moment


def _bad_value(at: str, data: Any, wanted: str) -> BadValue:
    shown = repr(data)
    shown = shown if len(shown) <= 60 else shown[:57] + "..."
    return BadValue(f"{at} is {shown}, which is not {wanted}.", f"Give {wanted}.", field=at)


def json_schema(kind: Any, ref: Callable[[type], dict[str, Any]]) -> dict[str, Any]:
    """The JSON Schema of what :func:`to_data` makes of ``kind``; ``ref`` says how to point to a dataclass."""
    origin = typing.get_origin(kind)
    if origin in (typing.Union, types.UnionType):
        real = [choice for choice in typing.get_args(kind) if choice is not type(None)]
        inner = {"type": "string"} if real[0] in _TEXTUAL else json_schema(real[0], ref)
        optional = len(real) < len(typing.get_args(kind))
        return {"anyOf": [inner, {"type": "null"}]} if optional else inner
    if origin is tuple:
        return {"type": "array", "items": json_schema(typing.get_args(kind)[0], ref)}
    if origin in (dict, Mapping):
        return {"type": "object", "additionalProperties": json_schema(typing.get_args(kind)[1], ref)}
    if origin is typing.Literal:
        return {"type": "string", "enum": list(typing.get_args(kind))}
    if dataclasses.is_dataclass(kind):
        return ref(typing.cast(type, kind))
    if kind is datetime:
        return {"type": "string", "format": "date-time"}
    if kind in _TEXTUAL:
        return {"type": "string"}
    return dict(_PLAIN_SCHEMA.get(kind, {}))


_PLAIN_SCHEMA: dict[Any, dict[str, Any]] = {
    str: {"type": "string"},
    int: {"type": "integer"},
    float: {"type": "number"},
    bool: {"type": "boolean"},
}


def object_schema(cls: type, ref: Callable[[type], dict[str, Any]], *, complete: bool) -> dict[str, Any]:
    """The schema of a dataclass. ``complete``: every field is there (what we answer); else only those
    without a default are required (what we are sent)."""
    required = [
        field.name
        for field in dataclasses.fields(cls)
        if complete or (field.default is dataclasses.MISSING and field.default_factory is dataclasses.MISSING)
    ]
    hints = _hints(cls)
    properties = {field.name: json_schema(hints[field.name], ref) for field in dataclasses.fields(cls)}
    schema: dict[str, Any] = {"type": "object", "properties": properties, "additionalProperties": False}
    return {**schema, "required": required} if required else schema
