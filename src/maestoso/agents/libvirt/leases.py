"""Addresses by DHCP: what the server of a network shall give an adapter, and servers of isolated networks."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import threading
from collections.abc import Iterable, Sequence
from contextlib import suppress
from ipaddress import IPv4Interface, ip_interface
from pathlib import Path

from .networks import NetworkFault, inside, short
from .settings import NetworkSetting

FOLDER = Path("/run/maestoso-agent")
"""What is there is gone with the isolated networks when the host is restarted."""
PROGRAM = "dnsmasq"
USER, USERS_GROUP = "nobody", "nogroup"
LEASE = "1h"
_starts = threading.Lock()


def reserve(folder: Path, site: str, mac: str, addresses: Sequence[str]) -> None:
    """Have a server that reads ``folder`` (``dhcp-hostsdir`` of dnsmasq) give an adapter these addresses
    (CIDR). Raises NetworkFault."""
    bare = [ip_interface(address).ip for address in addresses]
    line = ",".join([mac.lower(), *(f"[{one}]" if one.version == 6 else str(one) for one in bare)])
    file = _file(folder, site, mac)
    try:
        if not file.is_file() or file.read_text() != f"{line}\n":
            fresh = file.with_name(f".{file.name}")  # a name that is not read
            fresh.write_text(f"{line}\n")
            fresh.chmod(0o644)
            fresh.replace(file)
    except OSError as error:
        raise NetworkFault(
            f"No reservation can be written to {folder} ({error.strerror}). Have it be the dhcp-hostsdir of "
            "the DHCP server, where this agent may write."
        ) from error


def release(folder: Path, site: str, mac: str) -> None:
    """Reserve nothing for an adapter any more. The server forgets it when it is told to read anew."""
    with suppress(OSError):
        _file(folder, site, mac).unlink()


def _file(folder: Path, site: str, mac: str) -> Path:
    return folder / f"maestoso-{site}-{mac.lower().replace(':', '-')}"


class Server:
    """The DHCP server of one isolated network, which lies beside its bridge and answers nobody else."""

    def __init__(self, site: str, mark: str, network: str) -> None:
        self.folder = FOLDER / short(site, mark, network)
        self.hosts = self.folder / "hosts"
        self._pid = self.folder / "pid"

    def serve(self, space: str, bridge: str, like: NetworkSetting, gateways: Iterable[str]) -> None:
        """Answer at the gateways of the network, for their prefixes, which in a test are those of production.
        Where what it is like has no DHCP, nobody does, and never for IPv6. Raises NetworkFault."""
        routers = [at for at in map(ip_interface, gateways) if isinstance(at, IPv4Interface)]
        if not like.dhcp or not routers:
            return
        with _starts:  # whoever makes a network and whoever looks after it may do so at once
            if not self.number():
                self._start(space, bridge, like, routers)

    def _start(self, space: str, bridge: str, like: NetworkSetting, routers: Sequence[IPv4Interface]) -> None:
        self.hosts.mkdir(parents=True, exist_ok=True)
        for folder in (FOLDER, self.folder, self.hosts):
            folder.chmod(0o755)
        told = [f"--dhcp-option=option:router,{','.join(str(at.ip) for at in routers)}"]
        for one in {at.network for at in routers if at.network.prefixlen < 31}:
            told.append(f"--dhcp-range={one[1]},{one[-2]},{one.netmask},{LEASE}")
        servers = [server for server in like.dns if ":" not in server]
        told += [f"--dhcp-option=option:dns-server,{','.join(servers)}"] if servers else []
        command = [
            PROGRAM, "--conf-file=/dev/null", "--port=0", f"--interface={bridge}",
            "--except-interface=lo", "--bind-interfaces", "--no-ping", "--dhcp-authoritative",
            f"--user={USER}", f"--group={USERS_GROUP}", f"--pid-file={self._pid}",
            f"--dhcp-leasefile={self.folder / 'leases'}", f"--dhcp-hostsdir={self.hosts}", *told,
        ]  # fmt: skip
        done = inside(space, lambda: subprocess.run(command, capture_output=True, text=True, check=False))
        if done.returncode:
            raise NetworkFault(f"No DHCP server can be started for {like.name}: {done.stderr.strip()}")

    def number(self) -> int:
        """The number of its process; 0 where there is none."""
        try:
            number = int(self._pid.read_text())
            command = Path(f"/proc/{number}/cmdline").read_bytes()
        except (OSError, ValueError):
            return 0
        return number if PROGRAM.encode() in command.split(b"\0")[0] else 0

    def read_anew(self) -> None:
        """A reservation that was changed or taken away counts only after that."""
        if number := self.number():
            os.kill(number, signal.SIGHUP)

    def end(self) -> None:
        """Nobody answers any more, and nothing of it is left."""
        if number := self.number():
            with suppress(ProcessLookupError):
                os.kill(number, signal.SIGTERM)
        shutil.rmtree(self.folder, ignore_errors=True)


def no_reservations(network: str) -> str:
    """Why nothing can be reserved there."""
    return (
        f"Nothing can be reserved in {network}: this agent was not told where its DHCP server reads "
        f"reservations (networks.{network}.dhcp_hosts)."
    )
