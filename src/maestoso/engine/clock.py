"""The only module that reads the system clock."""

from __future__ import annotations

import time
from datetime import UTC, datetime


class SystemClock:
    """Wall time for what is recorded, monotonic time for how long something has lasted here."""

    def now(self) -> datetime:
        """Aware UTC time."""
        return datetime.now(UTC)

    def monotonic(self) -> float:
        """Seconds that never go back; only differences mean anything."""
        return time.monotonic()
