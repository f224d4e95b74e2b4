"""What is remembered for seconds, as it is: Django's own cache in memory copies every value by pickling it.

Only values that nobody changes may be kept: what is asked for is the very object that was set. All are in the
memory of one process and gone with it.
"""

from __future__ import annotations

from typing import Any

from django.core.cache.backends.base import DEFAULT_TIMEOUT, BaseCache
from django.core.cache.backends.locmem import LocMemCache


class Memory(LocMemCache):
    """Django's cache in memory, without the copies."""

    incr = BaseCache.incr  # by get and set: that of the parent reads a copy

    def get(self, key: str, default: Any = None, version: int | None = None) -> Any:
        """The value, or ``default`` where there is none any more."""
        made = self.make_and_validate_key(key, version=version)
        with self._lock:
            if self._has_expired(made):
                self._delete(made)
                return default
            self._cache.move_to_end(made, last=False)
            return self._cache[made]

    def set(
        self, key: str, value: Any, timeout: float | None = DEFAULT_TIMEOUT, version: int | None = None
    ) -> None:
        """Keep a value for ``timeout`` seconds."""
        made = self.make_and_validate_key(key, version=version)
        with self._lock:
            self._set(made, value, timeout)

    def add(
        self, key: str, value: Any, timeout: float | None = DEFAULT_TIMEOUT, version: int | None = None
    ) -> bool:
        """Keep a value where there is none; whether there was none."""
        made = self.make_and_validate_key(key, version=version)
        with self._lock:
            if free := self._has_expired(made):
                self._set(made, value, timeout)
            return free
