"""The connection to libvirt: machines by name, what the agent keeps with each of them, events, guest
agents."""

from __future__ import annotations

import base64
import json
import logging
import os
import signal
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import Any
from xml.etree import ElementTree
from xml.etree.ElementTree import Element, SubElement

from . import embedded
from .bindings import libvirt, libvirt_qemu
from .definition import KEPT, agent_comes, kept_element
from .encryption import Key

GUEST_PATIENCE_S = 30
FROZEN = "frozen state"
OF_COPIES = "Maestoso copies "
"""What the description of a secret begins with; the fingerprint of the key and the folder follow."""
log = logging.getLogger("site-agent")
_events = threading.Lock()
_events_run = False


class NoMachine(Exception):
    """There is no machine of that name."""


class GuestSilent(Exception):
    """The guest agent does not answer; the text is why."""


class Hypervisor:
    """One libvirt. Methods may be called from any thread."""

    def __init__(self, uri: str) -> None:
        self.uri = uri
        self.changed: list[Callable[[str], None]] = []
        """Told the name of a machine when anything about it changed, from the thread of events."""
        self.guest_came: list[Callable[[str], None]] = []
        """Told the name of a machine whose guest agent has connected."""
        # Where an embedded libvirt has everything; one of the host is at the usual places.
        self._root = Path(uri.split("root=", 1)[1]) if uri.startswith("qemu:///embed") else None
        self._turn = threading.Lock()
        self._guests: dict[str, threading.Lock] = defaultdict(threading.Lock)
        self._connection: Any = None
        self._key_connection: Any = None
        _run_events()
        _ = self.connection

    @property
    def connection(self) -> Any:
        """The connection, opened again where it was lost."""
        with self._turn:
            if self._connection is None or not self._connection.isAlive():
                if self._root is not None:
                    self._key_connection = embedded.begin(self._root)
                self._connection = libvirt.open(self.uri)
                self._listen(self._connection)
        if self._root is not None:
            embedded.know_this_thread(self._key_connection)
        return self._connection

    def _listen(self, connection: Any) -> None:
        def changed(_: Any, domain: Any, *rest: Any) -> None:
            self._tell(self.changed, domain)

        def guest(_: Any, domain: Any, state: int, *rest: Any) -> None:
            self._tell(self.changed, domain)
            if state == libvirt.VIR_CONNECT_DOMAIN_EVENT_AGENT_LIFECYCLE_STATE_CONNECTED:
                self._tell(self.guest_came, domain)

        for event in ("LIFECYCLE", "METADATA_CHANGE", "DEVICE_ADDED", "DEVICE_REMOVED"):
            number = getattr(libvirt, f"VIR_DOMAIN_EVENT_ID_{event}")
            connection.domainEventRegisterAny(None, number, changed, None)
        connection.domainEventRegisterAny(None, libvirt.VIR_DOMAIN_EVENT_ID_AGENT_LIFECYCLE, guest, None)

    def _tell(self, listeners: list[Callable[[str], None]], domain: Any) -> None:
        name = domain.name()
        for listener in list(listeners):
            try:
                listener(name)
            except Exception:
                log.exception("an event of %s could not be told", name)

    def memory_mib(self) -> int:
        """What the host has. What libvirt says of the node leaves memory out that was given to it later."""
        return int(self.connection.getMemoryStats(libvirt.VIR_NODE_MEMORY_STATS_ALL_CELLS)["total"]) >> 10

    # --- machines ---

    def names(self) -> list[str]:
        """All machines, running or not."""
        return sorted(domain.name() for domain in self.connection.listAllDomains())

    def find(self, name: str) -> Any | None:
        """The machine, or None."""
        try:
            return self.connection.lookupByName(name)
        except libvirt.libvirtError as error:
            if error.get_error_code() == libvirt.VIR_ERR_NO_DOMAIN:
                return None
            raise

    def machine(self, name: str) -> Any:
        """The machine. Raises NoMachine."""
        domain = self.find(name)
        if domain is None:
            raise NoMachine(name)
        return domain

    def running(self, name: str) -> bool:
        """Whether it has power."""
        domain = self.find(name)
        return domain is not None and bool(domain.isActive())

    def xml(self, name: str, *, passwords: bool = True) -> Element:
        """Its definition as it is kept; without ``passwords`` for whoever takes it elsewhere."""
        flags = libvirt.VIR_DOMAIN_XML_INACTIVE | (libvirt.VIR_DOMAIN_XML_SECURE if passwords else 0)
        return ElementTree.fromstring(self.machine(name).XMLDesc(flags))

    def agent_comes(self, name: str) -> bool:
        """Whether a machine was given power just now, and its guest agent is not there yet."""
        since_s = time.time() - float(self.kept(name).get("powered_at", 0))
        try:
            return self.running(name) and agent_comes(
                ElementTree.fromstring(self.machine(name).XMLDesc(0)), since_s
            )
        except (NoMachine, libvirt.libvirtError):
            return False

    def define(self, definition: Element) -> None:
        """Keep a definition; one of the same name and id is replaced."""
        self.connection.defineXML(ElementTree.tostring(definition, encoding="unicode"))

    def undefine(self, name: str) -> None:
        """No machine any more; its disks stay, and so do the bitmaps in them."""
        flags = libvirt.VIR_DOMAIN_UNDEFINE_CHECKPOINTS_METADATA | libvirt.VIR_DOMAIN_UNDEFINE_NVRAM
        domain = self.find(name)
        if domain is not None:
            domain.undefineFlags(flags | libvirt.VIR_DOMAIN_UNDEFINE_MANAGED_SAVE)

    def kill(self, name: str) -> bool:
        """SIGKILL to the QEMU of a machine, waited for; whether there was one."""
        if not self.running(name):  # what its file says is then another process by now
            return False
        run = Path("/run/libvirt") if self._root is None else self._root / "run"
        try:
            os.kill(int((run / "qemu" / f"{name}.pid").read_text()), signal.SIGKILL)
        except (FileNotFoundError, ProcessLookupError):
            return False
        while self.running(name):
            time.sleep(0.05)
        return True

    def cut_power(self, name: str) -> bool:
        """Take power away; whether it had any."""
        domain = self.find(name)
        had = domain is not None and bool(domain.isActive())
        while domain is not None and domain.isActive():
            try:
                domain.destroy()
            except libvirt.libvirtError as error:
                # It may end by itself meanwhile, or be just connecting; neither is a failure.
                if error.get_error_code() not in (
                    libvirt.VIR_ERR_OPERATION_INVALID, libvirt.VIR_ERR_OPERATION_TIMEOUT,
                    libvirt.VIR_ERR_SYSTEM_ERROR,
                ):  # fmt: skip
                    raise
                time.sleep(0.2)
        return had

    # --- what the agent keeps with a machine ---

    def kept(self, name: str) -> dict[str, Any]:
        """What the agent noted; empty for one that it did not make."""
        domain = self.find(name)
        if domain is None:
            return {}
        try:
            told = domain.metadata(
                libvirt.VIR_DOMAIN_METADATA_ELEMENT, KEPT, libvirt.VIR_DOMAIN_AFFECT_CONFIG
            )
        except libvirt.libvirtError as error:
            if error.get_error_code() in (libvirt.VIR_ERR_NO_DOMAIN_METADATA, libvirt.VIR_ERR_NO_DOMAIN):
                return {}
            raise
        found: dict[str, Any] = json.loads(ElementTree.fromstring(told).text or "{}")
        return found

    def keep(self, name: str, **noted: Any) -> dict[str, Any]:
        """Note something with a machine, durable when this returns."""
        before = self.kept(name)
        after = {**before, **noted}
        if after != before:
            domain = self.machine(name)
            flags = libvirt.VIR_DOMAIN_AFFECT_CONFIG
            if domain.isActive():
                flags |= libvirt.VIR_DOMAIN_AFFECT_LIVE
            domain.setMetadata(
                libvirt.VIR_DOMAIN_METADATA_ELEMENT, kept_element(after), "maestoso", KEPT, flags
            )
        return after

    # --- keys of encrypted copies ---

    def keep_key(self, key: Key, *, lasting: bool) -> None:
        """Have libvirt open the files of a folder with its key: in memory only, or ``lasting``, also after
        the host was started anew. Raises libvirtError."""
        # libvirt 9.0 that is embedded ends with a fault of memory where a secret is not kept in a file.
        lasting = lasting or self._root is not None
        if not lasting:
            self.forget_key(key.folder)  # what was lasting would leave a file behind
        made = Element("secret", ephemeral="no" if lasting else "yes", private="no")
        SubElement(made, "uuid").text = key.uuid
        SubElement(made, "description").text = f"{OF_COPIES}{key.fingerprint} {key.folder}"
        secret = self._keys.secretDefineXML(ElementTree.tostring(made, encoding="unicode"))
        secret.setValue(key.passphrase.encode())

    def forget_key(self, folder: Path) -> None:
        """That of a folder, if there is one."""
        for secret, _, found in self._secrets():
            if found == folder:
                secret.undefine()

    def kept_keys(self) -> list[Key]:
        """Those that libvirt still has."""
        kept = []
        for secret, mark, folder in self._secrets():
            with suppress(libvirt.libvirtError):  # without a value: whoever kept it was killed meanwhile
                kept.append(Key(folder, secret.value().decode(), mark))
        return kept

    def _secrets(self) -> Iterator[tuple[Any, str, Path]]:
        for secret in self._keys.listAllSecrets():
            told = ElementTree.fromstring(secret.XMLDesc()).findtext("description") or ""
            if told.startswith(OF_COPIES):
                mark, folder = told.removeprefix(OF_COPIES).split(" ", 1)
                yield secret, mark, Path(folder)

    @property
    def _keys(self) -> Any:
        """The connection for secrets: an embedded libvirt has one of its own."""
        connection = self.connection
        return connection if self._root is None else self._key_connection

    # --- guests ---

    def guest(self, name: str, command: str, patience_s: int = GUEST_PATIENCE_S, **arguments: Any) -> Any:
        """Ask a guest agent; one question at a time. Raises GuestSilent."""
        asked: dict[str, Any] = {"execute": command}
        if arguments:
            asked["arguments"] = {part.replace("_", "-"): value for part, value in arguments.items()}
        end = time.monotonic() + patience_s
        while True:
            try:
                with self._guests[name]:
                    told = libvirt_qemu.qemuAgentCommand(self.machine(name), json.dumps(asked), patience_s, 0)
                return json.loads(told)["return"]
            except libvirt.libvirtError as error:
                # While a point is made its agent answers to nothing else.
                if FROZEN not in error.get_error_message() or time.monotonic() >= end:
                    raise GuestSilent(error.get_error_message()) from error
                time.sleep(0.2)

    def run_in_guest(
        self, name: str, text: str, *, interpreter: str = "/bin/sh", env: Mapping[str, str] | None = None,
        limit_s: float = GUEST_PATIENCE_S, wait: Callable[[float], None] = time.sleep,
    ) -> tuple[int, str] | None:  # fmt: skip
        """Exit code and output of a script in a guest, which reads it from its input; None at the limit, when
        it is killed. Raises GuestSilent."""
        began = self.guest(
            name, "guest-exec", path=interpreter,
            env=[f"{key}={value}" for key, value in (env or {}).items()],
            input_data=base64.b64encode(text.encode()).decode(), capture_output=True,
        )  # fmt: skip
        end = time.monotonic() + limit_s
        while True:
            told = self.guest(name, "guest-exec-status", pid=began["pid"])
            if told["exited"]:
                said = base64.b64decode(told.get("out-data", "")) + base64.b64decode(told.get("err-data", ""))
                return told.get("exitcode", 128 + told.get("signal", 0)), said.decode(errors="replace")
            if time.monotonic() >= end:
                self.guest(name, "guest-exec", path="/bin/kill", arg=["-9", str(began["pid"])])
                return None
            wait(0.1)


def _run_events() -> None:
    """libvirt's events have one loop a process, which must run before the first connection is opened."""
    global _events_run
    with _events:
        if _events_run:
            return
        libvirt.virEventRegisterDefaultImpl()

        def loop() -> None:
            while True:
                libvirt.virEventRunDefaultImpl()

        threading.Thread(target=loop, name="libvirt events", daemon=True).start()
        _events_run = True
