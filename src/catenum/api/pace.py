"""What isolation levels cost under load, from one client to many hundreds."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Unpack

from catenum import samples
from catenum.api.files import require
from catenum.api.lengths import Duration, milliseconds
from catenum.api.scenarios import RunOptions, RunRequest, ScenarioSource, load, request
from catenum.api.servers import engine_for, refuse_profile
from catenum.core.errors import CatenumError, InputError
from catenum.core.pace.results import PaceResult
from catenum.core.scenario.model import Retry
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.servers import rules_of
from catenum.core.text import suggestion
from catenum.engines import clock
from catenum.engines.ports import Engine
from catenum.engines.targets import Target
from catenum.lab.load.pace import OWN_CONNECTIONS, Pace, PaceOptions

RETRIES, MOST_RETRIES = 10, 100
DEFAULT_WORK = "random-rows"
CLIENTS = (1, 4, 16, 64)
#: Connections that every private server admits.
ADMITTED = 180


class PaceStopped(Exception):  # what was measured is no error
    """A load that ended early, with what was measured so far, and why it ended."""

    def __init__(self, result: PaceResult, problem: BaseException) -> None:
        super().__init__(result.stopped)
        self.result, self.problem = result, problem


def pace(
    scenario: ScenarioSource = DEFAULT_WORK,
    *,
    clients: Sequence[int] = CLIENTS,
    levels: Sequence[str] = (),
    time_limit: Duration = "10s",
    retries: int = RETRIES,
    think: Duration = 0.0,
    rate: float | None = None,
    shares: Mapping[str, float] | None = None,
    seed: int = 1,
    **options: Unpack[RunOptions],
) -> PaceResult:
    """Run a scenario's transactions, or a shipped kind of work, with so many ``clients`` at each of
    ``levels``.

    ``time_limit``: of each step; ``think``: the pause between two transactions of a client;
    ``rate``: arrivals a second, else the load is closed; ``shares``: weights of the transactions.
    Raises PaceStopped where it was interrupted or the server was lost after something was measured;
    InputError, TargetError, LibraryError where nothing was.
    """
    require("scipy", "pace")  # for the intervals of what it measures
    require("gevent", "pace")
    file = work(scenario)
    weights = _known_shares(shares or {}, list(file.scenario.transactions))
    asked = request(file, options)
    refuse_profile(asked.target, "pace")
    how = PaceOptions(
        clients=tuple(clients),
        levels=_levels_of(levels, asked.target),
        for_ms=milliseconds(time_limit),
        retry=Retry(times=min(retries, MOST_RETRIES)) if retries else None,
        think_ms=milliseconds(think),
        rate=rate,
        shares=weights,
        seed=seed,
    )
    return _measured(asked, how, retries)


def work(source: ScenarioSource) -> ScenarioFile:
    """A kind of work by its name, else as every command reads a scenario. Raises InputError."""
    if isinstance(source, str) and source in samples.load_names() and not Path(source).exists():
        return read_scenario(samples.load_text(source).encode(), f"{source}.yaml")
    return load(source)


def _levels_of(asked: Sequence[str], target: Target) -> tuple[str, ...]:
    rules = rules_of(target.server).locks
    for level in asked:
        if level not in rules.levels:
            raise InputError(
                f"--levels: {target.server} has no level {level!r}",
                advice=suggestion(level, list(rules.levels)),
            )
    return tuple(asked or rules.distinct_levels)


def _known_shares(shares: Mapping[str, float], names: list[str]) -> dict[str, float]:
    for name in shares:
        if name not in names:
            raise InputError(
                f"--share names {name!r}, which is not a transaction",
                advice=suggestion(name, names),
            )
    return dict(shares)


def _measured(asked: RunRequest, how: PaceOptions, retries: int) -> PaceResult:
    """The result, with what ended it early; where nothing was measured by then, that is raised."""
    listener, steps = asked.listener, how.clients

    def heard(clients: int, done: int, whole: int, level: str) -> None:
        at = (steps.index(clients) + done / whole) / len(steps)
        listener.part(at, f"{clients:,} clients at {level}")

    started = clock.moment().isoformat()
    pace: Pace | None = None
    engine: Engine | None = None
    problem: BaseException | None = None
    more = _room_for(max(steps), asked.target)
    try:
        with engine_for(
            asked.where, asked.file, outside=asked.outside, more=more, listener=listener
        ) as engine:
            pace = Pace(engine, asked.scenario, how, file=asked.file, progress=heard)
            for _ in pace.run():
                pass
    except (KeyboardInterrupt, CatenumError) as error:
        problem = error
    finally:
        listener.clear()
    if pace is None or engine is None or not pace.steps:
        assert problem is not None
        raise problem
    info = engine.info
    result = PaceResult(
        scenario=asked.scenario.scenario,
        target=asked.target.shown,
        server=info.server,
        version=info.version,
        default_level=info.default_isolation,
        started=started,
        levels=how.levels,
        for_ms=how.for_ms,
        rate=how.rate,
        think_ms=how.think_ms,
        shares={
            name: how.shares.get(name, one.share or 1.0)
            for name, one in asked.scenario.transactions.items()
        },
        retries=retries,
        seed=how.seed,
        steps=tuple(pace.steps),
        notes=tuple(_notes(asked.target, how, pace)),
    )
    if problem is None:
        return result
    what = "interrupted" if isinstance(problem, KeyboardInterrupt) else str(problem)
    raise PaceStopped(replace(result, stopped=what), problem) from problem


def _room_for(clients: int, target: Target) -> dict[str, str]:
    """What a private server must be started with to admit all of them; one is started then."""
    if not target.private or clients + OWN_CONNECTIONS <= ADMITTED:
        return {}
    return {"max_connections": str(clients + 2 * OWN_CONNECTIONS)}


def _notes(target: Target, options: PaceOptions, pace: Pace) -> list[str]:
    notes = [
        "the data is loaded anew for each number of clients; the first round of turns, and a tenth"
        " of each turn, warm up and are not counted"
    ]
    if target.private:
        notes.append(
            "a private server does not wait for its disk and vacuums nothing by itself, so a commit"
            " costs less here than in production, and a lock is held for less time"
        )
    else:
        notes.append(
            "what else the server does (vacuum, purge, others' work) is part of the figures"
        )
    if pace.scenario.holds:
        notes.append(
            "rules (holds) are not checked under load: 'levels SCENARIO' says at which level they"
            " are kept"
        )
    if any(one.given_up for step in pace.steps for one in step.levels):
        notes.append(
            "latencies are of transactions that committed: those that failed for good are not"
            " among them"
        )
    if options.rate:
        notes.append("latency counts from the arrival, whether or not a client was free then")
    return notes
