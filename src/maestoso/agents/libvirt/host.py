"""What all parts of the platform use: the host, what is kept of groups, files that something lies over."""

from __future__ import annotations

import json
import threading
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from maestoso.agent_kit.platform import Failure, Platform

from . import chains, definition, encryption
from .between import Other
from .copies import Copies
from .hypervisor import Hypervisor, NoMachine
from .networks import Isolation, NetworkFault, short
from .settings import Settings
from .source import Source

AT_ONCE = 8
"""Copies that come and guests that are spoken to without anybody waiting for it, at the same time."""


class Host(Platform):
    """The host of the site."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.site = settings.site
        settings.folder.mkdir(parents=True, exist_ok=True)
        self.hypervisor = Hypervisor(settings.uri)
        self.source = Source(self.hypervisor, settings.folder)
        self.copies = Copies(settings.folder / "copies")
        for key in self.hypervisor.kept_keys():
            encryption.hold(key)
        self.clones = settings.folder / "clones"
        self.isolation = Isolation(settings.site)
        self.others = {code: Other(site) for code, site in settings.sites.items()}
        self._group_turns: dict[str, threading.RLock] = defaultdict(threading.RLock)
        self._work = ThreadPoolExecutor(AT_ONCE, "work")

    def _described(self, name: str) -> ElementTree.Element:
        try:
            return self.hypervisor.xml(name)
        except NoMachine as error:
            raise Failure("no-such-copy", f"There is no machine {name} here.") from error

    def _group(self, code: str) -> dict[str, Any] | None:
        told: dict[str, Any] | None = self.store.note(f"group:{code}")
        return told

    def _needed(self, code: str) -> dict[str, Any]:
        told = self._group(code)
        if told is None:
            raise Failure("no-such-group", f"No copies of group {code!r} are held here.")
        return told

    def _host(self, work: Callable[[], Any]) -> Any:
        try:
            return work()
        except NetworkFault as error:
            raise Failure("host-refused", str(error)) from error

    def _clone_folders(self) -> list[Path]:
        return sorted(one for one in self.clones.glob("[!.]*") if (one / "clone.json").is_file())

    def _marked(self, name: str, mark: str) -> bool:
        kept = self.hypervisor.kept(name)
        return kept.get("mark") == mark and not kept.get("own", True)

    def _live_files(self, group: str) -> list[Path]:
        return sorted(self.copies.of(group).live.glob("*.qcow2"))

    def _machine_files(self, but: str) -> set[Path]:
        """Files of machines and of copies of tests, and what they lie over; ``but``: a note with a machine
        that says that nobody wants its files."""
        found: set[Path] = set()
        for name in self.hypervisor.names():
            if not self.hypervisor.kept(name).get(but):
                for disk in definition.disks(self.hypervisor.xml(name)):
                    found.update(chains.chain(disk.file, disk.format) if disk.file.is_file() else ())
        for folder in self._clone_folders():
            found.update(*(chains.chain(file) for file in folder.glob("*.qcow2")))
        return found

    def _in_use(self) -> set[Path]:
        """Files that something lies over or is, copies that are written to among them. A machine that was
        given up and copied back has none: what it had lies under the new points."""
        found = self._machine_files("copied_back")
        for code, told in self.store.notes("group:").items():
            if told["promoted"] is not None:
                found.update(*(chains.chain(file) for file in self._live_files(code)))
        return found


def clone_at(folder: Path) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((folder / "clone.json").read_text("utf-8"))
    return found


def device_of(machine: str, number: int) -> str:
    """The name of an adapter's device in the host."""
    return f"mt{short(machine)}{number}"
