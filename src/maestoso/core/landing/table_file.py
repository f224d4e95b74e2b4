"""The address table of a crosswalk as CSV, and the before-and-after table as CSV.

One row an adapter and side; several addresses in a cell are separated by spaces. What is written here reads
back unchanged.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from ipaddress import ip_address
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.csv_rows import line, read_rows, yes, yes_no
from maestoso.core.errors import BadValue
from maestoso.core.estate.checks import MAC
from maestoso.core.files import Complaint
from maestoso.core.model.crosswalk import SIDES, NicEntry, NicSide
from maestoso.core.model.estate import Nic

COLUMNS = (
    "workload", "nic", "side", "mac", "disconnected", "network", "dhcp", "addresses", "gateways", "dns",
)  # fmt: skip
NEEDED = ("workload", "nic", "side")
NONE_AT_ALL = "none"
"""Says 'no gateway' or 'no name server', where an empty cell says 'as before'."""

Adapters = dict[tuple[str, str], Nic]


def read_table(raw: bytes, known: Adapters) -> tuple[tuple[NicEntry, ...], tuple[Complaint, ...]]:
    """Entries for adapters that the source has, and what was wrong with other rows. Raises BadFile."""
    complaints: list[Complaint] = []
    found: dict[tuple[str, str], NicEntry] = {}
    filled: set[tuple[str, str, str]] = set()
    for number, row in read_rows(raw, COLUMNS, NEEDED, complaints):
        try:
            key = row.get("workload", ""), row.get("nic", "")
            if key not in known:
                near = next((nic for name, nic in known if name == key[0]), None)
                said = f"{key[0][:60]!r} has no adapter {key[1][:60]!r}." if near else (
                    f"There is no workload {key[0][:60]!r} at the source.")  # fmt: skip
                help_ = f"It has {near}." if near else "Look for it on the page Estate."
                raise BadValue(said, help_, field="nic" if near else "workload")
            side, mac = _side(row), _mac(row)
            wanted = SIDES if row["side"].lower() == "both" else (row["side"].lower(),)
            entry = found.get(key, NicEntry(workload=key[0], nic=key[1]))
            for name in wanted:
                if name not in SIDES:
                    said = f"{row['side'][:60]!r} is no side."
                    raise BadValue(said, "Give live, test or both.", field="side")
                if (*key, name) in filled:
                    raise BadValue(f"{key[1]} of {key[0]} has its {name} side above already.", field="side")
                filled.add((*key, name))
            changes: dict[str, Any] = dict.fromkeys(wanted, side)
            found[key] = replace(entry, **changes, mac=mac or entry.mac)
        except BadValue as error:
            said = f"{error.sentence} {error.remedy}".strip()
            complaints.append(Complaint(row=number, column=error.field, sentence=said))
    return tuple(found.values()), tuple(complaints)


def _mac(row: dict[str, str]) -> str | None:
    text = row.get("mac", "").lower()
    if text and not MAC.fullmatch(text):
        raise BadValue(f"{text[:60]!r} is no MAC.", "Write it like 02:00:5e:10:00:01.", field="mac")
    return text or None


def _side(row: dict[str, str]) -> NicSide:
    data: dict[str, Any] = {
        "disconnected": yes_no(row.get("disconnected", ""), "disconnected"),
        "dhcp": yes_no(row.get("dhcp", ""), "dhcp"),
        "network": row.get("network") or None,
    }
    for column in ("addresses", "gateways", "dns"):
        text = row.get(column, "")
        data[column] = None if not text else [] if text.lower() == NONE_AT_ALL else text.split()
    try:
        side = from_data(NicSide, data, "row")
    except BadValue as error:
        error.field = error.field.removeprefix("row.").split("[")[0]
        error.sentence = error.sentence.removeprefix("row.")
        raise
    for column in ("gateways", "dns"):
        for text in getattr(side, column) or ():
            check_address(text, column)
    return side


def check_address(text: str, field: str) -> None:
    """Raises BadValue for what is no address."""
    try:
        ip_address(text)
    except ValueError as error:
        remedy = "Write it like 10.20.4.1 or 2001:db8::1."
        raise BadValue(f"{text[:60]!r} is no address.", remedy, field=field) from error


def write_table(entries: Iterable[NicEntry]) -> Iterator[str]:
    """The file, line by line."""
    yield line(COLUMNS)
    for entry in entries:
        sides = [("both", entry.live)] if entry.live == entry.test else [
            ("live", entry.live), ("test", entry.test),
        ]  # fmt: skip
        for name, side in sides:
            if side is not None:
                yield line(
                    (
                        entry.workload, entry.nic, name, entry.mac or "", yes(side.disconnected),
                        side.network or "", yes(side.dhcp),
                        _cell(None if side.addresses is None else map(str, side.addresses)),
                        _cell(side.gateways), _cell(side.dns),
                    )
                )  # fmt: skip


def _cell(values: Iterable[str] | None) -> str:
    return "" if values is None else " ".join(values) or NONE_AT_ALL
