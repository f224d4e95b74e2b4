"""The agent's file of settings (TOML): what a host cannot say of itself, and where other sites are."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from ipaddress import ip_address, ip_network
from pathlib import Path
from typing import Any

from maestoso.agent_kit.front_doors import is_port


class SettingsFault(Exception):
    """A field of the file is not right; the text names it and says what would be."""


@dataclass(frozen=True, slots=True, kw_only=True)
class NetworkSetting:
    """A bridge of the host under the name that Maestoso knows it by. ``dhcp_hosts`` is the folder in which
    the DHCP server of the network reads reservations (``dhcp-hostsdir`` of dnsmasq)."""

    name: str
    bridge: str
    prefixes: tuple[str, ...] = ()
    gateways: tuple[str, ...] = ()
    dns: tuple[str, ...] = ()
    vlan: int = 0
    dhcp: bool = False
    dhcp_hosts: Path | None = None
    routes_to: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class OtherSite:
    """Where the agent of another site is. ``secret`` is what both agents show each other; ``certificate`` a
    PEM file (its own, or that of its authority) that is trusted beside the public ones."""

    code: str
    address: str
    secret: str
    certificate: Path | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class DoorSettings:
    """The ``interface`` that clients come in by, and the ``addresses`` (prefixes) that front doors can have
    there: nobody else puts any of them on it. ``own`` are front doors that the site has from the start, by
    their names, as verbs say them."""

    interface: str
    addresses: tuple[str, ...]
    own: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """All of the file. In a ``lab``, machines may be killed on purpose."""

    site: str
    uri: str
    folder: Path
    host_pool: str = "host"
    host: str = "127.0.0.1"
    port: int = 8700
    certificate: Path | None = None
    key: Path | None = None
    client_ca: Path | None = None
    storage: Mapping[str, Path] = field(default_factory=dict)
    networks: Mapping[str, NetworkSetting] = field(default_factory=dict)
    sites: Mapping[str, OtherSite] = field(default_factory=dict)
    front_doors: DoorSettings | None = None
    lab: bool = False


_TOP = {"site", "uri", "folder", "host_pool", "host", "port", "certificate", "key", "client_ca", "storage",
        "networks", "sites", "front_doors", "lab"}  # fmt: skip


def read(file: Path) -> Settings:
    """The settings of a file. Raises SettingsFault."""
    try:
        told = tomllib.loads(file.read_text("utf-8"))
    except OSError as error:
        raise SettingsFault(f"{file} cannot be read: {error.strerror}.") from error
    except tomllib.TOMLDecodeError as error:
        raise SettingsFault(f"{file} is not TOML: {error}.") from error
    _only(told, _TOP, "")
    site = _text(told, "site", "")
    if not (2 <= len(site) <= 8 and site[0].isalpha() and site.isalnum() and site.isupper()):
        raise SettingsFault(f"site is {site!r}. Give 2 to 8 capital letters and digits, a letter first.")
    paths = {
        name: Path(_text(told, name, "")) for name in ("certificate", "key", "client_ca") if name in told
    }
    port = told.get("port", 8700)
    if not isinstance(port, int) or not 1 <= port <= 65535:
        raise SettingsFault(f"port is {port!r}. Give a number from 1 to 65535.")
    lab = told.get("lab", False)
    if not isinstance(lab, bool):
        raise SettingsFault(
            f"lab is {lab!r}. Give true where machines may be killed on purpose, or leave it out."
        )
    return Settings(
        lab=lab,
        site=site, uri=str(told.get("uri", "qemu:///system")), folder=Path(_text(told, "folder", "")),
        host_pool=str(told.get("host_pool", "host")), host=str(told.get("host", "127.0.0.1")), port=port,
        storage={
            name: Path(_text(one, "folder", f"storage.{name}")) for name, one in _tables(told, "storage")
        },
        networks={name: _network(name, one) for name, one in _tables(told, "networks")},
        front_doors=_doors(told["front_doors"]) if "front_doors" in told else None,
        sites={code: _site(code, one) for code, one in _tables(told, "sites")},
        **paths,
    )  # fmt: skip


def _doors(told: Any) -> DoorSettings:
    if not isinstance(told, dict):
        raise SettingsFault("front_doors is no table. Write [front_doors], and its fields below.")
    _only(told, {"interface", "addresses", "own"}, "front_doors")
    addresses = _list(told, "addresses", ip_network, "front_doors")
    own = {}
    for name, one in _tables(told, "own"):
        at = f"front_doors.own.{name}"
        _only(one, {"address", "ports", "machine", "sources"}, at)
        address = _text(one, "address", at)
        try:
            inside = any(ip_address(address) in ip_network(prefix) for prefix in addresses)
        except ValueError as error:
            raise SettingsFault(f"{at}.address: {error}.") from error
        if not inside:
            raise SettingsFault(f"{at}.address: {address} is in none of front_doors.addresses.")
        ports = tuple(one.get("ports", ()))
        odd = [port for port in ports if not is_port(str(port))]
        if odd or not ports:
            raise SettingsFault(
                f"{at}.ports: {odd[0] if odd else 'nothing'!r} is no port. Write it as tcp/443."
            )
        own[name] = {
            "name": name, "address": address, "ports": list(ports), "machine": _text(one, "machine", at),
            "sources": list(_list(one, "sources", ip_network, at)),
        }  # fmt: skip
    interface = _text(told, "interface", "front_doors")
    if not addresses:
        raise SettingsFault("front_doors.addresses is missing. Give the prefixes that front doors can have.")
    return DoorSettings(interface=interface, addresses=addresses, own=own)


def _list(told: Mapping[str, Any], part: str, kind: Callable[[Any], object], at: str) -> tuple[str, ...]:
    found = tuple(told.get(part, ()))
    for one in found:
        try:
            kind(one)
        except ValueError as error:
            raise SettingsFault(f"{at}.{part}: {error}.") from error
    return found


def _network(name: str, told: Mapping[str, Any]) -> NetworkSetting:
    at = f"networks.{name}"
    _only(told, set(NetworkSetting.__dataclass_fields__) - {"name"}, at)
    parts = (("prefixes", ip_network), ("gateways", ip_address), ("dns", ip_address), ("routes_to", str))
    lists = {part: _list(told, part, kind, at) for part, kind in parts}
    hosts = Path(_text(told, "dhcp_hosts", at)) if "dhcp_hosts" in told else None
    if hosts is not None and not told.get("dhcp"):
        raise SettingsFault(f"{at}.dhcp_hosts is of no use without dhcp = true.")
    return NetworkSetting(
        name=name, bridge=_text(told, "bridge", at), vlan=int(told.get("vlan", 0)),
        dhcp=bool(told.get("dhcp")), dhcp_hosts=hosts,
        **lists,
    )  # fmt: skip


def _site(code: str, told: Mapping[str, Any]) -> OtherSite:
    at = f"sites.{code}"
    _only(told, {"address", "secret_file", "certificate"}, at)
    file = Path(_text(told, "secret_file", at))
    try:
        secret = file.read_text("utf-8").strip()
    except OSError as error:
        raise SettingsFault(f"{at}.secret_file: {file} cannot be read: {error.strerror}.") from error
    if len(secret) < 32:
        raise SettingsFault(
            f"{at}.secret_file: {file} holds less than 32 signs. openssl rand -hex 32 makes one."
        )
    certificate = Path(_text(told, "certificate", at)) if "certificate" in told else None
    return OtherSite(code=code, address=_text(told, "address", at), secret=secret, certificate=certificate)


def _tables(told: Mapping[str, Any], name: str) -> list[tuple[str, Mapping[str, Any]]]:
    table = told.get(name, {})
    if not isinstance(table, dict) or not all(isinstance(one, dict) for one in table.values()):
        raise SettingsFault(f"{name} is no table of tables. Write [{name}.NAME], and its fields below.")
    return list(table.items())


def _only(told: Mapping[str, Any], known: set[str], at: str) -> None:
    odd = sorted(set(told) - known)
    if odd:
        where = f"{at}.{odd[0]}" if at else odd[0]
        raise SettingsFault(f"{where} is no setting. There are: {', '.join(sorted(known))}.")


def _text(told: Mapping[str, Any], name: str, at: str) -> str:
    value = told.get(name)
    if not isinstance(value, str) or not value:
        raise SettingsFault(f"{f'{at}.{name}' if at else name} is missing. Give a text.")
    return value
