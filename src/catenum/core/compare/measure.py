"""Counts and times with what can be said of them: rates with confidence intervals, percentiles, differences.

Intervals are exact (Clopper and Pearson 1934) at 95 %; differences of rates are tested by Fisher's exact test (1922);
intervals of ratios are bootstrapped over turns (Efron 1979).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

CONFIDENCE = 0.95
PER = 10_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Rate:
    """So many events in so many iterations, with the interval of the rate; all but the counts are per 10,000."""

    events: int
    iterations: int
    rate: float
    low: float
    high: float

    def __str__(self) -> str:
        if self.iterations == 0:
            return "no iterations"
        if self.events == 0:
            return f"none in {self.iterations:,} (below {self.high:.2g} in {PER:,} at {CONFIDENCE:.0%})"
        return f"{_told(self.rate)} in {PER:,} ({_told(self.low)} to {_told(self.high)})"


def _told(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:.3g}"


def rate(events: int, iterations: int) -> Rate:
    """The rate of ``events`` in ``iterations``. Where there were none, ``high`` is the one-sided bound."""
    if iterations == 0:
        return Rate(events=0, iterations=0, rate=0.0, low=0.0, high=float(PER))
    from scipy.stats import binomtest  # half a second to load: only where something is measured

    test = binomtest(events, iterations, alternative="two-sided" if events else "less")
    interval = test.proportion_ci(CONFIDENCE, method="exact")
    return Rate(
        events=events,
        iterations=iterations,
        rate=PER * events / iterations,
        low=PER * float(interval.low),
        high=PER * float(interval.high),
    )


def fewer(before: tuple[int, int], after: tuple[int, int]) -> bool:
    """Whether the rate is lower after than before, beyond what chance would explain; pairs are (events, iterations)."""
    import numpy as np
    from scipy.stats import fisher_exact

    (a, n), (b, m) = before, after
    if not n or not m:
        return False
    return bool(fisher_exact(np.array([[a, n - a], [b, m - b]]), alternative="greater").pvalue < 1 - CONFIDENCE)


@dataclass(frozen=True, slots=True, kw_only=True)
class Ratio:
    """A ratio of two things measured in turns, with its interval."""

    ratio: float
    low: float
    high: float

    def __str__(self) -> str:
        return f"{self.ratio:.2f} × ({self.low:.2f} to {self.high:.2f})"


def ratio(over: Sequence[float], under: Sequence[float]) -> Ratio:
    """The mean of the turns' ratios ``over``/``under``, its interval bootstrapped.

    Turns without ``under`` are left out.
    """
    pairs = [a / b for a, b in zip(over, under, strict=True) if b > 0]
    if not pairs:
        return Ratio(ratio=0.0, low=0.0, high=float("inf"))
    mean = sum(pairs) / len(pairs)
    if len(pairs) < 3:
        return Ratio(ratio=mean, low=0.0, high=float("inf"))
    from scipy.stats import bootstrap

    found = bootstrap(
        (pairs,), lambda values, axis: values.mean(axis=axis), confidence_level=CONFIDENCE, n_resamples=2000,
        method="percentile", rng=7,
    ).confidence_interval  # fmt: skip
    return Ratio(ratio=mean, low=float(found.low), high=float(found.high))


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """A figure with its interval, in the figure's own unit."""

    value: float
    low: float
    high: float


def percentile_spread(values: Sequence[float], share: float) -> Spread:
    """A percentile with the interval of its order statistics (binomial; Conover 1999, 3.2), in the values' unit."""
    ordered, n = sorted(values), len(values)
    if not n:
        return Spread(value=0.0, low=0.0, high=0.0)
    from scipy.stats import binom

    low, high = (int(binom.ppf(q, n, share)) for q in ((1 - CONFIDENCE) / 2, (1 + CONFIDENCE) / 2))
    return Spread(value=percentile(ordered, share), low=ordered[min(low, n - 1)], high=ordered[min(high, n - 1)])


def mean_spread(values: Sequence[float]) -> Spread:
    """A mean over turns with its bootstrapped interval, in the values' unit."""
    ones = [1.0] * len(values)
    found = ratio(values, ones)
    return Spread(value=found.ratio, low=found.low, high=found.high)


def percentile(values: Sequence[float], share: float) -> float:
    """The value below which ``share`` (0 to 1) of the values lie; 0 for none."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))] if ordered else 0.0
