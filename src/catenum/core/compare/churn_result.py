"""What transactions in loops gave, as values."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from catenum.core.compare.measure import rate
from catenum.core.display import Displayed
from catenum.core.record.recording import Recording, TargetInfo

FORMAT = "catenum-churn/1"
FAILURES = ("deadlock", "refused", "timeout", "rejected")


@dataclass(frozen=True)
class DeadlockKind:
    """One kind of deadlock.

    How often it was met, after how many iterations first, and a recording of that first one.
    """

    text: str
    times: int
    first_iteration: int
    recording: Recording


@dataclass(frozen=True, kw_only=True)
class LoopResult:
    """The loops of one transaction; latencies in ms."""

    iterations: int
    failures: Mapping[str, int]
    p50_ms: float
    p95_ms: float
    p99_ms: float


@dataclass(frozen=True, kw_only=True)
class StuckLoopResult:
    """A loop that still waits at the end, and with what."""

    loop: str
    statement: int
    sql: str


@dataclass(frozen=True, kw_only=True)
class ChurnResult(Displayed):
    """All loops. ``lock_waits``: for rows, None where the server does not count them; ``waiting``:
    loops that waited, in the mean of ``samples``, None where none were taken. ``hidden``: deadlocks
    that the server counted and no client received, None where its count could not be compared;
    ``unread``: those of which it had no report any more. ``interrupted``: by a person.
    """

    scenario: str
    target: TargetInfo
    committed: bool
    iterations: int
    seconds: float
    lock_waits: int | None
    waiting: float | None
    samples: int
    stuck: tuple[StuckLoopResult, ...]
    failures: Mapping[str, int]
    transactions: Mapping[str, LoopResult]
    deadlocks: tuple[DeadlockKind, ...]
    unread: int
    hidden: int | None
    handlers: Mapping[str, tuple[str, ...]]
    interrupted: bool

    @property
    def per_second(self) -> float:
        """Iterations of all loops."""
        return round(self.iterations / self.seconds, 1) if self.seconds else 0.0

    @property
    def found_any(self) -> bool:
        """Whether some iteration did not end well."""
        return bool(self.stuck or self.hidden or any(self.failures.values()))


def to_plain(result: ChurnResult, files: Sequence[Path] = ()) -> dict[str, Any]:
    """As ``core.formats.ChurnFile``; ``files``: the recordings that were written."""
    return {
        "format": FORMAT,
        "scenario": result.scenario,
        "seconds": round(result.seconds, 3),
        "iterations": result.iterations,
        "per_second": result.per_second,
        "lock_waits": result.lock_waits,
        "waiting_at_a_look": result.waiting,
        "stuck": [
            {"loop": one.loop, "statement": one.statement, "sql": one.sql} for one in result.stuck
        ],
        "failures": {
            kind: {
                "count": count,
                "per_10000": (found := rate(count, result.iterations)).rate,
                "low": found.low,
                "high": found.high,
            }
            for kind, count in result.failures.items()
        },
        "transactions": {
            name: {
                "iterations": one.iterations,
                "failures": dict(one.failures),
                "p50_ms": one.p50_ms,
                "p95_ms": one.p95_ms,
                "p99_ms": one.p99_ms,
            }
            for name, one in result.transactions.items()
        },
        "cycles": [
            {
                "cycle": one.text,
                "times": one.times,
                "first_iteration": one.first_iteration,
                "findings": [finding.id for finding in one.recording.findings],
            }
            for one in result.deadlocks
        ],
        "cycles_not_read": result.unread,
        "deadlocks_hidden": result.hidden,
        "handlers": {name: list(conditions) for name, conditions in result.handlers.items()},
        "files": [str(path) for path in files],
    }
