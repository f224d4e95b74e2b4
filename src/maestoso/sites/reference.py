"""The page of all verbs, made from their types.

``python -m maestoso.sites.reference`` prints it; a test compares it with ``docs/site-verbs.md``.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from maestoso.sites.contract import PROTOCOL, openapi

TOP = """# Verbs of the site protocol, version {version}

Made from the types in `src/maestoso/sites/verbs.py`; how operations are asked for is in
[site-protocol.md](site-protocol.md), all of it as schemas in
[site-protocol.openapi.json](../src/maestoso/agent_kit/site-protocol.openapi.json).
A field in *italics* may be left out. Whoever reads leaves out fields that it does not know.
"""


def page() -> str:
    """The page in Markdown."""
    document = openapi()
    shapes = document["components"]["schemas"]
    parts = [TOP.format(version=PROTOCOL), "## Verbs", ""]
    used: list[str] = []
    for name, verb in document["x-verbs"].items():
        args, result = shapes[_named(verb["args"])], shapes[_named(verb["result"])]
        parts += [f"### {name}", "", f"Subject: {verb['subject']}. {_sentence(verb['description'])}", ""]
        for title, shape in (("Arguments", args), ("Result", result)):
            if shape["properties"]:
                parts += [f"- {title}: {_fields(shape)}. {shape['description']}"]
                used += _mentioned(shape)
        if verb["refusals"]:
            parts += ["- Fails with " + ", ".join(f"`{code}`" for code in verb["refusals"])]
        parts.append("")
    parts += ["## Shapes", ""]
    for name in _with_those_inside(used, shapes):
        parts += [f"- **{name}**: {_fields(shapes[name])}. {shapes[name]['description']}"]
    parts += ["", "## Refusals", "", "| code | what it says |", "|---|---|"]
    parts += [f"| `{code}` | {said} |" for code, said in document["x-refusals"].items()]
    return "\n".join(parts) + "\n"


def _named(reference: Mapping[str, Any]) -> str:
    return str(reference["$ref"]).rsplit("/", 1)[1]


def _sentence(text: str) -> str:
    return f"{text[0].upper()}{text[1:]}."


def _fields(shape: Mapping[str, Any]) -> str:
    required = shape.get("required", ())
    return ", ".join(
        f"`{name}` {_type(kind)}" if name in required else f"*`{name}` {_type(kind)}*"
        for name, kind in shape["properties"].items()
    )


def _type(kind: Mapping[str, Any]) -> str:
    """A type in words."""
    if "$ref" in kind:
        return _named(kind)
    if "anyOf" in kind:
        return f"{_type(kind['anyOf'][0])} or null"
    if "enum" in kind:
        return "one of " + "/".join(map(str, kind["enum"]))
    if kind.get("type") == "array":
        return f"list of {_type(kind['items'])}"
    if kind.get("type") == "object":
        return f"object of {_type(kind['additionalProperties'])}"
    if kind.get("format") == "date-time":
        return "moment"
    words = {"string": "text", "integer": "whole number", "number": "number", "boolean": "true or false"}
    return words[str(kind["type"])]


def _mentioned(shape: Any) -> Iterator[str]:
    """The shapes that a shape points to."""
    if isinstance(shape, dict):
        if "$ref" in shape:
            yield _named(shape)
        for value in shape.values():
            yield from _mentioned(value)
    elif isinstance(shape, list):
        for value in shape:
            yield from _mentioned(value)


def _with_those_inside(names: list[str], shapes: Mapping[str, Any]) -> list[str]:
    """These shapes and all that they are made of, each once, in the order of their names."""
    found: set[str] = set()
    left = list(names)
    while left:
        name = left.pop()
        if name not in found:
            found.add(name)
            left += _mentioned(shapes[name])
    return sorted(found)


if __name__ == "__main__":
    print(page(), end="")
