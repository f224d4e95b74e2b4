"""Definitions of machines: what one says of a workload, and the one that a copy is given."""

from __future__ import annotations

import copy
import json
import math
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple
from xml.etree import ElementTree
from xml.etree.ElementTree import Element, SubElement

from .chains import Layer
from .encryption import Key

KEPT = "urn:maestoso:machine"
"""The namespace of what the agent keeps in the definition of a machine, so that it is there as long as
that."""
TAGS = "urn:maestoso:workload"
"""The namespace of what people write into the definition of a machine for Maestoso to read."""
AGENT_CHANNEL = "org.qemu.guest_agent.0"
COMES_UP_S = 60.0
"""For so long after a machine was given power its guest agent is waited for."""
_UNITS = {
    "b": 1,
    "bytes": 1,
    "kib": 1 << 10,
    "k": 1 << 10,
    "mib": 1 << 20,
    "m": 1 << 20,
    "gib": 1 << 30,
    "g": 1 << 30,
}


class MachineDisk(NamedTuple):
    """A disk under the name that the machine has for it (``vda``)."""

    name: str
    file: Path
    format: str


class MachineNic(NamedTuple):
    """An adapter: ``nic0`` and so on, in the order of the definition."""

    name: str
    mac: str
    bridge: str


def disks(definition: Element) -> list[MachineDisk]:
    """Its disks that are files; CD drives are none."""
    found = []
    for disk in definition.iterfind("devices/disk[@type='file']"):
        source, target = disk.find("source"), disk.find("target")
        if disk.get("device", "disk") == "disk" and source is not None and target is not None:
            driver = disk.find("driver")
            # Where it is not said, libvirt takes it as raw, too.
            kind = "raw" if driver is None else driver.get("type", "raw")
            found.append(MachineDisk(target.get("dev", ""), Path(source.get("file", "")), kind))
    return found


def other_disks(definition: Element) -> list[str]:
    """Disks that are no files, and so cannot be copied."""
    odd = [disk for disk in definition.iterfind("devices/disk") if disk.get("type") != "file"]
    targets = (disk.find("target") for disk in odd if disk.get("device", "disk") == "disk")
    return [target.get("dev", "") for target in targets if target is not None]


def nics(definition: Element) -> list[MachineNic]:
    """Its adapters."""
    found = []
    for number, nic in enumerate(definition.iterfind("devices/interface")):
        mac, source = nic.find("mac"), nic.find("source")
        bridge = "" if source is None else source.get("bridge", source.get("network", ""))
        found.append(
            MachineNic(f"nic{number}", "" if mac is None else mac.get("address", "").lower(), bridge)
        )
    return found


def has_agent(definition: Element) -> bool:
    """Whether a guest agent can be spoken to."""
    return any(one.get("name") == AGENT_CHANNEL for one in definition.iterfind("devices/channel/target"))


def agent_comes(definition: Element, since_s: float) -> bool:
    """Whether a machine that runs, by this definition, and has had power for so long, has a guest agent that
    is on its way."""
    channels = definition.iterfind(f"devices/channel/target[@name='{AGENT_CHANNEL}']")
    return 0 <= since_s < COMES_UP_S and any(one.get("state") != "connected" for one in channels)


def memory_mib(definition: Element) -> int:
    """Its memory."""
    memory = definition.find("memory")
    if memory is None:
        return 0
    return int(memory.text or 0) * _UNITS[memory.get("unit", "KiB").lower()] >> 20


def cores(definition: Element) -> int:
    """Its processors."""
    return int(definition.findtext("vcpu") or 1)


def said_by_people(definition: Element) -> dict[str, Any]:
    """What the element ``workload`` of the namespace ``urn:maestoso:workload`` says: tags, services,
    owner."""
    element = definition.find(f"metadata/{{{TAGS}}}workload")
    if element is None:
        return {}
    said: dict[str, Any] = {
        name: value
        for name, value in element.attrib.items()
        if name in ("owner", "criticality", "os_family", "folder")
    }
    said["tags"] = {one.get("name", ""): one.get("value", "") for one in element.iterfind(f"{{{TAGS}}}tag")}
    said["offers"] = [
        {
            "name": one.get("name", ""),
            "protocol": one.get("protocol", "tcp"),
            "port": int(one.get("port", "0")),
        }
        for one in element.iterfind(f"{{{TAGS}}}offers")
    ]
    said["uses"] = [one.get("service", "") for one in element.iterfind(f"{{{TAGS}}}uses")]
    said["needs_key"] = element.get("needs_key") == "yes"
    return said


def people_say(workload: Mapping[str, Any]) -> Element:
    """The element that ``said_by_people`` reads."""
    plain = {
        name: str(workload[name])
        for name in ("owner", "criticality", "os_family", "folder")
        if workload.get(name)
    }
    element = Element(f"{{{TAGS}}}workload", plain)
    if workload.get("needs_key"):
        element.set("needs_key", "yes")
    for name, value in workload.get("tags", {}).items():
        SubElement(element, f"{{{TAGS}}}tag", name=name, value=value)
    for one in workload.get("offers", ()):
        SubElement(
            element, f"{{{TAGS}}}offers", name=one["name"], protocol=one["protocol"], port=str(one["port"])
        )
    for service in workload.get("uses", ()):
        SubElement(element, f"{{{TAGS}}}uses", service=service)
    return element


def kept_element(noted: Mapping[str, Any]) -> str:
    """What the agent keeps, as an element of a definition."""
    element = ElementTree.Element("kept")
    element.text = json.dumps(noted, sort_keys=True)
    return ElementTree.tostring(element, encoding="unicode")


