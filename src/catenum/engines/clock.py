"""The one module that reads a clock, so that a test may bring its own.

Elapsed time comes from a monotonic clock in milliseconds; wall time is for labels only.
"""

from __future__ import annotations

import time
from datetime import UTC, datetime


class Clock:
    """Milliseconds since it was made (or last reset), and the wall time."""

    def __init__(self) -> None:
        self._start = time.perf_counter()

    def reset(self) -> None:
        """Count from now."""
        self._start = time.perf_counter()

    def now_ms(self) -> float:
        """Milliseconds elapsed."""
        return (time.perf_counter() - self._start) * 1e3

    def wall(self) -> str:
        """The wall time as RFC 3339 in UTC."""
        return datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")

    def rest(self, milliseconds: float) -> None:
        """Let time pass, where nothing can be waited for (a retry's pause, a server that is starting)."""
        time.sleep(max(0.0, milliseconds) / 1e3)
