"""What a load measured, turn by turn, and the figures of each level at each number of clients.

Within a step all levels take short turns, in a random order in each round. What drifts (the
machine, the size of the data) then hits all alike, and a level is compared with the server's
default level by rounds: the interval of a ratio comes from drawing whole rounds anew (bootstrap;
Efron and Tibshirani 1993, chapters 10 and 13).
"""

from __future__ import annotations

import warnings
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any

from catenum.core.compare.measure import CONFIDENCE, Ratio, Spread, percentile
from catenum.core.servers.rules import STANDARD_LEVELS

#: Times that rounds are drawn anew.
RESAMPLES = 4000
#: A load process that is busy for this part of a turn cannot offer more.
BUSY = 0.9
#: Turns of one level that differ by more than this factor were not measured in one state of things.
SCATTER = 3
#: A turn should have room for so many transactions of a client one after another.
SLOW = 3


@dataclass(slots=True, kw_only=True)
class TurnCounts:
    """What transactions of one turn amount to.

    ``commits``: within the time in which they are counted; ``finished``: all. ``retries``: attempts
    after the first. ``latencies``: in ms, from the begin of the first attempt (in an open load:
    from the arrival) to the commit, of a sample where there are very many. ``given_up``: failures
    by kind that no retry followed; ``failures``: all. ``cut_off``: transactions that would have
    been tried again after the end of the turn. ``unserved``: arrivals that nobody had begun at the
    end; their waiting up to then is among the latencies.
    """

    commits: int = 0
    finished: int = 0
    retries: int = 0
    latencies: list[float] = field(default_factory=list)
    failures: Counter[str] = field(default_factory=Counter)
    given_up: Counter[str] = field(default_factory=Counter)
    arrivals: int = 0
    unserved: int = 0
    cut_off: int = 0

    def add(self, other: TurnCounts) -> None:
        """Take in what another process counted."""
        for name in ("commits", "finished", "retries", "arrivals", "unserved", "cut_off"):
            setattr(self, name, getattr(self, name) + getattr(other, name))
        self.latencies += other.latencies
        self.failures.update(other.failures)
        self.given_up.update(other.given_up)


@dataclass(slots=True, kw_only=True)
class TurnFigures(TurnCounts):
    """One turn of one level, over all load processes.

    ``seconds``: how long commits were counted. ``busy``: the greatest part of its time that a load
    process worked; ``server_cpu``, ``load_cpu``: the CPUs that the server and the load used in the
    mean, of ``cpus`` (the server's: None where it is not on this machine). ``ended_ms``: how long
    after the turn its last transaction ended.
    """

    level: str
    round: int
    seconds: float
    lock_waits: int | None = None
    waiting: float | None = None
    busy: float = 0.0
    load_cpu: float = 0.0
    server_cpu: float | None = None
    cpus: int = 1
    ended_ms: float = 0.0

    @property
    def per_second(self) -> float:
        """Committed transactions a second."""
        return self.commits / self.seconds if self.seconds else 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelFigures:
    """One level at one number of clients: ``per_second`` over its turns, and ``ratio`` to the
    default level (None: it is that level, or was not measured beside it).
    """

    level: str
    per_second: Spread
    ratio: Ratio | None
    turns: tuple[float, ...]
    committed: int
    retries: int
    retries_per_commit: float
    failures: dict[str, int]
    given_up: dict[str, int]
    p50_ms: float
    p95_ms: float
    p99_ms: float
    arrivals: int
    unserved: int
    cut_off: int
    turn_s: float
    lock_waits: int | None
    waiting: float | None
    load_cpu: float
    server_cpu: float | None
    busy: float
    cpus: int

    @property
    def bottleneck(self) -> bool:
        """Whether the load itself may have been the limit: a process of it, or the machine that it
        shares with the server.
        """
        return self.busy >= BUSY or self.shares_full_machine

    @property
    def unsteady(self) -> bool:
        """Whether its turns differ so much among themselves that intervals say too little."""
        return max(self.turns, default=0.0) > SCATTER * min(self.turns, default=0.0)

    @property
    def rough(self) -> bool:
        """Whether transactions took so long that a turn has few of them: what is cut off at its
        ends then counts.
        """
        return self.p95_ms > self.turn_s * 1e3 / SLOW

    @property
    def shares_full_machine(self) -> bool:
        """Whether server and load together used all of the machine."""
        return self.server_cpu is not None and (self.server_cpu + self.load_cpu >= BUSY * self.cpus)


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One number of clients. ``stopped``: why it was ended before all of its turns."""

    clients: int
    levels: tuple[LevelFigures, ...]
    stopped: str | None = None

    def at(self, level: str) -> LevelFigures | None:
        """The figures of a level, where it was measured."""
        return next((one for one in self.levels if one.level == level), None)


def step_of(
    clients: int, turns: Sequence[TurnFigures], default: str, stopped: str | None = None
) -> Step:
    """The figures of a step's turns, the levels in their order of strictness."""
    found = {turn.level for turn in turns}
    levels = [level for level in STANDARD_LEVELS if level in found]
    return Step(
        clients=clients,
        levels=tuple(_level(level, turns, default) for level in levels),
        stopped=stopped,
    )


