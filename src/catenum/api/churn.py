"""Transactions in loops, uncontrolled, until timing does it."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Literal, Unpack

from catenum.api.files import require
from catenum.api.lengths import Duration, milliseconds
from catenum.api.scenarios import RunOptions, ScenarioSource, request
from catenum.api.servers import engine_for
from catenum.api.trial import copies_of
from catenum.core.compare.churn_result import (
    FAILURES,
    ChurnResult,
    DeadlockKind,
    LoopResult,
    StuckLoopResult,
)
from catenum.core.compare.measure import percentile
from catenum.lab.load.churn import Churn
from catenum.lab.load.cycles import cycles
from catenum.lab.run.handlers import Handlers, handlers_of
from catenum.lab.run.loading import load

#: A turn of the loops, between two looks at what they gave (s).
STEP_S = 0.5
#: The file of the figures in a saved folder.
RESULT = "churn.json"
DEFAULT_S, LONGEST_S = 10.0, 3600.0


def churn(
    scenario: ScenarioSource,
    *,
    copies: Mapping[str, int] | None = None,
    time_limit: Duration | None = None,
    iterations: int | None = None,
    until: Literal["deadlock", "refused", "timeout"] | None = None,
    commit: bool = False,
    heard: Callable[[Churn, float | None], None] = lambda loops, left: None,
    **options: Unpack[RunOptions],
) -> ChurnResult:
    """Run the transactions in loops for ``time_limit`` (10 s by default), for so many
    ``iterations`` of each copy, or ``until`` something happened.

    ``copies``: loops of each transaction at once; ``commit``: each iteration, rather than rolling
    it back; ``heard``: called on the way, with how many seconds are left. Interrupted, it returns
    what there is by then. Raises InputError, TargetError, LibraryError.
    """
    require("scipy", "churn")  # for the intervals of what it counts
    asked = request(scenario, options)
    numbers = copies_of(copies or {}, asked)
    limit = LONGEST_S if iterations else DEFAULT_S
    if time_limit is not None:
        limit = milliseconds(time_limit) / 1000
    interrupted = False
    with engine_for(
        asked.where, asked.file, outside=asked.outside, listener=asked.listener
    ) as engine:
        load(engine, asked.scenario, asked.file)
        loops = Churn(
            engine, asked.scenario, copies=numbers, commit=commit, most=iterations, file=asked.file
        )
        try:
            loops.ready()
            while loops.seconds < limit and not loops.finished:
                loops.turn(min(STEP_S, limit - loops.seconds), until)
                heard(loops, None if iterations else limit - loops.seconds)
                if until and loops.failures(until):
                    break
        except KeyboardInterrupt:
            interrupted = True
        finally:
            loops.close()
        found = cycles(loops)
        handlers = handlers_of(engine.handlers(), loops.scenario)
    return _result(loops, found, handlers, commit=commit, interrupted=interrupted)


def _result(
    loops: Churn, found: list[DeadlockKind], handlers: Handlers, *, commit: bool, interrupted: bool
) -> ChurnResult:
    def latency(name: str, share: float) -> float:
        return round(percentile(loops.tallies[name].latencies, share), 3)

    return ChurnResult(
        scenario=loops.scenario.scenario,
        target=loops.engine.info,
        committed=commit,
        iterations=loops.iterations,
        seconds=loops.seconds,
        lock_waits=loops.waits if loops.engine.capabilities.counts_waits else None,
        waiting=round(loops.seen_waiting / loops.looks, 3) if loops.looks else None,
        samples=loops.looks,
        stuck=tuple(
            StuckLoopResult(loop=name, statement=number, sql=loops.sql_of(name, number))
            for name, number in loops.stuck
        ),
        failures={kind: loops.failures(kind) for kind in FAILURES},
        transactions={
            name: LoopResult(
                iterations=tally.iterations,
                failures=dict(tally.failures),
                p50_ms=latency(name, 0.5),
                p95_ms=latency(name, 0.95),
                p99_ms=latency(name, 0.99),
            )
            for name, tally in loops.tallies.items()
        },
        deadlocks=tuple(found),
        unread=loops.unread,
        hidden=loops.hidden,
        handlers={name: tuple(conditions) for name, conditions in handlers},
        interrupted=interrupted,
    )
