"""Building the front end with the Node that the virtual environment carries."""

from __future__ import annotations

import hashlib
import os
import sys
from pathlib import Path

from maestoso.cli.stages import ROOT, run, stage

WEB = ROOT / "web"
SOURCES = ("src", "public", "index.html", "package-lock.json", "vite.config.ts", "tsconfig.json")
HELP = ROOT / "docs"
"""What users read is a part of it: the documents are its help."""


def environment() -> dict[str, str]:
    """The present environment with the virtual environment's Node first on the path."""
    return {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}"}


def npm(log: Path, *arguments: str) -> None:
    """Run npm in ``web/``."""
    run([str(Path(sys.executable).parent / "npm"), *arguments], log, cwd=WEB, env=environment())


def packages(log: Path, *, tests: bool) -> None:
    """Install what the build needs, or what ``tests`` need too, unless it is there."""
    lock = hashlib.sha256((WEB / "package-lock.json").read_bytes()).hexdigest()
    stamp = WEB / "node_modules" / "lock.sha256"
    there = stamp.read_text() if stamp.is_file() else ""
    if there == f"{lock} with tests" or (there == lock and not tests):
        return
    with stage("Front-end packages for tests" if tests else "Front-end packages"):
        npm(log, "ci", "--no-audit", "--no-fund", *([] if tests else ["--omit=dev"]))
        stamp.write_text(f"{lock} with tests" if tests else lock)


def is_built() -> bool:
    """Whether ``web/dist`` is of these sources."""
    stamp = WEB / "dist" / "built.sha256"
    return stamp.is_file() and stamp.read_text() == _fingerprint()


def build(log: Path) -> None:
    """Build ``web/dist`` unless it is of these sources."""
    if is_built():
        return
    packages(log, tests=False)
    with stage("Front end"):
        npm(log, "run", "build")
        run([sys.executable, "-m", "whitenoise.compress", "--quiet", str(WEB / "dist")], log)
        (WEB / "dist" / "built.sha256").write_text(_fingerprint())


def main() -> None:
    """Install what tests need, and build."""
    log = ROOT / "var" / "log" / "test.log"
    packages(log, tests=True)
    build(log)


def _fingerprint() -> str:
    digest = hashlib.sha256()
    for name in SOURCES:
        top = WEB / name
        files = sorted(top.rglob("*")) if top.is_dir() else [top]
        for file in (one for one in files if one.is_file()):
            digest.update(str(file.relative_to(WEB)).encode() + b"\0" + file.read_bytes())
    for file in sorted(HELP.glob("*.md")):
        digest.update(file.name.encode() + b"\0" + file.read_bytes())
    return digest.hexdigest()


if __name__ == "__main__":
    main()