def size_gib(size: int) -> int:
    """A disk in whole GiB, never 0."""
    return max(math.ceil(size / (1 << 30)), 1)


def copy_of(
    source: str,
    name: str,
    files: Mapping[str, Sequence[Layer]],
    kept: Mapping[str, Any],
    workload: Mapping[str, Any] | None = None,
) -> Element:
    """The definition (XML) of a machine under another name, with other disks and no adapters yet.

    Disks that are not in ``files`` are left out, and so is all that is of one host only: its id, devices and
    files of that host, where its console goes.
    """
    definition = ElementTree.fromstring(source)
    _set(definition, "name", name)
    for part in ("uuid", "seclabel", "title", "description"):
        for found in definition.findall(part):
            definition.remove(found)
    devices = definition.find("devices")
    if devices is None:
        devices = SubElement(definition, "devices")
    for part in ("interface", "hostdev", "serial", "console", "graphics", "filesystem", "redirdev"):
        for found in devices.findall(part):
            devices.remove(found)
    SubElement(devices, "serial", type="pty")
    for channel in devices.findall("channel"):
        if (at := channel.find("source")) is not None:
            channel.remove(at)  # a socket under the name of the machine that it was copied from
    for disk in devices.findall("disk"):
        target = disk.find("target")
        file = files.get("" if target is None else target.get("dev", ""))
        if disk.get("device", "disk") != "disk" or file is None:
            devices.remove(disk)
            continue
        for part in ("mirror", "serial", "encryption", "auth"):
            for found in disk.findall(part):
                disk.remove(found)
        disk.set("type", "file")
        driver = disk.find("driver")
        (SubElement(disk, "driver", name="qemu") if driver is None else driver).set("type", "qcow2")
        lay(disk, file)
    _say(definition, kept, workload)
    return definition


def lay(disk: Element, files: Sequence[Layer]) -> None:
    """Give a disk other files, the newest first. What is encrypted is said with the secret that opens it, and
    then libvirt wants to be told of the whole chain; else it follows that itself."""
    for part in ("source", "backingStore"):
        for found in disk.findall(part):
            disk.remove(found)
    at, told = disk, files if any(layer.key for layer in files) else files[:1]
    for number, layer in enumerate(told):
        if number:
            at = SubElement(at, "backingStore", type="file")
            SubElement(at, "format", type=layer.image.format)
        source = SubElement(at, "source", file=str(layer.image.file))
        if layer.key is not None:
            source.append(opened_with(layer.key))
    if len(told) == len(files):
        SubElement(at, "backingStore")


def opened_with(key: Key) -> Element:
    """The element that names the secret of libvirt which opens a file."""
    element = Element("encryption", format="luks")
    SubElement(element, "secret", type="passphrase", uuid=key.uuid)
    return element


def with_size(definition: Element, cores: int, memory: int) -> Element:
    """The same with other cores and memory (MiB)."""
    changed = copy.deepcopy(definition)
    for part in ("memory", "currentMemory"):
        for found in changed.findall(part):
            changed.remove(found)
    _set(changed, "memory", str(memory)).set("unit", "MiB")
    vcpu = _set(changed, "vcpu", str(cores))
    vcpu.attrib.pop("current", None)
    topology = changed.find("cpu/topology")
    if topology is not None:
        changed.find("cpu").remove(topology)  # type: ignore[union-attr]
    return changed


def with_nics(definition: Element, adapters: Iterable[tuple[str, str, str, bool]]) -> Element:
    """The same with these adapters: MAC, a bridge of the host or empty, a device's name or empty, plugged in.

    Without a bridge, the device is moved to where it belongs before the machine begins to run.
    """
    changed = copy.deepcopy(definition)
    devices = changed.find("devices")
    if devices is None:
        devices = SubElement(changed, "devices")
    model = "virtio"
    for found in devices.findall("interface"):
        devices.remove(found)
    for mac, bridge, device, connected in adapters:
        nic = SubElement(devices, "interface", type="bridge" if bridge else "ethernet")
        SubElement(nic, "mac", address=mac)
        if bridge:
            SubElement(nic, "source", bridge=bridge)
        if device:
            SubElement(nic, "target", dev=device)
        SubElement(nic, "model", type=model)
        SubElement(nic, "link", state="up" if connected else "down")
        SubElement(nic, "rom", enabled="no")
    return changed


def with_kept(
    definition: Element, kept: Mapping[str, Any], workload: Mapping[str, Any] | None = None
) -> Element:
    """The same with other notes of the agent and, where given, other words for people."""
    changed = copy.deepcopy(definition)
    _say(changed, kept, workload)
    return changed


def _say(definition: Element, kept: Mapping[str, Any], workload: Mapping[str, Any] | None) -> None:
    metadata = definition.find("metadata")
    if metadata is None:
        metadata = SubElement(definition, "metadata")
    for found in metadata.findall(f"{{{KEPT}}}kept"):
        metadata.remove(found)
    note = ElementTree.fromstring(kept_element(kept))
    note.tag = f"{{{KEPT}}}kept"
    metadata.append(note)
    if workload is not None:
        for found in metadata.findall(f"{{{TAGS}}}workload"):
            metadata.remove(found)
        metadata.append(people_say(workload))


def _set(definition: Element, tag: str, text: str) -> Element:
    found = definition.find(tag)
    if found is None:
        found = SubElement(definition, tag)
    found.text = text
    return found
