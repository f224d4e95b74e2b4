"""What an inventory says beside what is known: new, changed field by field, gone."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from maestoso.core.codec import to_data
from maestoso.core.model.estate import Inventory

Kind = Literal[
    "host pool", "storage pool", "network", "workload", "front door", "limits", "folders", "door addresses"
]  # fmt: skip
COLLECTIONS: tuple[tuple[Kind, str], ...] = (
    ("host pool", "host_pools"),
    ("storage pool", "storage_pools"),
    ("network", "networks"),
    ("workload", "workloads"),
    ("front door", "front_doors"),
)
WHOLES: tuple[tuple[Kind, str], ...] = (
    ("limits", "limits"),
    ("folders", "folders"),
    ("door addresses", "door_addresses"),
)
"""Parts that differ as a whole."""


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldChange:
    """One field; both sides as text, empty where there was nothing."""

    field: str
    known: str
    said: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Difference:
    """One thing that differs. ``id`` names it when a person takes part of the differences over."""

    id: str
    kind: Kind
    name: str
    change: Literal["new", "changed", "gone"]
    fields: tuple[FieldChange, ...] = ()


def differences(known: Inventory, said: Inventory) -> tuple[Difference, ...]:
    """What would change if ``said`` were taken over."""
    found: list[Difference] = []
    for kind, collection in COLLECTIONS:
        before = {item.name: item for item in getattr(known, collection)}
        after = {item.name: item for item in getattr(said, collection)}
        found += _collection(kind, before, after)
    for kind, whole in WHOLES:
        mine, theirs = getattr(known, whole), getattr(said, whole)
        if mine != theirs:
            found.append(_made(kind, kind, "changed", tuple(_fields(to_data(mine), to_data(theirs)))))
    return tuple(found)


def _collection(kind: Kind, before: Mapping[str, Any], after: Mapping[str, Any]) -> Iterator[Difference]:
    for name, item in after.items():
        if name not in before:
            yield _made(kind, name, "new")
        elif before[name] != item:
            yield _made(kind, name, "changed", tuple(_fields(to_data(before[name]), to_data(item))))
    for name in before:
        if name not in after:
            yield _made(kind, name, "gone")


def _made(
    kind: Kind, name: str, change: Literal["new", "changed", "gone"], fields: tuple[FieldChange, ...] = ()
) -> Difference:
    return Difference(id=f"{kind}/{name}", kind=kind, name=name, change=change, fields=fields)


def _fields(known: Any, said: Any, at: str = "") -> Iterator[FieldChange]:
    if isinstance(known, dict) and isinstance(said, dict):
        for key in dict.fromkeys([*known, *said]):
            if known.get(key) != said.get(key):
                yield from _fields(known.get(key), said.get(key), f"{at}.{key}" if at else key)
    elif isinstance(known, list) and isinstance(said, list) and _named(known) and _named(said):
        yield from _fields({i["name"]: i for i in known}, {i["name"]: i for i in said}, at)
    else:
        yield FieldChange(field=at, known=in_words(known), said=in_words(said))


def _named(items: Sequence[Any]) -> bool:
    return all(isinstance(item, dict) and "name" in item for item in items)


def in_words(value: Any) -> str:
    """A value of an inventory as text for people."""
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(in_words(item) for item in value)
    if isinstance(value, dict):
        return ", ".join(
            f"{key} {in_words(item)}" for key, item in value.items() if item not in (None, "", [], {})
        )
    return str(value)


def merged(known: Inventory, said: Inventory, accepted: set[str]) -> Inventory:
    """``known`` with the accepted differences taken over from ``said``."""
    kept: dict[str, Any] = {
        whole: getattr(said if f"{kind}/{kind}" in accepted else known, whole) for kind, whole in WHOLES
    }
    for kind, collection in COLLECTIONS:
        before = {item.name: item for item in getattr(known, collection)}
        after = {item.name: item for item in getattr(said, collection)}
        items = []
        for name, item in before.items():
            if f"{kind}/{name}" not in accepted:
                items.append(item)
            elif name in after:
                items.append(after[name])
        items += [item for name, item in after.items() if name not in before and f"{kind}/{name}" in accepted]
        kept[collection] = tuple(items)
    return Inventory(**kept)
