"""Files that people bring in: what is refused at the door, and how what is wrong inside is said."""

from __future__ import annotations

import re
from dataclasses import dataclass

from maestoso.core.errors import BadValue

LARGEST_FILE = 64 * 2**20
LARGEST_CELL = 100_000
MOST_ROWS = 100_000


TURNS_ROUND = re.compile("[\u202a-\u202e\u2066-\u2069]")
"""Embeddings, overrides and isolates of the bidirectional algorithm (UAX 9): with them a text reads otherwise
than it is written, and names or scripts pretend to be others. Marks (U+200E, U+200F) belong to ordinary
texts."""


class BadFile(BadValue):
    """The file as a whole cannot be read. Remedy: give one that can."""

    code = "bad-file"


@dataclass(frozen=True, slots=True, kw_only=True)
class Complaint:
    """What is wrong with one row (a line of CSV, the number of an item in JSON or OVF, from 1)."""

    row: int
    column: str
    sentence: str


def text_of(raw: bytes) -> str:
    """The text of a file. Raises BadFile where it is not UTF-8, or not text."""
    if len(raw) > LARGEST_FILE:
        raise BadFile(
            f"The file has {len(raw) // 2**20} MiB.", f"Import at most {LARGEST_FILE // 2**20} MiB at once."
        )
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        raise BadFile("The file is written in UTF-16.", "Save it as UTF-8 and try again.")
    if raw[:4] == b"PK\x03\x04" or raw[:2] == b"\x1f\x8b":
        raise BadFile("The file is packed.", "Unpack it first, then import what was inside.")
    if b"\x00" in raw:
        raise BadFile("The file is not text: it holds zero bytes.", "Give a CSV, JSON, OVF or OVA file.")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw[: error.start].count(b"\n") + 1
        raise BadFile(
            f"The file is not UTF-8: line {line} holds a byte that does not belong there.",
            "Save it as UTF-8 and try again.",
        ) from error
    if found := TURNS_ROUND.search(text):
        line = text[: found.start()].count("\n") + 1
        raise BadFile(
            f"Line {line} holds U+{ord(found[0]):04X}, which turns round what stands beside it.",
            "Remove that character: what is read would not be what is written.",
        )
    return text
