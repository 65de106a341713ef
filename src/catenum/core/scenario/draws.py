"""Values that a load draws for a parameter: evenly, or skewed after Zipf.

Zipf's law gives the value of rank k a weight of 1/k^s (Gray et al., "Quickly Generating
Billion-Record Synthetic Databases", 1994, 3.2): the first value is the hottest, and the larger s,
the more often it is drawn. Skew makes contention.
"""

from __future__ import annotations

import random
from array import array
from bisect import bisect
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from itertools import accumulate

from catenum.core.record.values import Value

#: Skewed values have a table of weights in memory.
MOST_SKEWED = 1_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Draws:
    """Where a parameter's values come from: a list, or the whole numbers from ``low`` to ``high``.

    ``zipf``: the exponent s; None: evenly.
    """

    values: tuple[Value, ...] = ()
    low: int = 0
    high: int = -1
    zipf: float | None = None

    def __len__(self) -> int:
        return len(self.values) or self.high - self.low + 1

    def value(self, place: int) -> Value:
        """The value at a place, from 0."""
        return self.values[place] if self.values else Value(str(self.low + place), "number")

    def drawer(self, chance: random.Random) -> Callable[[], Value]:
        """What draws one value after another."""
        count, value = len(self), self.value
        if self.zipf is None:
            return lambda: value(int(chance.random() * count))
        table = _cumulated(count, self.zipf)
        whole = table[-1]
        return lambda: value(bisect(table, chance.random() * whole))


@lru_cache(maxsize=8)
def _cumulated(count: int, exponent: float) -> array[float]:
    return array("d", accumulate(rank**-exponent for rank in range(1, count + 1)))