def _level(level: str, turns: Sequence[TurnFigures], default: str) -> LevelFigures:
    mine = [turn for turn in turns if turn.level == level]
    whole = TurnCounts()
    for turn in mine:
        whole.add(turn)
    rates = [turn.per_second for turn in mine]
    waits = [turn.lock_waits for turn in mine if turn.lock_waits is not None]
    return LevelFigures(
        level=level,
        per_second=throughput(rates),
        ratio=None if level == default else _to_default(mine, turns, default),
        turns=tuple(round(rate, 2) for rate in rates),
        committed=whole.finished,
        retries=whole.retries,
        retries_per_commit=whole.retries / whole.finished if whole.finished else 0.0,
        failures=dict(sorted(whole.failures.items())),
        given_up=dict(sorted(whole.given_up.items())),
        p50_ms=percentile(whole.latencies, 0.5),
        p95_ms=percentile(whole.latencies, 0.95),
        p99_ms=percentile(whole.latencies, 0.99),
        arrivals=whole.arrivals,
        unserved=whole.unserved,
        cut_off=whole.cut_off,
        turn_s=_mean(turn.seconds for turn in mine) or 0.0,
        lock_waits=sum(waits) if waits else None,
        waiting=_mean(turn.waiting for turn in mine),
        load_cpu=_mean(turn.load_cpu for turn in mine) or 0.0,
        server_cpu=_mean(turn.server_cpu for turn in mine),
        busy=_mean(turn.busy for turn in mine) or 0.0,
        cpus=mine[0].cpus,
    )


def _to_default(
    mine: Sequence[TurnFigures], turns: Sequence[TurnFigures], default: str
) -> Ratio | None:
    """The ratio to the default level by rounds; None where it was not measured beside."""
    base = {turn.round: turn.per_second for turn in turns if turn.level == default}
    pairs = [(turn.per_second, base[turn.round]) for turn in mine if turn.round in base]
    if not pairs:
        return None
    over, under = zip(*pairs, strict=True)
    return ratio_of_turns(over, under, paired=True)


def _mean(values: Iterable[float | None]) -> float | None:
    """Of those that are known; None where none is."""
    known = [value for value in values if value is not None]
    return sum(known) / len(known) if known else None


def throughput(turns: Sequence[float]) -> Spread:
    """The mean of the turns' commits a second, with its bootstrapped interval."""
    value = _mean(turns) or 0.0
    if len(turns) < 3:
        return Spread(value=value, low=0.0, high=float("inf"))
    low, high = _interval(lambda x, axis: x.mean(axis=axis), turns)
    return Spread(value=value, low=low, high=high)


def ratio_of_turns(over: Sequence[float], under: Sequence[float], *, paired: bool) -> Ratio:
    """The mean of some turns over that of others. ``paired``: those of the same rounds stand at the
    same places, and are drawn together.
    """
    base, value = _mean(under), _mean(over)
    if not base or value is None:
        return Ratio(ratio=0.0, low=0.0, high=float("inf"))
    if min(len(over), len(under)) < 3:
        return Ratio(ratio=value / base, low=0.0, high=float("inf"))
    low, high = _interval(
        lambda x, y, axis: x.mean(axis=axis) / y.mean(axis=axis), over, under, paired=paired
    )
    return Ratio(ratio=value / base, low=low, high=high)


def _interval(
    statistic: Callable[..., Any], *samples: Sequence[float], paired: bool = False
) -> tuple[float, float]:
    import numpy as np
    from scipy.stats import bootstrap  # half a second to load: only where something is measured

    if all(max(one) == min(one) for one in samples):
        same = float(statistic(*(np.array(one) for one in samples), axis=0))
        return same, same
    # where turns have no commit, a resample may have none at all
    with np.errstate(divide="ignore", invalid="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        found = bootstrap(
            samples,
            statistic,
            paired=paired,
            vectorized=True,
            method="percentile",
            confidence_level=CONFIDENCE,
            n_resamples=RESAMPLES,
            random_state=7,
        ).confidence_interval
    if np.isnan(found.low) or np.isnan(found.high):
        return 0.0, float("inf")  # nothing can be said
    return float(found.low), float(found.high)
