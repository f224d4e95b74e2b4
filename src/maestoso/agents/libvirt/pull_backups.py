"""Points of running machines: pull-mode backups of libvirt, each with a checkpoint of the point's name, so
that the next point knows what changed."""

from __future__ import annotations

import logging
from contextlib import suppress
from pathlib import Path
from typing import Any
from xml.etree import ElementTree
from xml.etree.ElementTree import Element, SubElement

from . import chains, images
from .bindings import libvirt
from .definition import MachineDisk, opened_with
from .hypervisor import Hypervisor

MARK = "maestoso-"
"""What points, checkpoints and bitmaps begin with; the time follows, so that names sort by it."""
log = logging.getLogger("site-agent")


class PullBackups:
    """Those of one host. What machines overwrite while they are read is kept in ``folder`` meanwhile."""

    def __init__(self, hypervisor: Hypervisor, folder: Path) -> None:
        self.hypervisor = hypervisor
        self.folder = folder

    def checkpoint(self, domain: Any, since: str) -> str:
        """The newest checkpoint that is not after ``since``, whose bitmap tells all that changed; or none."""
        names = sorted(one.getName() for one in domain.listAllCheckpoints() if one.getName().startswith(MARK))
        return next((name for name in reversed(names) if since and name <= since), "")

    def begin(
        self, domain: Any, name: str, found: list[MachineDisk], *, point: str, since: str, socket: Path
    ) -> str:
        """Begin one, to be read at a socket: what changed since a checkpoint, or all where there is none.

        Returns since which it is: after a machine was killed, its bitmaps cannot be relied on. Raises
        libvirtError.
        """
        checkpoint = _checkpoint_of(point, found)
        for attempt in dict.fromkeys((since, "")):
            try:
                # libvirt would make scratch files that are encrypted anew, for seconds each, while all stand
                # still.
                reuse = libvirt.VIR_DOMAIN_BACKUP_BEGIN_REUSE_EXTERNAL if self.scratch(name, found) else 0
                domain.backupBegin(self._backup(socket, name, found, attempt), checkpoint, reuse)
            except libvirt.libvirtError as error:
                if not attempt:
                    raise
                log.warning("what changed in %s since %s is not known: %s", name, attempt, words(error))
                self._forget_checkpoints(domain)
                continue
            return attempt
        raise AssertionError("the last attempt returns or raises")

    def _backup(self, socket: Path, name: str, found: list[MachineDisk], since: str) -> str:
        backup = Element("domainbackup", mode="pull")
        if since:
            SubElement(backup, "incremental").text = since
        SubElement(backup, "server", transport="unix", socket=str(socket))
        listed = SubElement(backup, "disks")
        for disk in found:
            more: dict[str, Any] = {"exportbitmap": f"changed-{disk.name}"} if since else {}
            one = SubElement(
                listed, "disk", name=disk.name, backup="yes", type="file", exportname=disk.name, **more
            )
            SubElement(one, "driver", type="qcow2")
            scratch = SubElement(one, "scratch", file=str(self._scratch_of(name, disk)))
            key = chains.layers(disk.file, disk.format)[0].key
            if key is not None:
                scratch.append(opened_with(key))
        return _text(backup)

    def _scratch_of(self, name: str, disk: MachineDisk) -> Path:
        """Where what a machine overwrites while a point of it is read is kept meanwhile."""
        return self.folder / f"{name}.{disk.name}"

    def scratch(self, name: str, found: list[MachineDisk]) -> bool:
        """Make those files where any is to be encrypted; whether they are made. The first takes seconds."""
        keys = [chains.layers(disk.file, disk.format)[0].key for disk in found]
        if any(keys):
            for disk, key in zip(found, keys, strict=True):
                size = images.size_of(disk.file, disk.format)
                images.create(self._scratch_of(name, disk), size=size, key=key)
        return any(keys)

    def delete_checkpoints(self, name: str, point: str, *, received: bool) -> None:
        """Those that the other site, which has a point now or did not get it, has no use for. Raises
        libvirtError."""
        domain = self.hypervisor.find(name)
        for checkpoint in [] if domain is None else domain.listAllCheckpoints():
            called = checkpoint.getName()
            # One that was not received is of no use; the one before it goes on.
            if called.startswith(MARK) and (called < point if received else called == point):
                _delete(checkpoint)

    def end(self, name: str) -> None:
        """End the backup of a machine, if there is one."""
        with suppress(libvirt.libvirtError):  # it has none
            domain = self.hypervisor.find(name)
            if domain is not None and domain.isActive() and domain.backupGetXMLDesc():
                domain.abortJob()

    def _forget_checkpoints(self, domain: Any) -> None:
        for checkpoint in sorted(domain.listAllCheckpoints(), key=lambda one: one.getName(), reverse=True):
            if checkpoint.getName().startswith(MARK):
                _delete(checkpoint)


def _checkpoint_of(name: str, found: list[MachineDisk]) -> str | None:
    """A checkpoint (XML) of a machine. Only qcow2 holds bitmaps; one with a raw disk has none, and its
    blocks are compared."""
    if any(disk.format != "qcow2" for disk in found):
        return None
    checkpoint = Element("domaincheckpoint")
    SubElement(checkpoint, "name").text = name
    marks = SubElement(checkpoint, "disks")
    for disk in found:
        SubElement(marks, "disk", name=disk.name, checkpoint="bitmap")
    return _text(checkpoint)


def _delete(checkpoint: Any) -> None:
    try:
        checkpoint.delete()
    except libvirt.libvirtError:
        # Its bitmap is gone, or cannot be reached without power: what libvirt knows of it goes at least.
        with suppress(libvirt.libvirtError):
            checkpoint.delete(libvirt.VIR_DOMAIN_CHECKPOINT_DELETE_METADATA_ONLY)


def _text(element: Element) -> str:
    return ElementTree.tostring(element, encoding="unicode")


def words(error: BaseException) -> str:
    """What an error says, as a sentence."""
    said = error.get_error_message() if isinstance(error, libvirt.libvirtError) else str(error)
    return said if said.endswith(".") else f"{said}."
