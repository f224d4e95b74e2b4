"""Makes the two lock files anew: ``python -m tests.make_locks``. Needs ``uv`` and the network.

``requirements.lock`` is what the application needs, ``requirements-test.lock`` what tests and benches need on top of
it. Both are good for every Python that the launcher accepts: what only some of them need carries a marker.
"""

from __future__ import annotations

import re
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
APPLICATION, TESTS = ROOT / "requirements.lock", ROOT / "requirements-test.lock"
COMPILE = (
    "uv", "pip", "compile", "--quiet", "--universal", "--python-version", "3.11.0", "--generate-hashes", "--no-header",
    "--no-emit-index-url", "--no-annotate", "pyproject.toml",
)  # fmt: skip


def blocks(text: str) -> dict[str, str]:
    """The pins of a lock file with their hashes and markers, by ``name==version``."""
    found = re.findall(r"^\w.*?(?=^\w|\Z)", text, re.M | re.S)
    return {block.split(maxsplit=1)[0]: block for block in found}


def main() -> None:
    """Compile the larger set with the smaller as a constraint, and keep what is on top."""
    upgrade = sys.argv[1:]
    subprocess.run([*COMPILE, "--output-file", str(APPLICATION), *upgrade], cwd=ROOT, check=True)
    with tempfile.NamedTemporaryFile(suffix=".lock") as whole:
        command = [*COMPILE, "--extra", "dev", "--constraint", str(APPLICATION), "--output-file", whole.name]
        subprocess.run([*command, *upgrade], cwd=ROOT, check=True)
        everything = blocks(Path(whole.name).read_text(encoding="utf-8"))
    base = blocks(APPLICATION.read_text(encoding="utf-8"))
    TESTS.write_text("".join(block for pin, block in everything.items() if pin not in base), encoding="utf-8")


if __name__ == "__main__":
    main()
