"""Bodies in JSON, read once and strictly: what two programs could read differently is refused in words."""

from __future__ import annotations

import json
from typing import IO, Any

from rest_framework.exceptions import APIException, ParseError
from rest_framework.parsers import BaseParser

from maestoso.core.errors import BadValue
from maestoso.core.files import TURNS_ROUND

LARGEST_JSON = 4 * 2**20
LONGEST_NUMBER = 40


class TooLarge(APIException):
    """The body is larger than what is read at this address."""

    status_code = 413
    default_code = "too-large"

    def __init__(self, most_bytes: int) -> None:
        super().__init__(f"The request is larger than {most_bytes // 2**20} MiB. Send less at once.")


class StrictJson(BaseParser):
    """One JSON text in UTF-8 (RFC 8259).

    No key twice, no endless numbers, no NaN, nothing that turns texts round.
    """

    media_type = "application/json"

    def parse(self, stream: IO[bytes], media_type: str | None = None, parser_context: Any = None) -> Any:
        """The value. Raises TooLarge, BadValue, ParseError."""
        raw = stream.read(LARGEST_JSON + 1)
        if len(raw) > LARGEST_JSON:
            raise TooLarge(LARGEST_JSON)
        try:
            value = json.loads(
                raw, object_pairs_hook=_pairs, parse_int=_whole, parse_float=_real, parse_constant=_constant
            )
        except (ValueError, RecursionError) as error:
            raise ParseError(str(error)) from error
        check_texts(value, "body")
        return value


def _pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for key, value in pairs:
        if key in found:
            raise BadValue(
                f"The key {key[:40]!r} stands twice in one object.", "Send it once.", field=key[:80]
            )
        found[key] = value
    return found


def _whole(text: str) -> int:
    if len(text) > LONGEST_NUMBER:
        raise BadValue(f"A number has {len(text)} digits.", f"Send at most {LONGEST_NUMBER}.")
    return int(text)


def _real(text: str) -> float:
    if len(text) > 10 * LONGEST_NUMBER:
        raise BadValue(f"A number has {len(text)} digits.", f"Send at most {10 * LONGEST_NUMBER}.")
    return float(text)


def _constant(text: str) -> float:
    raise ValueError(f"{text} is no number of JSON")


def check_texts(value: Any, at: str) -> None:
    """Raises BadValue for a text that would be shown in another order than it is written."""
    if isinstance(value, str):
        if found := TURNS_ROUND.search(value):
            raise BadValue(
                f"{at} holds U+{ord(found[0]):04X}, which turns round what stands beside it.",
                "Remove that character; it cannot be seen, but what is read would not be what is written.",
                field=at,
            )
    elif isinstance(value, dict):
        for key, item in value.items():
            check_texts(key, at)
            check_texts(item, f"{at}.{key[:80]}")
    elif isinstance(value, list):
        for index, item in enumerate(value):
            check_texts(item, f"{at}[{index}]")
