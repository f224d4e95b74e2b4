"""Writing what the agent keeps in files of its own."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any


def write(file: Path, value: Any) -> None:
    """JSON in one step: whoever reads has the old text or the new one."""
    file.parent.mkdir(parents=True, exist_ok=True)
    fresh = file.with_name(f".{file.name}")
    with fresh.open("w", encoding="utf-8") as text:
        json.dump(value, text)
        text.flush()
        os.fsync(text.fileno())
    fresh.replace(file)
