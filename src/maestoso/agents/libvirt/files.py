"""What the agent keeps in files of its own: how they are named and written, and the moments in them."""

from __future__ import annotations

import json
import os
import re
from datetime import datetime
from pathlib import Path
from typing import Any

from maestoso.agent_kit.platform import Failure


def write(file: Path, value: Any) -> None:
    """JSON in one step: whoever reads has the old text or the new one."""
    file.parent.mkdir(parents=True, exist_ok=True)
    fresh = file.with_name(f".{file.name}")
    with fresh.open("w", encoding="utf-8") as text:
        json.dump(value, text)
        text.flush()
        os.fsync(text.fileno())
    fresh.replace(file)


def plain(name: str) -> str:
    """A name as that of a file. Raises Failure where it cannot be one, so that none leads out of its
    folder."""
    if not re.fullmatch(r"[\w.~@+-]{1,120}", name) or name.startswith("."):
        raise Failure(
            "bad-value", f"{name!r} cannot be the name of a file. Use letters, digits, dots and dashes."
        )
    return name


def seconds(moment: str) -> float:
    """A moment in seconds since 1970."""
    return datetime.fromisoformat(moment).timestamp()
