"""The kernel and the first memory disk of the lab's guests, and their data disks; from Debian packages
only."""

from __future__ import annotations

import gzip
import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Mapping
from ipaddress import ip_interface
from pathlib import Path

FILES = Path(__file__).with_name("guest")
PACKAGES = ("busybox-static", "qemu-guest-agent")
"""Beside the kernel; their files are used, they are not installed."""
NAME_SERVER = "dnsmasq"
"""Taken from this machine."""
KERNEL = "linux-image-cloud-amd64"
MODULES = (
    "drivers/virtio/virtio", "drivers/virtio/virtio_ring", "drivers/virtio/virtio_pci_legacy_dev",
    "drivers/virtio/virtio_pci_modern_dev", "drivers/virtio/virtio_pci", "drivers/block/virtio_blk",
    "drivers/char/virtio_console", "drivers/net/virtio_net", "drivers/net/net_failover", "net/core/failover",
)  # fmt: skip
PLACES = {
    "init": "init", "inittab": "etc/inittab", "udhcpc.sh": "usr/share/udhcpc/default.script",
    "fsfreeze-hook": "etc/qemu/fsfreeze-hook", "writer": "bin/writer", "put": "www/cgi-bin/put",
    "state": "www/cgi-bin/state",
}  # fmt: skip
FOLDERS = (
    "bin", "sbin", "usr/bin", "usr/sbin", "etc/network", "proc", "sys", "dev", "run", "tmp", "data",
    "lib/modules", "root", "var",
)  # fmt: skip
COMMAND_LINE = (
    "console=ttyS0 quiet panic=1 no_timer_check random.trust_cpu=on mitigations=off audit=0 apparmor=0"
    " cryptomgr.notests nokaslr ipv6.disable=1"
)


def fetch(folder: Path) -> None:
    """Download the packages into a folder and unpack them; what is there already stays."""
    if (folder / "unpacked").is_dir():
        return
    folder.mkdir(parents=True, exist_ok=True)
    told = _said("apt-cache", "depends", KERNEL)
    found = re.search(r"Depends: (linux-image-\S+)", told)
    if found is None:
        raise RuntimeError(f"The Debian package {KERNEL} is not known here: run apt-get update.")
    _said("apt-get", "download", found[1], *PACKAGES, cwd=folder)
    fresh = folder / "unpacking"
    shutil.rmtree(fresh, ignore_errors=True)
    for package in folder.glob("*.deb"):
        _said("dpkg-deb", "-x", str(package), str(fresh))
        package.unlink()
    fresh.rename(folder / "unpacked")


def build(folder: Path) -> None:
    """Make ``kernel`` and ``initrd`` of what ``fetch`` brought; what is there already stays."""
    if (folder / "kernel").is_file() and (folder / "initrd").is_file():
        return
    unpacked, root = folder / "unpacked", folder / "root"
    shutil.rmtree(root, ignore_errors=True)
    for place in FOLDERS:
        (root / place).mkdir(parents=True, exist_ok=True)
    (root / "var/run").symlink_to("/run")
    busybox = _one(unpacked, "**/bin/busybox")
    shutil.copy(busybox, root / "bin/busybox")
    for name in _said(str(busybox), "--list").split():
        if not (root / "bin" / name).exists():
            (root / "bin" / name).symlink_to("busybox")
    for program in (_one(unpacked, "**/qemu-ga"), Path(shutil.which(NAME_SERVER) or NAME_SERVER)):
        _with_libraries(program, root)
    kernel = _one(unpacked, "lib/modules/*/kernel")
    for module in MODULES:
        shutil.copy(kernel / f"{module}.ko", root / "lib/modules")
    for name, place in PLACES.items():
        (root / place).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(FILES / name, root / place)
        (root / place).chmod(0o755)
    (root / "sbin/init").symlink_to("/bin/busybox")
    # The guest agent shuts down by this name.
    (root / "sbin/shutdown").write_text("#!/bin/sh\nexec /bin/poweroff\n")
    (root / "sbin/shutdown").chmod(0o755)
    (root / "etc/passwd").write_text("root:x:0:0:root:/root:/bin/sh\n")
    (root / "etc/group").write_text("root:x:0:\n")
    names = sorted(str(path.relative_to(root)) for path in root.rglob("*"))
    packed = subprocess.run(
        ["cpio", "-o", "-H", "newc", "-R", "0:0", "--quiet"], cwd=root, input="\n".join(names).encode(),
        stdout=subprocess.PIPE, check=True,
    )  # fmt: skip
    (folder / "initrd").write_bytes(gzip.compress(packed.stdout, 1))
    shutil.copy(_one(unpacked, "boot/vmlinuz-*"), folder / "kernel")
    shutil.rmtree(root)


def data_disk(
    disk: Path, hostname: str, *, rc: str, address: str, gateway: str, dns: str = "",
    files: Mapping[str, str] | None = None, size_mib: int = 64,
) -> None:  # fmt: skip
    """The first disk of a guest (qcow2 with ext4): its name, its network, and ``rc``, which is run at every
    start.

    ``address`` is CIDR, or empty for DHCP.
    """
    with tempfile.TemporaryDirectory(dir=disk.parent) as scratch:
        tree = Path(scratch) / "tree"
        (tree / "network").mkdir(parents=True)
        (tree / "hostname").write_text(f"{hostname}\n")
        (tree / "rc").write_text(rc)
        (tree / "network" / "interfaces").write_text(interfaces(address, gateway))
        (tree / "resolv.conf").write_text(f"nameserver {dns}\n" if dns else "")
        for name, text in (files or {}).items():
            (tree / name).parent.mkdir(parents=True, exist_ok=True)
            (tree / name).write_text(text)
        raw = Path(scratch) / "raw"
        with raw.open("wb") as file:
            os.truncate(file.fileno(), size_mib << 20)
        _said("mke2fs", "-q", "-t", "ext4", "-d", str(tree), str(raw))
        _said("qemu-img", "convert", "-O", "qcow2", str(raw), str(disk))


def interfaces(address: str, gateway: str) -> str:
    """The file of ifupdown for one adapter."""
    if not address:
        return "auto eth0\niface eth0 inet dhcp\n"
    at = ip_interface(address)
    # Not in one line with the prefix: not every ifup can read that.
    return (
        f"auto eth0\niface eth0 inet static\n  address {at.ip}\n  netmask {at.netmask}\n  gateway {gateway}\n"
    )


def _with_libraries(program: Path, root: Path) -> None:
    """Into ``usr/sbin``, and what it is linked with where this machine has it."""
    shutil.copy(program, root / "usr/sbin")
    for library in re.findall(r"=> (/\S+)|^\s+(/lib\S+)", _said("ldd", str(program)), re.M):
        found = Path(library[0] or library[1])
        place = root / str(found).lstrip("/")
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(found.resolve(), place)


def _one(folder: Path, pattern: str) -> Path:
    found = sorted(folder.glob(pattern))
    if not found:
        raise RuntimeError(f"{pattern} is not in {folder}. Remove that folder; it is fetched again.")
    return found[0]


def _said(*command: str, cwd: Path | None = None) -> str:
    done = subprocess.run(command, cwd=cwd, capture_output=True, text=True, check=False)
    if done.returncode:
        raise RuntimeError(f"{command[0]} failed: {(done.stderr or done.stdout).strip()[-500:]}")
    return done.stdout
