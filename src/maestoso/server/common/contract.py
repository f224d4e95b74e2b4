"""What the schema generator cannot see: problem details everywhere, and the event streams."""

from __future__ import annotations

from typing import Any

from drf_spectacular.extensions import OpenApiAuthenticationExtension

PROBLEM = {
    "type": "object",
    "description": "RFC 9457 problem details.",
    "properties": {
        "type": {"type": "string"},
        "title": {"type": "string"},
        "status": {"type": "integer"},
        "code": {"type": "string", "description": "Stable; made for programs."},
        "detail": {"type": "string", "description": "A sentence; made for people."},
        "remedy": {"type": "string"},
        "field": {"type": "string", "description": "Path of the value that does not fit."},
        "current": {"type": "integer", "description": "On 412: the newest version."},
        "changes": {"type": "array", "items": {"type": "string"}, "description": "On 412: what it changed."},
        "merged": {
            "$ref": "#/components/schemas/Plan",
            "description": "On 412: your draft on top of the newest version.",
        },
        "findings": {"type": "array", "items": {"$ref": "#/components/schemas/Finding"}},
    },
    "required": ["type", "title", "status", "code", "detail"],
}

STREAM_MESSAGE = {
    "type": "object",
    "description": "``events`` since the last message, how the run stands, and the steps that changed.",
    "properties": {
        "status": {"$ref": "#/components/schemas/RunStatus"},
        "events": {"type": "array", "items": {"$ref": "#/components/schemas/EventView"}},
        "steps": {"type": "array", "items": {"$ref": "#/components/schemas/ScoreStep"}},
    },
    "required": ["status", "events", "steps"],
}

STREAM = {
    "get": {
        "operationId": "runStream",
        "description": "Server-sent events of a run. Each ``data`` is a StreamMessage, each ``id`` the "
        "number of the last event in it; the first message holds all steps. Last-Event-ID misses nothing.",
        "parameters": [
            {"in": "path", "name": "id", "schema": {"type": "integer"}, "required": True},
            {"in": "header", "name": "Last-Event-ID", "schema": {"type": "string"}},
        ],
        "tags": ["runs"],
        "responses": {
            "200": {
                "content": {"text/event-stream": {"schema": {"$ref": "#/components/schemas/StreamMessage"}}},
                "description": "",
            }
        },
    }
}

EVERYWHERE = {
    "get": {
        "operationId": "stream",
        "description": "Server-sent events for a whole browser: ``line`` with the site line when it changed, "
        "``changed`` with the topics whose records did, and ``beat`` while there is nothing to say.",
        "tags": ["stream"],
        "responses": {"200": {"content": {"text/event-stream": {}}, "description": ""}},
    }
}


def complete(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """drf-spectacular's hook: adds them."""
    result["components"]["schemas"] |= {"Problem": PROBLEM, "StreamMessage": STREAM_MESSAGE}
    result["paths"] |= {"/api/v1/runs/{id}/stream": STREAM, "/api/v1/stream": EVERYWHERE}
    for path, methods in result["paths"].items():
        for method, operation in methods.items():
            for status in _refusals(path, method, operation):
                operation["responses"][str(status)] = {"$ref": f"#/components/responses/Refused{status}"}
    problem = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}
    result["components"]["responses"] = {
        f"Refused{status}": {"content": problem, "description": said} for status, said in REFUSALS.items()
    }
    return result


REFUSALS = {
    400: "A value does not fit; ``field`` says which.",
    403: "Nobody is signed in, or who is may not.",
    404: "There is nothing of that name.",
    409: "The state of things forbids it.",
    410: "It was there, and was deleted on purpose.",
    412: "Somebody saved in between.",
    413: "The body is too large.",
    415: "The body is of another media type than is read here.",
    422: "It cannot be done, and why.",
    429: "Too many tries; ``Retry-After`` says when to come back.",
    503: "The database does not answer now.",
}
"""By status; whatever is not among those of an operation is a fault of ours."""


MORE = {"logo": (404,), "takeover": (404,)}
"""What single operations answer beside what their kind does."""


def _refusals(path: str, method: str, operation: dict[str, Any]) -> list[int]:
    """Which of them an operation can answer with."""
    found = [403, 503, *MORE.get(operation["operationId"], ())]
    changes = method != "get"
    if "{" in path:
        found += [404, 410]
    if "{" in path or operation.get("parameters") or "requestBody" in operation:
        found.append(400)
    if changes:
        found += [400, 404, 409, 412, 422]
    if "requestBody" in operation:
        found += [413, 415]
    if path.endswith("/session") and method == "post":
        found.append(429)
    if not changes and "{" in path:
        found += [409, 422]
    return sorted(set(found))


class Bearer(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]  # as it is written
    """How the contract names the tokens of programs."""

    target_class = "maestoso.server.access.tokens.BearerTokens"
    name = "bearer"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        """A token in the header Authorization."""
        return {"type": "http", "scheme": "bearer"}
