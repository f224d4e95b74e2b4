"""What the schema generator cannot see: problem details everywhere, and the event streams."""

from __future__ import annotations

from typing import Any

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


def complete(result: dict[str, Any], generator: Any, request: Any, public: bool) -> dict[str, Any]:
    """drf-spectacular's hook: adds them."""
    result["components"]["schemas"] |= {"Problem": PROBLEM, "StreamMessage": STREAM_MESSAGE}
    result["paths"]["/api/v1/runs/{id}/stream"] = STREAM
    problem = {
        "content": {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}},
        "description": "It could not be done, and why.",
    }
    for methods in result["paths"].values():
        for operation in methods.values():
            operation["responses"]["default"] = problem
    return result
