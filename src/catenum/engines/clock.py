"""The one module that reads a clock, so that a test can bring its own (``replaced_by``).

Elapsed time comes from a monotonic clock; wall time is for labels only. A rule of the linter keeps
``time`` and ``datetime.now`` out of every other module.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime


@dataclass(frozen=True, slots=True)
class Source:
    """Where time comes from: seconds that only grow, the moment in UTC, and how to let time
    pass.
    """

    seconds: Callable[[], float]
    moment: Callable[[], datetime]
    sleep: Callable[[float], None]


_SYSTEM = Source(time.perf_counter, lambda: datetime.now(UTC), time.sleep)
_source = _SYSTEM


@contextmanager
def replaced_by(source: Source) -> Iterator[None]:
    """Take time from ``source`` inside the block."""
    global _source
    before, _source = _source, source
    try:
        yield
    finally:
        _source = before


def counter() -> Callable[[], float]:
    """The function that gives seconds, for loops in which every call counts; the same zero in all
    processes.
    """
    return _source.seconds


def seconds() -> float:
    """Seconds that only grow."""
    return _source.seconds()


def cpu_seconds() -> float:
    """The time that this process has worked on a CPU."""
    return time.process_time()


def moment() -> datetime:
    """The wall time, in UTC."""
    return _source.moment()


def wall() -> str:
    """The wall time as RFC 3339 in UTC."""
    return _source.moment().isoformat(timespec="milliseconds").replace("+00:00", "Z")


def milliseconds_between(earlier: str, later: str) -> float:
    """Between two wall times as ``wall`` gives them."""
    return (datetime.fromisoformat(later) - datetime.fromisoformat(earlier)).total_seconds() * 1e3


def seconds_of(moment: str) -> float:
    """A wall time as ``wall`` gives it, in seconds since 1970."""
    return datetime.fromisoformat(moment).timestamp()


class Clock:
    """Milliseconds since it was made (or last reset)."""

    def __init__(self) -> None:
        self._start = seconds()

    def reset(self) -> None:
        """Count from now."""
        self._start = seconds()

    def now_ms(self) -> float:
        """Milliseconds elapsed."""
        return (seconds() - self._start) * 1e3

    def wall(self) -> str:
        """The wall time as RFC 3339 in UTC."""
        return wall()

    def rest(self, milliseconds: float) -> None:
        """Let time pass, where nothing can be waited for (a retry's pause, a server that is
        starting).
        """
        _source.sleep(max(0.0, milliseconds) / 1e3)
