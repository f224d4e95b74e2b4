"""Many addresses at once, as arrays: text in, arithmetic, text out.

IPv4 is one column of 32 bits in 64; IPv6 is two columns, the high and the low 64 bits.
"""

from __future__ import annotations

from collections.abc import Sequence
from ipaddress import IPv6Address
from socket import AF_INET, AF_INET6, inet_ntop, inet_pton
from typing import Literal

import numpy as np
import numpy.typing as npt

from maestoso.core.errors import BadValue

Family = Literal[4, 6]
Words = npt.NDArray[np.uint64]
"""Shape (n, 1) for IPv4 and (n, 2) for IPv6, the most significant word first."""

_PAIRS = [f"{high}.{low}" for high in range(256) for low in range(256)]
_HEADS = [f"{pair}." for pair in _PAIRS]
_ODD = 1 << 48
"""Below this, IPv6 addresses may hold an IPv4 address, which the C library writes with dots."""


def parse(texts: Sequence[str], family: Family) -> Words:
    """The addresses of one family. Raises BadValue naming the first that is none.

    ``inet_pton`` is strict (``10.1`` is no address), as RFC 6943 section 3.1.1 asks.
    """
    kind = AF_INET if family == 4 else AF_INET6
    try:
        raw = b"".join([inet_pton(kind, text) for text in texts])
    except (OSError, ValueError) as error:
        wrong = next(text for text in texts if not _is_address(text, kind))
        raise BadValue(
            f"{wrong[:60]!r} is no IPv{family} address.", "Write it like 10.20.4.17 or 2001:db8::17."
        ) from error
    if family == 4:
        return np.frombuffer(raw, dtype=">u4").astype(np.uint64).reshape(-1, 1)
    return np.frombuffer(raw, dtype=">u8").astype(np.uint64).reshape(-1, 2)


def _is_address(text: str, kind: int) -> bool:
    try:
        inet_pton(kind, text)
    except (OSError, ValueError):
        return False
    return True


def words(numbers: Sequence[int], family: Family) -> Words:
    """Whole numbers as arrays."""
    if family == 4:
        return np.array(numbers, dtype=np.uint64).reshape(-1, 1)
    raw = b"".join([number.to_bytes(16, "big") for number in numbers])
    return np.frombuffer(raw, dtype=">u8").astype(np.uint64).reshape(-1, 2)


def numbers(block: Words) -> list[int]:
    """Arrays as whole numbers."""
    if block.shape[1] == 1:
        return [int(value) for value in block[:, 0].tolist()]
    return [high << 64 | low for high, low in block.tolist()]


def format_block(block: Words) -> list[str]:
    """The usual text of every address (RFC 5952 for IPv6)."""
    if block.shape[1] == 1:
        column = block[:, 0]
        pairs = zip((column >> np.uint64(16)).tolist(), (column & np.uint64(0xFFFF)).tolist(), strict=True)
        return [_HEADS[high] + _PAIRS[low] for high, low in pairs]
    raw = block.astype(">u8").tobytes()
    texts = [inet_ntop(AF_INET6, raw[at : at + 16]) for at in range(0, len(raw), 16)]
    for index in np.flatnonzero((block[:, 0] == 0) & (block[:, 1] < np.uint64(_ODD))).tolist():
        texts[index] = str(IPv6Address(int(block[index, 1])))
    return texts


def add(left: Words, right: Words) -> Words:
    """Sums modulo the size of the family."""
    total = left + right
    if left.shape[1] == 1:
        return total & np.uint64(0xFFFFFFFF)
    total[:, 0] += total[:, 1] < left[:, 1]
    return total


def subtract(left: Words, right: Words) -> Words:
    """Differences modulo the size of the family."""
    rest = left - right
    if left.shape[1] == 1:
        return rest & np.uint64(0xFFFFFFFF)
    rest[:, 0] -= left[:, 1] < right[:, 1]
    return rest


def at_most(left: Words, right: Words) -> npt.NDArray[np.bool_]:
    """Where ``left`` is not above ``right``."""
    if left.shape[1] == 1:
        return left[:, 0] <= right[:, 0]
    same = left[:, 0] == right[:, 0]
    lower: npt.NDArray[np.bool_] = (left[:, 0] < right[:, 0]) | (same & (left[:, 1] <= right[:, 1]))
    return lower


def positions(starts: Words, block: Words) -> npt.NDArray[np.int64]:
    """For every address the last of the sorted ``starts`` that is not above it; -1 where all are above."""
    if block.shape[1] == 1:
        return np.searchsorted(starts[:, 0], block[:, 0], side="right") - 1
    keys = starts.astype(">u8").tobytes()
    wanted = block.astype(">u8").tobytes()
    # Sixteen bytes, big end first, compare like the numbers they write.
    sorted_keys = np.frombuffer(keys, dtype="S16")
    return np.searchsorted(sorted_keys, np.frombuffer(wanted, dtype="S16"), side="right") - 1
