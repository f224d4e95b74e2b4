"""Building the front end with the Node that the virtual environment carries."""

from __future__ import annotations

import hashlib
import os
import sys
from pathlib import Path

from maestoso.cli.stages import run, stage
from maestoso.server.config.options import ROOT

WEB = ROOT / "web"
SOURCES = ("src", "public", "index.html", "package-lock.json", "vite.config.ts", "tsconfig.json")


def environment() -> dict[str, str]:
    """The present environment with the virtual environment's Node first on the path."""
    return {**os.environ, "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}"}


def npm(log: Path, *arguments: str) -> None:
    """Run npm in ``web/``."""
    run([str(Path(sys.executable).parent / "npm"), *arguments], log, cwd=WEB, env=environment())


def packages(log: Path) -> None:
    """Install the packages of the lock file unless they are there."""
    lock = hashlib.sha256((WEB / "package-lock.json").read_bytes()).hexdigest()
    stamp = WEB / "node_modules" / "lock.sha256"
    if not (stamp.is_file() and stamp.read_text() == lock):
        with stage("Front-end packages"):
            npm(log, "ci", "--no-audit", "--no-fund")
            stamp.write_text(lock)


def build(log: Path) -> None:
    """Build ``web/dist`` unless it is of these sources."""
    packages(log)
    wanted = _fingerprint()
    stamp = WEB / "dist" / "built.sha256"
    if not (stamp.is_file() and stamp.read_text() == wanted):
        with stage("Front end"):
            npm(log, "run", "build")
            stamp.write_text(wanted)


def _fingerprint() -> str:
    digest = hashlib.sha256()
    for name in SOURCES:
        top = WEB / name
        files = sorted(top.rglob("*")) if top.is_dir() else [top]
        for file in files:
            if file.is_file():
                digest.update(str(file.relative_to(WEB)).encode() + b"\0" + file.read_bytes())
    return digest.hexdigest()
