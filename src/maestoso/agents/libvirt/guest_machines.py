"""Machines and their guests: power, addresses, questions as a client would ask them."""

from __future__ import annotations

import logging
import threading
import time
from collections import defaultdict
from collections.abc import Callable, Mapping
from ipaddress import ip_interface, ip_network
from typing import Any

from maestoso.agent_kit.platform import Failure

from . import guests, leases, probes
from .bindings import libvirt
from .host import Host, device_of
from .hypervisor import GuestSilent, NoMachine
from .networks import NetworkFault, links
from .settings import Settings

log = logging.getLogger("site-agent")
START_TRIES = 6
IN_USE = "Is another process using the image"
"""How QEMU says that a file is open elsewhere."""
LOOK_AGAIN_S = 300.0
"""How long what a guest said of its addresses is taken to be so, when nothing happens to it."""
LOOK_SOON_S = 5.0
"""How long where it said that it has none, at first: its agent may be there before its network is. Twice as
long each time, for some never have one."""
MOST_DOUBLED = 6


class GuestMachines(Host):
    """Giving power, and speaking to what then runs."""

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings)
        self._guest_turns: dict[str, threading.Lock] = defaultdict(threading.Lock)
        self._seen_at: dict[str, float] = {}
        self._bare: dict[str, int] = defaultdict(int)
        self.hypervisor.guest_came.append(self._guest_came)

    def _start(self, name: str) -> None:
        if self.hypervisor.kept(name).get("fenced"):
            raise Failure("fenced")
        domain = self.hypervisor.machine(name)
        kept = self.hypervisor.keep(name, powered_at=time.time(), addressed=False)
        try:
            if not domain.isActive():
                self._create(domain, name)
            if domain.info()[0] == libvirt.VIR_DOMAIN_PAUSED:
                for number, nic in enumerate(kept.get("nics", [])):
                    self._put_in(name, number, nic)
                domain.resume()
        except (libvirt.libvirtError, NetworkFault) as error:
            self.hypervisor.cut_power(name)
            raise Failure("not-started", f"{name} cannot be started: {error}") from error

    def _create(self, domain: Any, name: str) -> None:
        """Begin to run it, standing still. Its files may just have been read, here or by an agent that was
        killed."""
        for left in reversed(range(START_TRIES)):
            self.source.give_back(name)
            try:
                domain.createWithFlags(libvirt.VIR_DOMAIN_START_PAUSED)
            except libvirt.libvirtError as error:
                if not left or IN_USE not in error.get_error_message():
                    raise
                time.sleep(0.5)
            else:
                return

    def _make_network(self, name: str, box: Mapping[str, Any]) -> None:
        gateways, like = self._gateways(box), self.settings.networks.get(box["like"])
        self._host(lambda: self.isolation.make(box["mark"], name, gateways))
        if like is not None:
            space, bridge = self.isolation.space(box["mark"]), self.isolation.bridge(name)
            self._host(lambda: self._dhcp(name, box).serve(space, bridge, like, gateways))

    def _dhcp(self, name: str, box: Mapping[str, Any]) -> leases.Server:
        """The server of an isolated network, whether it runs or not."""
        return leases.Server(self.site, box["mark"], name)

    def _gateways(self, box: Mapping[str, Any]) -> list[str]:
        """The addresses (CIDR) that an isolated network has as gateways."""
        like = self.settings.networks.get(box["like"])
        if box["routers"] or like is None:
            return list(box["routers"])
        prefixes = [ip_network(prefix) for prefix in like.prefixes]
        return [
            f"{gateway}/{prefix.prefixlen}" for gateway in like.gateways for prefix in prefixes
            if ip_interface(gateway).ip in prefix
        ]  # fmt: skip

    def _put_in(self, name: str, number: int, nic: Mapping[str, Any]) -> None:
        box = self.store.note(f"sandbox:{nic['network']}")
        device = device_of(name, number)
        if box is not None and nic["connected"] and device in [link["ifname"] for link in links()]:
            self._make_network(nic["network"], box)  # after the host was restarted it is not there
            self.isolation.put_in(box["mark"], nic["network"], device)

    def look_after_guests(self) -> None:
        """Ask guests that run for their addresses once in a while; what they say is kept with the machine."""
        for name in self.hypervisor.names():
            asked = self._seen_at.get(name, float("-inf"))
            if time.monotonic() - asked > LOOK_AGAIN_S and self.hypervisor.running(name):
                self._seen_at[name] = time.monotonic()
                self._work.submit(self._look, name)

    def _adapters(self, name: str) -> dict[str, dict[str, Any]]:
        """What the guest said last of its adapters, by MAC. Nobody waits for a guest to read that."""
        found: dict[str, dict[str, Any]] = self.hypervisor.kept(name).get("adapters", {})
        return found

    def _look(self, name: str) -> dict[str, dict[str, Any]]:
        """Ask a guest for its addresses; what it said before where it does not answer."""
        try:
            self.hypervisor.guest(name, "guest-ping", 2)
            seen = guests.adapters(self.hypervisor, name)
            self.hypervisor.keep(name, adapters=seen)
            if any(adapter["addresses"] for adapter in seen.values()):
                self._bare.pop(name, None)
            else:
                pause = min(LOOK_SOON_S * 2 ** self._bare[name], LOOK_AGAIN_S)
                self._bare[name] = min(self._bare[name] + 1, MOST_DOUBLED)
                self._seen_at[name] = time.monotonic() - LOOK_AGAIN_S + pause
        except (GuestSilent, NoMachine, libvirt.libvirtError):
            return self._adapters(name)
        return seen

    def _guest_came(self, name: str) -> None:
        self._work.submit(self._greet, name)

    def _greet(self, name: str) -> None:
        """Addresses are given as soon as a guest can take them, whether anybody waits for it or not."""
        try:
            self._address(name, time.sleep)
        except (Failure, NoMachine) as error:
            log.warning("%s has not its addresses yet: %s", name, error)
        self._look(name)

    def _address(self, name: str, wait: Callable[[float], None]) -> None:
        with self._guest_turns[name]:
            kept = self.hypervisor.kept(name)
            if not kept.get("addresses") or kept.get("addressed"):
                return
            try:
                guests.set_addresses(
                    self.hypervisor, name, [(mac, told) for mac, told in kept["addresses"]], wait
                )
            except GuestSilent as error:
                raise Failure("no-answer", f"The guest agent of {name} does not answer: {error}") from error
            except guests.NotSet as error:
                raise Failure("not-addressed", str(error)) from error
            self.hypervisor.keep(name, addressed=True)

    def _addresses(self, name: str) -> list[str]:
        """Of its adapters: as it was told, else as its guest says."""
        kept = self.hypervisor.kept(name)
        told = [address for _, settings in kept.get("addresses", []) for address in settings["addresses"]]
        adapters = self._adapters(name) if told else self._adapters(name) or self._look(name)
        seen = [address for one in adapters.values() for address in one["addresses"]]
        return [str(ip_interface(address).ip) for address in told or seen]

    def _ask(self, name: str, told: Mapping[str, Any]) -> None:
        """One try, from inside of the isolated networks where the machine is on one."""
        if told.get("outside"):
            probes.ask(told["address"], told)
            return
        mark = told.get("mark", "")
        addresses = [told["address"]] if told.get("address") else self._addresses(name)
        if not addresses:
            raise Failure("no-answer", f"{name} has no address yet.")
        if name and self.hypervisor.kept(name).get("test"):
            mark = self.hypervisor.kept(name)["mark"]
        if not mark or mark not in [box["mark"] for box in self.store.notes("sandbox:").values()]:
            probes.ask(addresses[0], told)
        elif self.isolation.there(mark):
            self._host(lambda: self.isolation.within(mark, lambda: probes.ask(addresses[0], told)))
        else:
            # From outside production would answer, which may have the same address.
            raise Failure("no-answer", "The isolated networks of this test are not there any more.")
