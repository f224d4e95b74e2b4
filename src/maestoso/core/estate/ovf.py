"""OVF descriptors (DMTF DSP0243, version 1 and 2 envelopes), alone or inside an OVA (a tar file).

Read are: DiskSection (capacity and its units), VirtualSystem (also several in a VirtualSystemCollection),
OperatingSystemSection, and of VirtualHardwareSection the items for processors (resource type 3), memory (4),
disks (17) and Ethernet adapters (10). What an OVF does not know (site, storage pool, addresses) comes from
the person who brings it in.
"""

from __future__ import annotations

import hashlib
import io
import re
import tarfile
from collections.abc import Iterator
from xml.etree.ElementTree import Element, TreeBuilder
from xml.parsers import expat

from maestoso.core.errors import BadValue
from maestoso.core.estate.staged import Staged, WorkloadRow, outcome
from maestoso.core.files import LARGEST_FILE, BadFile, Complaint, text_of
from maestoso.core.model.estate import Disk, Nic, Workload

LARGEST_DESCRIPTOR = 8 * 2**20
MOST_MEMBERS = 10_000
DEEPEST = 100
CPU, MEMORY, ETHERNET, DISK = "3", "4", "10", "17"
GIB = 2**30
_UNIT = re.compile(r"byte(?:\s*\*\s*(2|10)\^(\d{1,2}))?")
_OLD_UNITS = {"kilobytes": 2**10, "megabytes": 2**20, "gigabytes": 2**30, "terabytes": 2**40}


def read_ovf(raw: bytes, site: str, storage_pool: str, network: str = "") -> Staged:
    """Workloads of an OVF or OVA file.

    They land at ``site``, on ``storage_pool``; adapters on the network that the file names, or on ``network``
    where that is given. Raises BadFile.
    """
    if not site or not storage_pool:
        raise BadFile(
            "An OVF does not say where its machines are.",
            "Choose site and storage pool for it.",
        )
    envelope = _envelope(_descriptor(raw))
    if _local(envelope) != "Envelope":
        raise BadFile(f"The file begins with {_local(envelope)!r}.", "An OVF begins with an Envelope.")
    capacities = _capacities(envelope)
    workloads, complaints = [], []
    row = 0
    for system in (e for e in envelope.iter() if _local(e) == "VirtualSystem"):
        row += 1
        try:
            workload = _workload(system, capacities, storage_pool, network)
            workloads.append(WorkloadRow(row=row, site=site, workload=workload))
        except BadValue as error:
            said = f"{error.sentence} {error.remedy}".strip()
            complaints.append(Complaint(row=row, column=error.field, sentence=said))
    if row == 0:
        raise BadFile("The file describes no machine.", "An OVF holds at least one VirtualSystem.")
    return outcome(row, workloads, complaints)


def _descriptor(raw: bytes) -> bytes:
    """The text of the descriptor: the file itself, or the first ``.ovf`` of a tar file, read in memory."""
    if raw.lstrip()[:1] == b"<":
        return raw
    if len(raw) > LARGEST_FILE:
        raise BadFile("The file is too large.", "Import the descriptor (.ovf) alone.")
    try:
        # Never unpacked: only members that are plain files are looked at, and only one is read.
        with tarfile.open(fileobj=io.BytesIO(raw), mode="r:") as tar:
            for number, member in enumerate(tar):
                if number > MOST_MEMBERS:
                    raise BadFile("The OVA holds too many files.", "Import the descriptor (.ovf) alone.")
                if not member.isreg() or not member.name.lower().endswith(".ovf"):
                    continue
                if member.size > LARGEST_DESCRIPTOR:
                    raise BadFile(f"Its descriptor has {member.size // 2**20} MiB.", "That is no descriptor.")
                file = tar.extractfile(member)
                return file.read(LARGEST_DESCRIPTOR) if file else b""
    except (tarfile.TarError, EOFError, ValueError, OverflowError) as error:
        raise BadFile("The file is neither an OVF nor an OVA.", "Give one of them.") from error
    raise BadFile("The OVA holds no descriptor (.ovf).", "Give one that does.")


def _envelope(raw: bytes) -> Element:
    """The tree of an XML text. A document type is refused, so no entity can grow or reach outside."""
    if len(raw) > LARGEST_DESCRIPTOR:
        raise BadFile(f"The descriptor has {len(raw) // 2**20} MiB.", "A descriptor is a small text.")
    builder, depth = TreeBuilder(), 0
    parser = expat.ParserCreate(namespace_separator="}")

    def start(tag: str, attributes: dict[str, str]) -> None:
        nonlocal depth
        depth += 1
        if depth > DEEPEST:
            raise BadFile("The file is nested too deep.", "An OVF has few levels.")
        builder.start(tag, attributes)

    def end(tag: str) -> None:
        nonlocal depth
        depth -= 1
        builder.end(tag)

    def refuse(*rest: object) -> None:
        raise BadFile("The file declares a document type, which an OVF never needs.", "Remove the DOCTYPE.")

    parser.StartElementHandler, parser.EndElementHandler = start, end
    parser.CharacterDataHandler = builder.data
    parser.StartDoctypeDeclHandler = refuse
    try:
        parser.Parse(text_of(raw).lstrip().encode(), True)
        return builder.close()
    except expat.ExpatError as error:
        raise BadFile(f"The file is not XML: {error}.", "Correct it there and try again.") from error


