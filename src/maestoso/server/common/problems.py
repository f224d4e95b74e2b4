"""Known errors to RFC 9457 problem details, in one place. The text of an unknown one never leaves."""

from __future__ import annotations

import logging
from typing import Any

from django.core.exceptions import PermissionDenied
from django.db import InterfaceError, OperationalError
from django.http import Http404
from rest_framework import exceptions
from rest_framework.response import Response

from maestoso.core.errors import DomainError
from maestoso.server.common.deadlocks import gave_way
from maestoso.server.common.logs import request_id

log = logging.getLogger("maestoso.server")
READ_ONLY = 1290
"""What MariaDB answers whoever would change a database that only follows."""


def problem(status: int, code: str, detail: str, **more: Any) -> Response:
    """A reply in the media type ``application/problem+json``."""
    body = {"type": "about:blank", "title": code, "status": status, "code": code, "detail": detail, **more}
    return Response(body, status=status, content_type="application/problem+json")


def handle(error: Exception, context: dict[str, Any]) -> Response:
    """Django REST framework's hook for everything that a view raises."""
    if isinstance(error, DomainError):
        more = {"remedy": error.remedy, "field": error.field, **error.more}
        reply = problem(error.status, error.code, error.sentence, **{k: v for k, v in more.items() if v})
        if "retry_after_s" in error.more:
            reply["Retry-After"] = str(error.more["retry_after_s"])
        return reply
    if isinstance(error, exceptions.NotAuthenticated | exceptions.AuthenticationFailed):
        return problem(403, "not-signed-in", "You are not signed in. Sign in and try again.")
    if isinstance(error, exceptions.PermissionDenied | PermissionDenied):
        return problem(403, "not-allowed", f"This is not allowed: {_text(error)}")
    if isinstance(error, exceptions.Throttled):
        wait = int(getattr(error, "wait", None) or 60)
        reply = problem(429, "too-many-tries", f"Too many tries. Wait {wait} s and try again.")
        reply["Retry-After"] = str(wait)
        return reply
    # The JSON reader of the standard library gives up on deep nesting with a RecursionError.
    if isinstance(error, exceptions.ParseError | RecursionError):
        return problem(400, "not-json", "The request is not JSON. Send one JSON object.")
    if isinstance(error, Http404 | exceptions.NotFound):
        return problem(404, "not-found", "There is nothing at this address.")
    if isinstance(error, exceptions.APIException):
        return problem(error.status_code, str(error.default_code).replace("_", "-"), str(error.detail))
    # The second is what the driver says of a connection that broke earlier.
    if isinstance(error, OperationalError | InterfaceError):
        if gave_way(error):
            log.info("Two changes met in the database: %s", error)
            reply = problem(
                503, "gave-way",
                "Somebody else changed the same at the same moment; nothing was changed here. Try again.",
            )  # fmt: skip
            reply["Retry-After"] = "1"
            return reply
        if error.args and error.args[0] == READ_ONLY:
            return problem(
                409, "standby", "This would have to be written down, and a standby writes nothing.",
                remedy="Do it at the primary; if that is lost, have this one take over.",
            )  # fmt: skip
        log.warning("The database is away: %s", error)
        return problem(503, "database-away", "The database does not answer now. Try again in a moment.")
    log.exception("Unexpected error", exc_info=error)
    return problem(
        500, "unexpected",
        f"Something went wrong here; nothing was changed. The log says what, under request {request_id()}.",
    )  # fmt: skip


def _text(error: Exception) -> str:
    return str(getattr(error, "detail", "")) or "your role does not include it."
