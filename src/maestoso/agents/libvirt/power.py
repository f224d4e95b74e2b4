"""Power, heartbeat, probes, scripts; and the side that is closed down."""

from __future__ import annotations

import logging
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from maestoso.agent_kit import scripts
from maestoso.agent_kit.platform import Failure, Operation

from . import definition
from .bindings import libvirt
from .guest_machines import GuestMachines
from .hypervisor import GuestSilent

log = logging.getLogger("site-agent")
GUEST_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"
ASK_AGAIN_S = 5.0
"""How often a guest that does not shut down is asked again."""


class Power(GuestMachines):
    """On, there, answering, off, fenced."""

    def power_on(self, op: Operation) -> None:
        """Give power; adapters of isolated networks are moved there before it runs."""
        self._described(op.subject)
        if self.hypervisor.running(op.subject) and not op.again:
            if op.args["unless_on"]:
                return
            raise Failure("powered-on")
        self._start(op.subject)
        op.effect(powered="on")

    def power_off(self, op: Operation) -> None:
        """Take power away."""
        if self.hypervisor.cut_power(op.subject) or (
            op.again and self.hypervisor.find(op.subject) is not None
        ):
            op.effect(powered="off")

    def kill_machine(self, op: Operation) -> None:
        """SIGKILL to its QEMU. Only in labs: see :attr:`Settings.lab`."""
        if self.hypervisor.find(op.subject) is None:
            raise Failure("no-such-copy")
        if not self.hypervisor.kill(op.subject) and not op.again:
            raise Failure("powered-off")
        op.effect(killed=op.subject)

    def await_heartbeat(self, op: Operation) -> None:
        """The guest agent answers, and has given the guest its addresses."""
        described = self._described(op.subject)
        if not definition.has_agent(described):
            raise Failure("no-guest-agent")
        if op.args["restart"] and not op.again:
            self.hypervisor.cut_power(op.subject)
            self._start(op.subject)
        op.waits_since(self.hypervisor.kept(op.subject).get("powered_at", op.accepted_at))

        def beats() -> bool:
            if not self.hypervisor.running(op.subject):
                raise Failure("powered-off")
            try:
                self.hypervisor.guest(op.subject, "guest-ping", 5)
            except GuestSilent:
                return False
            self._address(op.subject, op.wait)
            return True

        if not op.until(beats, op.args["timeout_s"]):
            raise Failure("ready-timeout", f"No heartbeat within {op.args['timeout_s']:g} s.")

    def probe_service(self, op: Operation) -> None:
        """Ask a service until it answers."""
        self._described(op.subject)
        if op.args["restart"] and not op.again:
            self.hypervisor.cut_power(op.subject)
            self._start(op.subject)
        op.waits_since(self.hypervisor.kept(op.subject).get("powered_at", op.accepted_at))
        self._until_right(op, op.subject, {"protocol": op.args["protocol"], "port": op.args["port"]})

    def probe(self, op: Operation) -> None:
        """Ask a copy, or an address, until the answer is right."""
        name = "" if op.args["address"] else op.subject
        self._until_right(op, name, op.args)

    def _until_right(self, op: Operation, name: str, told: Mapping[str, Any]) -> None:
        last = [Failure("no-answer")]

        def right() -> bool:
            if name and not self.hypervisor.running(name):
                raise Failure("powered-off")
            try:
                self._ask(name, told)
            except Failure as failure:
                last[0] = failure
                return False
            return True

        if not op.until(right, op.args["timeout_s"], 0.5):
            raise last[0]

    def run_script(self, op: Operation) -> dict[str, Any]:
        """In the guest by its agent, or on this host."""
        scripts.checked(op)
        if op.args["where"] == "guest":
            return scripts.ended(op, *self._in_guest(op))
        return scripts.ended(op, *scripts.run_here(op, Path("/")))

    def _in_guest(self, op: Operation) -> tuple[int, str]:
        if not self.hypervisor.running(op.subject):
            raise Failure("powered-off")
        try:
            ended = self.hypervisor.run_in_guest(
                op.subject, op.args["text"], interpreter=op.args["interpreter"],
                env=scripts.environment(op, GUEST_PATH),
                limit_s=op.args["timeout_s"], wait=op.wait,
            )  # fmt: skip
        except GuestSilent as error:
            raise Failure("no-answer", f"The guest agent of {op.subject} does not answer: {error}") from error
        if ended is None:
            raise Failure("script-timeout")
        return ended

    def shut_down(self, op: Operation) -> dict[str, Any]:
        """By its guest agent, else by the button; by force after the limit."""
        domain = self.hypervisor.find(op.subject)
        if domain is None:
            raise Failure("no-such-copy")
        if not domain.isActive():
            if op.again:
                op.effect(shut_down=op.subject, forced=False)
            return {"forced": False}

        asked_at = [float("-inf")]

        def gone() -> bool:
            # One that comes up just now hears it only later.
            if time.monotonic() - asked_at[0] > ASK_AGAIN_S:
                asked_at[0] = time.monotonic()
                self._ask_to_shut_down(op.subject)
            return not self.hypervisor.running(op.subject)

        with self.source.leaving(op.subject, op.wait):
            forced = not op.until(gone, op.args["limit_s"])
        if forced and not op.args["force"]:
            raise Failure("still-running")
        if forced:
            self.hypervisor.cut_power(op.subject)
        op.effect(shut_down=op.subject, forced=forced)
        return {"forced": forced}

    def _ask_to_shut_down(self, name: str) -> None:
        for way in (libvirt.VIR_DOMAIN_SHUTDOWN_GUEST_AGENT, libvirt.VIR_DOMAIN_SHUTDOWN_ACPI_POWER_BTN):
            try:
                machine = self.hypervisor.machine(name)
                machine.agentSetResponseTimeout(int(ASK_AGAIN_S))  # else libvirt waits for ever
                machine.shutdownFlags(way)
                return
            except libvirt.libvirtError as error:
                log.info("%s does not hear that it shall shut down: %s", name, error)

    def fence(self, op: Operation) -> dict[str, Any]:
        """Off, not started with the host, and refused by the hook of libvirt from now on."""
        domain = self.hypervisor.find(op.subject)
        if domain is None:
            return {"was_running": False}
        kept = self.hypervisor.kept(op.subject)
        runs = bool(domain.isActive())
        if runs and not op.args["cut"]:
            raise Failure("still-running")
        was_running = runs or (op.again and kept.get("ran_until") == op.key)
        fresh = not kept.get("fenced")
        self.hypervisor.keep(op.subject, fenced=True, ran_until=op.key if was_running else "")
        domain.setAutostart(0)
        self.hypervisor.cut_power(op.subject)
        told = {"was_running": was_running, "contents": self._written(op.subject), "checksum": ""}
        if was_running or fresh or op.again:
            op.effect(fenced=op.subject, **told)
        return told

    def _written(self, name: str) -> float:
        """When its disks were last written to, in seconds since 1970."""
        files = [disk.file for disk in definition.disks(self.hypervisor.xml(name))]
        return max((file.stat().st_mtime for file in files if file.is_file()), default=0.0)

    def lift_fence(self, op: Operation) -> None:
        """It may have power again."""
        self._described(op.subject)
        if self.hypervisor.kept(op.subject).get("fenced") or op.again:
            self.hypervisor.keep(op.subject, fenced=False)
            op.effect(fence_lifted=op.subject)
