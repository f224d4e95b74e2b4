"""Whether real machines can run here, and what they need before they do."""

from __future__ import annotations

import importlib
import os
import shutil
import subprocess
from pathlib import Path

from maestoso.real_lab import guest_image

FOLDER = Path(__file__).parents[3] / "var" / "guests"
"""Where the kernel of the guests is kept."""
USER = "libvirt-qemu"
"""libvirt looks for this user and group before it reads its settings; Debian's package for the daemon,
which is not needed here, would make them."""
PROGRAMS = ("ip", "nsenter", "qemu-img", "qemu-nbd", "qemu-system-x86_64", "mke2fs", "cpio", "dnsmasq", "nft")


def why_not() -> str:
    """Why no real machine can run here, as a sentence; empty where they can."""
    if os.geteuid() != 0:
        return "Real machines need root, for their network namespaces."
    missing = [name for name in PROGRAMS if shutil.which(name) is None]
    if missing:
        return (
            f"Programs are missing: {', '.join(missing)}. ./maestoso test installs them where root runs it."
        )
    try:
        importlib.import_module("maestoso.agents.libvirt.bindings")
    except ImportError as error:
        return str(error)
    return ""


def prepare(folder: Path) -> Path:
    """Have the guests' kernel in a folder, and the user that libvirt looks for; returns the folder."""
    made = [
        ["groupadd", "--system", USER],
        ["useradd", "--system", "--no-create-home", "--shell", "/usr/sbin/nologin", "--gid", USER, USER],
    ]
    if subprocess.run(["getent", "passwd", USER], capture_output=True, check=False).returncode:
        for command in made:
            subprocess.run(command, capture_output=True, check=False)
    guest_image.fetch(folder)
    guest_image.build(folder)
    return folder


if __name__ == "__main__":
    prepare(FOLDER)
