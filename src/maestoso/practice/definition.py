"""What a practice site is told of a group that it shall copy."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from maestoso.core.codec import from_data
from maestoso.core.errors import BadValue
from maestoso.core.model.estate import Link, Workload
from maestoso.core.model.protection import Group
from maestoso.practice.things import Failure


@dataclass(frozen=True, slots=True, kw_only=True)
class Definition:
    """A group, its workloads, the link its data comes over (if named), its key's fingerprint.

    ``digest`` tells this definition from others: it was given, and is repeated as it is.
    """

    group: Group
    digest: str
    workloads: tuple[Workload, ...]
    link: Link | None
    key: str = ""


def definition(args: Mapping[str, Any]) -> Definition:
    """From the arguments of an operation. Raises Failure for what cannot be read, or lacks its key."""
    try:
        group = from_data(Group, args.get("group"), "group")
        told = Definition(
            key=str((args.get("secrets") or {}).get("key", "")),
            group=group,
            # Who does not give it yet compares with this one.
            digest=str(args.get("digest") or group.digest()),
            workloads=tuple(from_data(Workload, item, "workload") for item in args.get("workloads", [])),
            link=from_data(Link, args["link"], "link") if args.get("link") else None,
        )
    except BadValue as error:
        raise Failure("bad-definition", f"{error.sentence} {error.remedy}") from error
    if told.group.policy.encrypted and not told.key:
        raise Failure(
            "key-missing", f"The copies of {told.group.code} shall be encrypted, and no key came along."
        )
    return told
