"""Makes the Python client from the contract; a test compares what it makes with what is there."""

from __future__ import annotations

import json
import keyword
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[1]
CONTRACT = ROOT / "docs" / "openapi.json"
TARGET = Path(__file__).parent / "python" / "maestoso_client" / "operations.py"
BEFORE = "/api/v1"
HEAD = '''"""Every operation of the API as a method. Made from docs/openapi.json by clients/make_python.py."""

# ruff: noqa: A002, E501
from __future__ import annotations

from typing import Any

from maestoso_client.line import Line


class Operations(Line):
    """Arguments and answers are as the contract says; what it calls a shape is a dictionary here.

    Every method may raise Refused or NotReached.
    """
'''


def made() -> str:
    """The text of the module."""
    paths: Mapping[str, Any] = json.loads(CONTRACT.read_text(encoding="utf-8"))["paths"]
    found = [
        (operation["operationId"], method, path, operation)
        for path, methods in paths.items()
        for method, operation in methods.items()
        if isinstance(operation, dict)
        and "operationId" in operation
        # What never ends is no answer.
        and "text/event-stream" not in operation["responses"].get("200", {}).get("content", {})
    ]
    methods = ["\n".join(_method(*one)) for one in sorted(found)]
    return HEAD + "\n" + "\n\n".join(methods) + "\n"


def _snake(name: str) -> str:
    snake = re.sub(r"(?<=[a-z0-9])(?=[A-Z])|-", "_", name).lower()
    return f"{snake}_" if keyword.iskeyword(snake) else snake


def _method(name: str, method: str, path: str, operation: Mapping[str, Any]) -> Iterator[str]:
    given = operation.get("parameters", [])
    in_path = [one["name"] for one in given if one["in"] == "path"]
    query = [one for one in given if one["in"] == "query"]
    headers = [one for one in given if one["in"] == "header"]
    kinds = list(operation.get("requestBody", {}).get("content", {}))
    arguments = ["self", *(f"{_snake(one)}: str | int" for one in re.findall(r"{(\w+)}", path))]
    if set(in_path) != set(re.findall(r"{(\w+)}", path)):
        raise ValueError(f"{path} does not name its parameters")
    if kinds:
        arguments.append("body: Any" if kinds == ["application/json"] else "body: bytes")
    named = [
        f"{_snake(one['name'])}: str" + ("" if one.get("required") else ' = ""') for one in (*query, *headers)
    ]
    arguments += ["*", *sorted(named, key=lambda one: "=" in one)] if named else []
    place = re.sub(r"{(\w+)}", lambda found: f"{{self.part({_snake(found[1])})}}", path.removeprefix(BEFORE))
    call = [f'"{method.upper()}"', f'f"{place}"' if in_path else f'"{place}"']
    if query:
        call.append("query={" + ", ".join(f'"{one["name"]}": {_snake(one["name"])}' for one in query) + "}")
    if headers:
        call.append(
            "headers={" + ", ".join(f'"{one["name"]}": {_snake(one["name"])}' for one in headers) + "}"
        )
    if kinds:
        call.append("body=body")
    if _answers(operation) - {"application/json"}:
        call.append("raw=True")
    yield f"    def {_snake(name)}({', '.join(arguments)}) -> Any:"
    said = " ".join(str(operation.get("description", name)).split())
    yield f'        """{said}{_shapes(operation)}"""'
    yield f"        return self.ask({', '.join(call)})"


def _answers(operation: Mapping[str, Any]) -> set[str]:
    """The media types of what it answers when it is done."""
    return {
        kind for code, one in operation["responses"].items() if code < "3" for kind in one.get("content", {})
    }


def _shapes(operation: Mapping[str, Any]) -> str:
    """The names that the contract has for what is sent and what comes back."""
    told = []
    for word, content in (
        ("Sent", operation.get("requestBody", {}).get("content", {})),
        (
            "Answer",
            next(
                (
                    one.get("content", {})
                    for code, one in sorted(operation["responses"].items())
                    if code < "3"
                ),
                {},
            ),
        ),
    ):
        schema = content.get("application/json", {}).get("schema", {})
        name = (schema.get("items", schema).get("$ref") or "").rsplit("/", 1)[-1]
        if name:
            told.append(f" {word}: {'list of ' if 'items' in schema else ''}{name}.")
    return "".join(told)


if __name__ == "__main__":
    TARGET.write_text(made(), encoding="utf-8")
