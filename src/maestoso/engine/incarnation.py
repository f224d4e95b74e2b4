"""Which process it is that holds a lease: a name outlives its process, a lease must not.

An owner is written ``NAME/HOST:PID:START``: HOST tells one start of one machine (and one space of process
numbers) from every other, START is when the process began, in clock ticks since then. With that, a process on
the same machine is *known* to be gone; of one elsewhere nothing is known, and its lease is waited for.
"""

from __future__ import annotations

import hashlib
import os
from pathlib import Path

PROC = Path("/proc")
DEAD = ("Z", "X")


def incarnation(name: str) -> str:
    """This process under ``name``, as it stands in leases."""
    pid = os.getpid()
    return f"{name}/{_host()}:{pid}:{_started(pid)}"


def known_gone(owner: str, by: str) -> bool:
    """Whether ``owner`` is an earlier incarnation of the engine ``by``, and is known to have ended."""
    name, _, process = owner.rpartition("/")
    own_name, _, own = by.rpartition("/")
    parts = process.split(":")
    if not name or name != own_name or process == own or len(parts) != 3:
        return False
    host, pid, started = parts
    return host == _host() and pid.isdigit() and _started(int(pid)) != started


def _host() -> str:
    try:
        boot = (PROC / "sys/kernel/random/boot_id").read_text().strip()
        numbers = os.readlink(PROC / "self/ns/pid")
    except OSError:
        # Nothing can be known here, so nobody is known to be gone.
        return f"unknown{os.getpid()}"
    return hashlib.sha256(f"{boot} {numbers}".encode()).hexdigest()[:12]


def _started(pid: int) -> str:
    """When a process began (proc(5), ``starttime``); empty where it is gone, or dead and not yet buried."""
    try:
        fields = (PROC / str(pid) / "stat").read_text().rpartition(")")[2].split()
    except OSError:
        return ""
    return "" if fields[0] in DEAD else fields[19]
