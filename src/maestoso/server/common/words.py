"""Finding words in columns whose collation tells small letters from capitals."""

from __future__ import annotations

from django.db.models import CharField, Q, TextField
from django.db.models.functions import Lower

LONGEST = 200

CharField.register_lookup(Lower)
TextField.register_lookup(Lower)


def holding(text: str, *columns: str) -> list[Q]:
    """For every word of ``text`` that one of the columns holds it, whatever its case."""
    return [_one(word, columns) for word in text[:LONGEST].lower().split()]


def _one(word: str, columns: tuple[str, ...]) -> Q:
    found = Q()
    for column in columns:
        found |= Q(**{f"{column}__lower__contains": word})
    return found
