"""Writes down how long each module of tests took in the last run, so that the long ones begin first.

``python -m tests.measured``, after a whole ``./maestoso test``, and after a change that moves much time.
"""

from __future__ import annotations

import json

from maestoso.cli.testing import MEASURED, TIMES


def main() -> None:
    """From the times of the last run to ``tests/measured.json``: seconds by module."""
    took: dict[str, float] = {}
    for line in map(json.loads, TIMES.read_text(encoding="utf-8").splitlines()):
        module = line["class"].rpartition(".")[0]
        took[module] = took.get(module, 0.0) + line["took_s"] + line["set_up_s"]
    rounded = {module: round(value, 1) for module, value in sorted(took.items())}
    MEASURED.write_text(json.dumps(rounded, indent=1) + "\n", encoding="utf-8")


if __name__ == "__main__":
    main()
