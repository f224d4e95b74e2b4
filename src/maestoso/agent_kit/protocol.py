"""The document of the site protocol, and what follows from it: verbs, their arguments, what cannot be
read."""

from __future__ import annotations

import copy
import json
from collections.abc import Mapping
from functools import cache
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator

FILE = Path(__file__).with_name("site-protocol.openapi.json")
DOCUMENT: dict[str, Any] = json.loads(FILE.read_text(encoding="utf-8"))
PROTOCOL: str = DOCUMENT["info"]["version"]
VERBS: Mapping[str, dict[str, Any]] = DOCUMENT["x-verbs"]
REFUSALS: Mapping[str, str] = DOCUMENT["x-refusals"]
WAITS = frozenset({"await-heartbeat", "probe-service", "probe", "run-script"})
"""Verbs that wait for something which another verb about the same subject may end."""


def shape_of(verb: str, part: str) -> str:
    """The name of the shape of the ``args`` or the ``result`` of a verb."""
    return str(VERBS[verb][part]["$ref"]).rsplit("/", 1)[1]


@cache
def _validator(shape: str) -> Draft202012Validator:
    return Draft202012Validator(
        {"$ref": f"#/components/schemas/{shape}", "components": DOCUMENT["components"]},
        format_checker=Draft202012Validator.FORMAT_CHECKER,
    )


def unread(shape: str, value: Any) -> str:
    """Why a value is not of a shape, as a sentence that names the field; empty where it is."""
    error = next(iter(_validator(shape).iter_errors(value)), None)
    if error is None:
        return ""
    at = "".join(f"[{part}]" if isinstance(part, int) else f".{part}" for part in error.absolute_path)
    return f"{at.lstrip('.') or shape}: {error.message[:200]}."


def with_defaults(shape: str, value: Mapping[str, Any]) -> dict[str, Any]:
    """The value of a shape with what may be left out filled in, in the objects inside it, too."""
    properties: Mapping[str, Any] = DOCUMENT["components"]["schemas"][shape]["properties"]
    found = {name: copy.deepcopy(kind["default"]) for name, kind in properties.items() if "default" in kind}
    for name, inner in value.items():
        found[name] = _filled(properties[name], inner) if name in properties else inner
    return found


def _filled(kind: Mapping[str, Any], value: Any) -> Any:
    if "$ref" in kind and isinstance(value, dict):
        return with_defaults(str(kind["$ref"]).rsplit("/", 1)[1], value)
    if "anyOf" in kind and value is not None:
        return _filled(kind["anyOf"][0], value)
    if kind.get("type") == "array" and isinstance(value, list):
        return [_filled(kind["items"], item) for item in value]
    return value
