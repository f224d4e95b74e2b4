"""``./maestoso verify``: whether the evidence of a run is as it was sealed, without any database."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from maestoso.core.errors import DomainError
from maestoso.core.evidence.evidence_file import verify


def verify_file(file: Path, keys: str | None) -> int:
    """Say what came of checking; the exit status is 0 only where everything holds."""
    try:
        found = verify(file.read_text(encoding="utf-8"), _trusted(keys))
    except (OSError, UnicodeDecodeError) as error:
        print(f"{file} cannot be read: {error}")
        return 2
    except DomainError as error:
        print(f"{error.sentence} {error.remedy}")
        return 2
    print(f"{'✓' if found.holds else '✕'} {found.sentence}")
    if found.seal is not None:
        seal = found.seal
        print(f"  Run {seal.number} of {seal.plan_name}, version {seal.plan_version}.")
        print(f"  {seal.kind.capitalize()}: {seal.outcome}.")
        print(f"  Started by {seal.started_by} at {seal.started_at}, ended at {seal.ended_at}.")
    if found.key:
        told = {
            True: ", which is one of those you trust",
            False: ", which is none of those you trust",
            None: ": compare it with the fingerprint that somebody you trust tells you",
        }
        print(f"  Sealed with the key {found.key}{told[found.trusted]}.")
    return 0 if found.holds else 1


def _trusted(keys: str | None) -> dict[str, dict[str, Any]] | None:
    if keys is None:
        return None
    try:
        listed = json.loads(Path(keys).read_text(encoding="utf-8"))["keys"]
        return {str(key["kid"]): key for key in listed}
    except (ValueError, KeyError, TypeError) as error:
        raise DomainError(
            f"{keys} is no JWK set with a kid for each key.", "Give the keys.json of an export."
        ) from error
