"""Workloads as CSV (RFC 4180): one row a workload. What is written here reads back unchanged.

Several things in one cell are separated by ``;``. A disk is ``name:GiB@pool``, left out with a reason behind
``!``; a NIC is ``name@network mac=… 10.20.4.17/24 gw=… dns=…`` or ``dhcp``; a service is
``name/protocol/port``; a tag ``key=value``. A backslash takes its meaning from a separator.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.csv_rows import line, read_rows, yes, yes_no
from maestoso.core.errors import BadValue
from maestoso.core.estate.staged import Staged, WorkloadRow, outcome
from maestoso.core.files import Complaint
from maestoso.core.model.estate import Disk, Nic, Service, Workload

COLUMNS = (
    "site", "name", "os_family", "cores", "memory_mib", "disks", "nics", "tags", "owner", "criticality",
    "guest_agent", "needs_key", "offers", "uses", "host_pool", "folder",
)  # fmt: skip
NEEDED = ("name", "cores", "memory_mib")


def read_csv(raw: bytes, site: str = "") -> Staged:
    """Read a CSV file; ``site`` is where rows without a site belong. Raises BadFile."""
    workloads: list[WorkloadRow] = []
    complaints: list[Complaint] = []
    rows = 0
    for line_number, row in read_rows(raw, COLUMNS, NEEDED, complaints):
        rows += 1
        try:
            at, workload = _workload(row, site)
        except BadValue as error:
            said = f"{error.sentence} {error.remedy}".strip()
            complaints.append(Complaint(row=line_number, column=error.field, sentence=said))
            rows -= 1
        else:
            workloads.append(WorkloadRow(row=line_number, site=at, workload=workload))
    return outcome(rows + len(complaints), workloads, complaints)


def _workload(row: dict[str, str], site: str) -> tuple[str, Workload]:
    at = row.get("site", "") or site
    if not at:
        raise BadValue("No site is given.", "Fill in the site, or choose one for the file.", field="site")
    data: dict[str, Any] = {
        "name": row.get("name", ""),
        "cores": _whole(row, "cores"),
        "memory_mib": _whole(row, "memory_mib"),
    }
    for column, parse in _PARSE.items():
        if row.get(column):
            data[column] = parse(row[column], column)
    for column in ("os_family", "owner", "criticality", "host_pool", "folder"):
        if row.get(column):
            data[column] = row[column]
    data.setdefault("disks", [])
    data.setdefault("nics", [])
    try:
        return at, from_data(Workload, data, "row")
    except BadValue as error:
        error.field = error.field.removeprefix("row.").split("[")[0].split(".")[0]
        error.sentence = error.sentence.removeprefix("row.")
        raise


def _whole(row: dict[str, str], column: str) -> int:
    text = row.get(column, "")
    if not text.isascii() or not text.isdigit() or len(text) > 12:
        raise BadValue(f"{text[:60]!r} is not a whole number.", "Give one such as 8.", field=column)
    return int(text)


def _split(text: str, separator: str = ";") -> list[str]:
    """At every separator that has no backslash before it; empty parts are left out."""
    found = re.findall(rf"(?:[^\\{separator}]|\\.)+", text, re.S)
    return [part.strip(" ") for part in found if part.strip()]


def _bare(text: str) -> str:
    return re.sub(r"\\(.)", r"\1", text, flags=re.S)


def _kept(text: str) -> str:
    """With a backslash before everything that separates."""
    return re.sub(r"([\\;@:!=/\s])", r"\\\1", text)


def _disks(text: str, column: str) -> list[dict[str, Any]]:
    found = []
    for part in _split(text):
        what, *because = _split(part, "!")
        name, *rest = _split(what, ":")
        size, *pool = _split(rest[0], "@") if rest else [""]
        if len(pool) != 1 or not size.isdigit() or len(because) > 1:
            raise BadValue(f"{part[:60]!r} is no disk.", "Write it as disk0:80@pool.", field=column)
        disk = {"name": _bare(name), "size_gib": int(size), "storage_pool": _bare(pool[0])}
        found.append({**disk, "left_out_because": _bare(because[0]) if because else None})
    return found


def _nics(text: str, column: str) -> list[dict[str, Any]]:
    found = []
    for part in _split(text):
        words = _split(part, r"\s")
        named = _split(words[0], "@")
        if len(named) != 2:
            said = "Write it as nic0@network mac=02:00:5e:10:00:01 10.20.4.17/24."
            raise BadValue(f"{part[:60]!r} is no adapter.", said, field=column)
        nic: dict[str, Any] = {
            "name": _bare(named[0]),
            "network": _bare(named[1]),
            "mac": "",
            "addresses": [],
        }
        nic |= {"gateways": [], "dns": []}
        for word in words[1:]:
            key, has, value = word.partition("=")
            if word == "dhcp":
                nic["dhcp"] = True
            elif has and key == "mac":
                nic["mac"] = value.lower()
            elif has and key in ("gw", "dns"):
                nic["gateways" if key == "gw" else "dns"].append(value)
            else:
                nic["addresses"].append(word)
        found.append(nic)
    return found


def _tags(text: str, column: str) -> dict[str, str]:
    found = {}
    for part in _split(text):
        pieces = _split(part, "=")
        if not 1 <= len(pieces) <= 2 or "=" not in part:
            raise BadValue(f"{part[:60]!r} is no tag.", "Write it as key=value.", field=column)
        found[_bare(pieces[0])] = _bare(pieces[1]) if len(pieces) == 2 else ""
    return found


def _offers(text: str, column: str) -> list[dict[str, Any]]:
    found = []
    for part in _split(text):
        pieces = _split(part, "/")
        if len(pieces) != 3 or not pieces[2].isdigit():
            raise BadValue(f"{part[:60]!r} is no service.", "Write it as book-api/https/443.", field=column)
        found.append({"name": _bare(pieces[0]), "protocol": pieces[1], "port": int(pieces[2])})
    return found


def _uses(text: str, column: str) -> list[str]:
    return [_bare(part) for part in _split(text)]


_PARSE: dict[str, Callable[[str, str], Any]] = {
    "disks": _disks, "nics": _nics, "tags": _tags, "offers": _offers,
    "uses": _uses, "guest_agent": yes_no, "needs_key": yes_no,
}  # fmt: skip


def write_csv(workloads: Iterable[tuple[str, Workload]]) -> Iterator[str]:
    """The file, line by line, for (site, workload). No cell begins like a formula."""
    yield line(COLUMNS)
    for site, workload in workloads:
        yield line(
            (
                site, workload.name, workload.os_family, str(workload.cores), str(workload.memory_mib),
                "; ".join(map(_disk_text, workload.disks)), "; ".join(map(_nic_text, workload.nics)),
                "; ".join(f"{_kept(key)}={_kept(value)}" for key, value in workload.tags.items()),
                workload.owner,
                workload.criticality, yes(workload.guest_agent), yes(workload.needs_key),
                "; ".join(map(_service_text, workload.offers)), "; ".join(map(_kept, workload.uses)),
                workload.host_pool, workload.folder,
            )
        )  # fmt: skip


def _disk_text(disk: Disk) -> str:
    left_out = f" !{_kept(disk.left_out_because)}" if disk.left_out_because is not None else ""
    return f"{_kept(disk.name)}:{disk.size_gib}@{_kept(disk.storage_pool)}{left_out}"


def _nic_text(nic: Nic) -> str:
    words = [f"{_kept(nic.name)}@{_kept(nic.network)}", f"mac={nic.mac}", *(["dhcp"] if nic.dhcp else [])]
    words += [str(address) for address in nic.addresses]
    words += [f"gw={text}" for text in nic.gateways] + [f"dns={text}" for text in nic.dns]
    return " ".join(words)


def _service_text(service: Service) -> str:
    return f"{_kept(service.name)}/{service.protocol}/{service.port}"