def _local(element: Element) -> str:
    return element.tag.rpartition("}")[2]


def _attribute(element: Element, name: str) -> str:
    return next((v for k, v in element.attrib.items() if k.rpartition("}")[2] == name), "")


def _children(element: Element, *names: str) -> Iterator[Element]:
    return (child for child in element if _local(child) in names)


def _text(element: Element, name: str) -> str:
    child = next(_children(element, name), None)
    return (child.text or "").strip() if child is not None else ""


def unit(text: str, otherwise: int = 1) -> int:
    """Bytes of a unit such as ``byte * 2^20`` (DSP0004, annex C.1), or an older plain name."""
    if not text:
        return otherwise
    match = _UNIT.fullmatch(text.strip().lower())
    if match:
        return int(match.group(1)) ** int(match.group(2)) if match.group(1) else 1
    if text.strip().lower() in _OLD_UNITS:
        return _OLD_UNITS[text.strip().lower()]
    raise BadValue(
        f"The unit {text[:40]!r} is not known.", "Units are written as byte * 2^30.", field="units"
    )


def _capacities(envelope: Element) -> dict[str, tuple[str, str]]:
    """Capacity and unit of every disk, as they stand, by id: a bad one is its machine's fault only."""
    return {
        _attribute(disk, "diskId"): (
            _attribute(disk, "capacity"),
            _attribute(disk, "capacityAllocationUnits"),
        )
        for section in _children(envelope, "DiskSection")
        for disk in _children(section, "Disk")
    }


def _number(text: str, field: str) -> int:
    if not text.isascii() or not text.isdigit() or len(text) > 18:
        raise BadValue(f"{text[:40]!r} is not a whole number.", "Correct the descriptor.", field=field)
    return int(text)


def _workload(
    system: Element, capacities: dict[str, tuple[str, str]], pool: str, network: str
) -> Workload:  # fmt: skip
    name = _text(system, "Name") or _attribute(system, "id")
    cores = memory = 0
    disks: list[Disk] = []
    nics: list[Nic] = []
    for section in _children(system, "VirtualHardwareSection"):
        for item in _children(section, "Item", "StorageItem", "EthernetPortItem"):
            kind = _text(item, "ResourceType")
            if kind == CPU:
                cores += _number(_text(item, "VirtualQuantity"), "cores")
            elif kind == MEMORY:
                size = unit(_text(item, "AllocationUnits"), 2**20)
                memory += _number(_text(item, "VirtualQuantity"), "memory_mib") * size // 2**20
            elif kind == DISK:
                disks.append(_disk(item, capacities, pool, len(disks)))
            elif kind == ETHERNET:
                nics.append(_nic(item, name, network, len(nics)))
    if not cores or not memory:
        raise BadValue(f"{name} has no processor or no memory.", "Its hardware says.", field="cores")
    return Workload(
        name=name, os_family=_os(system), cores=cores, memory_mib=memory, disks=tuple(disks), nics=tuple(nics)
    )


def _disk(item: Element, capacities: dict[str, tuple[str, str]], pool: str, index: int) -> Disk:
    known = capacities.get(_text(item, "HostResource").rpartition("/")[2])
    if known is None:
        resource = _text(item, "HostResource")
        raise BadValue(f"The disk {resource[:60]!r} is not in the DiskSection.", field="disks")
    capacity = _number(known[0], "disks") * unit(known[1])
    return Disk(name=f"disk{index}", size_gib=max(-(-capacity // GIB), 1), storage_pool=pool)


def _nic(item: Element, workload: str, network: str, index: int) -> Nic:
    digest = hashlib.sha256(f"{workload}/{index}".encode()).digest()
    made = "02:" + ":".join(f"{byte:02x}" for byte in digest[:5])
    mac = _text(item, "Address").lower().replace("-", ":") or made
    return Nic(name=f"nic{index}", network=network or _text(item, "Connection"), mac=mac, dhcp=True)


def _os(system: Element) -> str:
    """By the words of the section: the numbers of CIM's OSType differ between its versions."""
    section = next(_children(system, "OperatingSystemSection"), None)
    words = ""
    if section is not None:
        words = f"{_attribute(section, 'osType')} {_text(section, 'Description')}".lower()
    if "bsd" in words:
        return "bsd"
    return "linux" if "linux" in words or not words.strip() else "appliance"
