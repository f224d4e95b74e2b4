"""What is remembered for seconds, as it is: Django's own cache in memory copies every value by pickling it.

Only values that nobody changes may be kept: what is asked for is the very object that was set. All are in the
memory of one process and gone with it.
"""

from __future__ import annotations

import math
import threading
import time
from typing import Any

from cachetools import TLRUCache
from django.core.cache.backends.base import DEFAULT_TIMEOUT, BaseCache

MOST = 10_000
Kept = tuple[Any, float]
"""A value, and until when it is kept, by the clock of this process."""


_making = threading.Lock()
_remembered: dict[str, tuple[TLRUCache[str, Kept], threading.RLock]] = {}


def _new() -> TLRUCache[str, Kept]:
    return TLRUCache(MOST, lambda key, kept, now: kept[1], time.monotonic)


class Memory(BaseCache):
    """Django's interface in front of a dictionary whose entries end."""

    def __init__(self, location: str, params: dict[str, Any]) -> None:
        super().__init__(params)
        # Django makes one of these for every request; what is remembered is the process's.
        with _making:
            self._kept, self._lock = _remembered.setdefault(location, (_new(), threading.RLock()))

    def get(self, key: str, default: Any = None, version: int | None = None) -> Any:
        """The value, or ``default`` where there is none any more."""
        with self._lock:
            kept = self._kept.get(self.make_and_validate_key(key, version=version))
        return default if kept is None else kept[0]

    def set(
        self, key: str, value: Any, timeout: float | None = DEFAULT_TIMEOUT, version: int | None = None
    ) -> None:
        """Keep a value for ``timeout`` seconds."""
        made = self.make_and_validate_key(key, version=version)
        with self._lock:
            self._kept[made] = value, self._until(timeout)

    def add(
        self, key: str, value: Any, timeout: float | None = DEFAULT_TIMEOUT, version: int | None = None
    ) -> bool:
        """Keep a value where there is none; whether there was none."""
        made = self.make_and_validate_key(key, version=version)
        with self._lock:
            if made in self._kept:
                return False
            self._kept[made] = value, self._until(timeout)
            return True

    def touch(self, key: str, timeout: float | None = DEFAULT_TIMEOUT, version: int | None = None) -> bool:
        """Keep what there is for ``timeout`` seconds from now; whether there was anything."""
        with self._lock:
            kept = self._kept.get(self.make_and_validate_key(key, version=version))
            if kept is None:
                return False
            self.set(key, kept[0], timeout, version)
            return True

    def delete(self, key: str, version: int | None = None) -> bool:
        """Forget a value; whether there was one."""
        with self._lock:
            return self._kept.pop(self.make_and_validate_key(key, version=version), None) is not None

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._kept.clear()

    def _until(self, timeout: float | None) -> float:
        wanted = self.default_timeout if timeout is DEFAULT_TIMEOUT else timeout
        return math.inf if wanted is None else time.monotonic() + wanted
