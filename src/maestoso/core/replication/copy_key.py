"""The key of a group's encrypted copies is told from another by its fingerprint, which gives nothing away."""

from __future__ import annotations

import hashlib

SHORTEST_KEY, LONGEST_KEY = 16, 4096


def fingerprint(group: str, key: str) -> str:
    """16 hexadecimal digits: scrypt (RFC 7914) of the key, salted with the group's code.

    Slow on purpose (about 50 ms), so that nobody finds a key by trying many against its fingerprint.
    """
    return hashlib.scrypt(key.encode(), salt=group.encode(), n=2**14, r=8, p=1, dklen=8).hex()
