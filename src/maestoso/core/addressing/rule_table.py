"""The address rules of one side, laid out so that any number of addresses is looked up at once.

Nested prefixes are flattened to disjoint intervals, each owned by the longest prefix that holds it; then a
binary search finds the rule of an address, and one addition moves it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from maestoso.core.addressing import block
from maestoso.core.addressing.block import Family, Words
from maestoso.core.model.crosswalk import AddressRule, Readdress, Side
from maestoso.core.model.estate import Prefix

NONE = -1
FAMILIES: tuple[Family, ...] = (4, 6)


@dataclass(frozen=True, slots=True)
class Moved:
    """What became of a block: positions of the rules (-1: none), the addresses, and whether they fit."""

    rule: npt.NDArray[np.int64]
    words: Words
    fits: npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class _Layout:
    starts: Words
    owners: npt.NDArray[np.int64]


class RuleTable:
    """``rules`` for one ``side``; the first of two rules with the same prefix counts."""

    def __init__(self, rules: Sequence[AddressRule], side: Side) -> None:
        self.rules = tuple(rules)
        self.sides = tuple(rule.live if side == "live" else rule.test for rule in rules)
        # The last entry stands for 'no rule', so that -1 picks it.
        self._layouts = {family: _flatten(self.rules, family) for family in FAMILIES}
        self.names = tuple(str(rule.prefix) for rule in rules)
        # Rules, and 'no rule', that say nothing of an address by themselves.
        self.without_address = np.array(
            [NONE, *(index for index, says in enumerate(self.sides)
                     if says.action == "table" or (says.to is None and says.action != "keep"))]
        )  # fmt: skip
        self._base: dict[Family, Words] = {}
        self._to: dict[Family, Words] = {}
        self._last: dict[Family, Words] = {}
        for family in FAMILIES:
            bases, targets, lasts = [0], [0], [_all_ones(family)]
            for rule, side_of in zip(self.rules, self.sides, strict=True):
                moves = _moves(rule.prefix, side_of) and rule.prefix.version == family
                bases.append(int(rule.prefix.network_address) if moves else 0)
                targets.append(int(side_of.to.network_address) if moves and side_of.to else 0)
                lasts.append(side_of.to.num_addresses - 1 if moves and side_of.to else _all_ones(family))
            self._base[family] = block.words(bases, family)
            self._to[family] = block.words(targets, family)
            self._last[family] = block.words(lasts, family)

    def move(self, addresses: Words, family: Family) -> Moved:
        """Look every address up and move it where its rule has a prefix to move it to."""
        layout = self._layouts[family]
        found = block.positions(layout.starts, addresses)
        rule = np.where(found >= 0, layout.owners[found], NONE)
        at = rule + 1
        host = block.subtract(addresses, self._base[family][at])
        fits = block.at_most(host, self._last[family][at])
        return Moved(rule=rule, words=block.add(host, self._to[family][at]), fits=fits)

    def rule_of(self, address: Any) -> AddressRule | None:
        """The rule of one address (an ``ipaddress`` value)."""
        family: Family = address.version
        moved = self.move(block.words([int(address)], family), family)
        return None if moved.rule[0] == NONE else self.rules[int(moved.rule[0])]


def _moves(prefix: Prefix, says: Readdress) -> bool:
    return says.action != "keep" and says.to is not None and says.to.version == prefix.version


def _all_ones(family: Family) -> int:
    return (1 << (32 if family == 4 else 128)) - 1


def _flatten(rules: Sequence[AddressRule], family: Family) -> _Layout:
    """Disjoint intervals by a sweep over the sorted prefixes, which nest or are apart, never overlap."""
    ordered = sorted(
        ((int(rule.prefix.network_address), rule.prefix.prefixlen, index)
         for index, rule in enumerate(rules) if rule.prefix.version == family),
    )  # fmt: skip
    starts, owners = [0], [NONE]
    open_prefixes: list[tuple[int, int]] = []  # where it ends, which rule

    def begin(at: int, owner: int) -> None:
        if starts[-1] == at:
            owners[-1] = owner
        else:
            starts.append(at)
            owners.append(owner)

    def close(until: int) -> None:
        while open_prefixes and open_prefixes[-1][0] <= until:
            end, _ = open_prefixes.pop()
            if end <= _all_ones(family):
                begin(end, open_prefixes[-1][1] if open_prefixes else NONE)

    before: tuple[int, int] | None = None
    for start, length, index in ordered:
        if (start, length) == before:
            continue
        before = start, length
        close(start)
        begin(start, index)
        open_prefixes.append((start + rules[index].prefix.num_addresses, index))
    close(_all_ones(family) + 1)
    return _Layout(block.words(starts, family), np.array(owners, dtype=np.int64))
