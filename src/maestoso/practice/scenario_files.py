"""The files of a scenario as they are: reading them takes no numeric library."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import yaml

from maestoso.core.errors import NotFound


def read_file(folder: Path, name: str) -> Any:
    """The content of ``name``.json or ``name``.yaml; an empty object where there is none."""
    for suffix, parse in ((".json", json.loads), (".yaml", yaml.safe_load)):
        file = folder / f"{name}{suffix}"
        if file.is_file():
            return parse(file.read_text(encoding="utf-8"))
    return {}


def site_codes(folder: Path) -> tuple[str, ...]:
    """Codes of all sites of a scenario, in order. Raises NotFound where there is no scenario."""
    sites = read_file(folder, "sites")
    if not sites:
        raise NotFound(f"{folder} holds no scenario: sites.yaml is missing.")
    return tuple(sites["sites"])
