"""What loops of one variant gave, beside those of the scenario as it is."""

from __future__ import annotations

from dataclasses import dataclass

from catenum.core.compare.measure import Rate, Ratio, Spread
from catenum.core.compare.verdict import Verdict


@dataclass(frozen=True)
class LoopComparison:
    """The results of a variant's loops, and how it compares with the baseline."""

    name: str
    changes: tuple[str, ...]
    iterations: int
    deadlocks: Rate
    conflicts: Rate
    lock_waits: int | None
    locks: int | None
    p50_ms: float
    p95_ms: Spread
    per_second: Spread
    faster: Ratio | None
    verdict: Verdict | None
