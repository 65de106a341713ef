"""Counts and times with what can be said of them: rates with confidence intervals, percentiles,
differences.

Intervals of rates are exact (Clopper and Pearson 1934) at 95 %; differences of rates are tested by
permutation of paired turns (Fisher 1935); intervals of ratios are Student's, of their logarithms
over turns.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import exp, log, sqrt
from statistics import mean, stdev

CONFIDENCE = 0.95
PER = 10_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Rate:
    """So many events in so many iterations, with the interval of the rate; all but the counts are
    per 10,000.
    """

    events: int
    iterations: int
    rate: float
    low: float
    high: float

    def __str__(self) -> str:
        if self.iterations == 0:
            return "no iterations"
        if self.events == 0:
            return (
                f"none in {self.iterations:,} (below {self.high:.2g} in {PER:,} at"
                f" {CONFIDENCE:.0%})"
            )
        return (
            f"{_described(self.rate)} in {PER:,} ({_described(self.low)} to"
            f" {_described(self.high)})"
        )


def _described(value: float) -> str:
    return f"{value:,.0f}" if value >= 100 else f"{value:.3g}"


def rate(events: int, iterations: int) -> Rate:
    """The rate of ``events`` in ``iterations``. Where there were none, ``high`` is the one-sided
    bound.
    """
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


#: By how much a rate must be lower, as a share of it.
LEAST_EFFECT = 0.2
#: The chance, in each direction, that two equal variants are told apart. Turns of one variant
#: resemble each other more than the test assumes (both run where the machine happens to put them),
#: so this is less than it could be.
MISTAKEN = 0.005
#: Events and iterations of one turn.
Turn = tuple[int, int]


def fewer(before: Sequence[Turn], after: Sequence[Turn]) -> bool:
    """Whether the rate is lower after than before, beyond what chance would explain; one entry for
    each turn of both.

    Turns that were made side by side are compared with each other, by the exact permutation test
    for paired samples (Fisher 1935; the two of a pair change places): rates differ from turn to
    turn by more than counts do by chance, as whatever else the machine does changes, and a test of
    all events together would take that for an effect. Each direction is tested at ``MISTAKEN``,
    since a caller asks for both. A difference of less than ``LEAST_EFFECT`` is none: that much
    comes of where the loops of a variant happen to run.
    """
    pairs = [(a / n, b / m) for (a, n), (b, m) in zip(before, after, strict=True) if n and m]
    one, other = (sum(column) for column in zip(*pairs, strict=True)) if pairs else (0.0, 0.0)
    if one <= 0 or other > one * (1 - LEAST_EFFECT) or MISTAKEN * 2 ** len(pairs) < 1:
        return False  # of so few pairs the rarest order of all is not rare enough
    from scipy.stats import permutation_test

    found = permutation_test(
        list(zip(*pairs, strict=True)),
        lambda x, y, axis: (x - y).mean(axis=axis),
        permutation_type="samples",
        vectorized=True,
        alternative="greater",
        n_resamples=9999,
        random_state=7,
    )
    return bool(found.pvalue < MISTAKEN)


@dataclass(frozen=True, slots=True, kw_only=True)
class Ratio:
    """A ratio of two things measured in turns, with its interval."""

    ratio: float
    low: float
    high: float

    def __str__(self) -> str:
        return f"{self.ratio:.2f} × ({self.low:.2f} to {self.high:.2f})"


def ratio(over: Sequence[float], under: Sequence[float]) -> Ratio:
    """The geometric mean of the turns' ratios ``over``/``under``, with Student's interval of their
    logarithms.

    Turns in which one of them is 0 are left out.
    """
    logs = [log(a / b) for a, b in zip(over, under, strict=True) if a > 0 < b]
    if not logs:
        return Ratio(ratio=0.0, low=0.0, high=float("inf"))
    middle = mean(logs)
    if len(logs) < 3:
        return Ratio(ratio=exp(middle), low=0.0, high=float("inf"))
    from scipy.stats import t

    reach = float(t.ppf((1 + CONFIDENCE) / 2, len(logs) - 1)) * stdev(logs) / sqrt(len(logs))
    return Ratio(ratio=exp(middle), low=exp(middle - reach), high=exp(middle + reach))


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """A figure with its interval, in the figure's own unit."""

    value: float
    low: float
    high: float


def percentile_spread(values: Sequence[float], share: float) -> Spread:
    """A percentile with the interval of its order statistics (binomial; Conover 1999, 3.2), in the
    values' unit.
    """
    ordered, n = sorted(values), len(values)
    if not n:
        return Spread(value=0.0, low=0.0, high=0.0)
    from scipy.stats import binom

    low, high = (int(binom.ppf(q, n, share)) for q in ((1 - CONFIDENCE) / 2, (1 + CONFIDENCE) / 2))
    return Spread(
        value=percentile(ordered, share),
        low=ordered[min(low, n - 1)],
        high=ordered[min(high, n - 1)],
    )


def mean_spread(values: Sequence[float]) -> Spread:
    """A mean over turns with Student's interval, in the values' unit."""
    if not values:
        return Spread(value=0.0, low=0.0, high=0.0)
    middle = mean(values)
    if len(values) < 3:
        return Spread(value=middle, low=0.0, high=float("inf"))
    from scipy.stats import t

    reach = float(t.ppf((1 + CONFIDENCE) / 2, len(values) - 1)) * stdev(values) / sqrt(len(values))
    return Spread(value=middle, low=max(0.0, middle - reach), high=middle + reach)


def percentile(values: Sequence[float], share: float) -> float:
    """The value below which ``share`` (0 to 1) of the values lie; 0 for none."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))] if ordered else 0.0
