"""The address rules tried on a list of addresses, as texts."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from maestoso.core.addressing import block
from maestoso.core.addressing.block import Family
from maestoso.core.addressing.rule_table import NONE, RuleTable

DOES_NOT_FIT = "does not fit"
BY_TABLE = "by the table"
BY_DHCP = "DHCP"


def families(texts: Sequence[str]) -> dict[Family, Sequence[int]]:
    """Positions of the addresses of each family."""
    six = [index for index, text in enumerate(texts) if ":" in text]
    if not six:
        return {4: range(len(texts))}
    return {4: [index for index, text in enumerate(texts) if ":" not in text], 6: six}


def readdress(texts: Sequence[str], table: RuleTable) -> tuple[list[str], list[str]]:
    """What each address becomes, and the prefix of the rule that decides (empty for none).

    Raises BadValue naming the first text that is no address.
    """
    after, rules = [""] * len(texts), [""] * len(texts)
    prefixes = [*table.names, ""]  # the last one for 'no rule', which is -1
    for family, positions in families(texts).items():
        if not positions:
            continue
        moved = table.move(block.parse([texts[at] for at in positions], family), family)
        made, by = block.format_block(moved.words), moved.rule.tolist()
        for index in np.flatnonzero(~moved.fits | np.isin(moved.rule, table.without_address)).tolist():
            made[index] = _in_words(table, by[index])
        if len(positions) == len(texts):
            return made, [prefixes[rule] for rule in by]
        for at, text, rule in zip(positions, made, by, strict=True):
            after[at], rules[at] = text, prefixes[rule]
    return after, rules


def _in_words(table: RuleTable, rule: int) -> str:
    """What stands in the place of an address where the rules give none."""
    if rule == NONE:
        return ""
    action = table.sides[rule].action
    return BY_TABLE if action == "table" else BY_DHCP if table.sides[rule].to is None else DOES_NOT_FIT
