"""The address rules tried on a list of addresses, as texts."""

from __future__ import annotations

from collections.abc import Sequence

from maestoso.core.addressing import block
from maestoso.core.addressing.block import Family
from maestoso.core.addressing.rule_table import FAMILIES, NONE, RuleTable

DOES_NOT_FIT = "does not fit"
BY_TABLE = "by the table"
BY_DHCP = "DHCP"


def families(texts: Sequence[str]) -> dict[Family, list[int]]:
    """Positions of the addresses of each family."""
    found: dict[Family, list[int]] = {family: [] for family in FAMILIES}
    for index, text in enumerate(texts):
        found[6 if ":" in text else 4].append(index)
    return found


def readdress(texts: Sequence[str], table: RuleTable) -> tuple[list[str], list[str]]:
    """What each address becomes, and the prefix of the rule that decides (empty for none).

    Raises BadValue naming the first text that is no address.
    """
    after, rules = list(texts), [""] * len(texts)
    prefixes = [str(rule.prefix) for rule in table.rules]
    words = {"dhcp": BY_DHCP, "table": BY_TABLE}
    special = [words.get(side.action, "") if side.to is None or side.action == "table" else ""
               for side in table.sides]  # fmt: skip
    kept = [side.action == "keep" for side in table.sides]
    for family, positions in families(texts).items():
        if not positions:
            continue
        moved = table.move(block.parse([texts[at] for at in positions], family), family)
        made = zip(positions, moved.rule.tolist(), block.format_block(moved.words), moved.fits.tolist(),
                   strict=True)  # fmt: skip
        for at, rule, text, fits in made:
            if rule == NONE:
                after[at] = ""
                continue
            rules[at] = prefixes[rule]
            if not kept[rule]:
                after[at] = special[rule] or (text if fits else DOES_NOT_FIT)
    return after, rules
