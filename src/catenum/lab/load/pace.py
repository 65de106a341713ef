"""A load at each isolation level, from one client to many hundreds.

For each number of clients the data is loaded anew and processes are started; then all levels take
short turns in a random order, round after round. A level is set at the begin of a turn and nobody
runs at two levels at once.
"""

from __future__ import annotations

import math
import multiprocessing as mp
import os
import random
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import pairwise
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess

import psutil

from catenum.core.compare.measure import percentile
from catenum.core.errors import InputError, TargetError
from catenum.core.pace.measured import SLOW, Step, TurnFigures, step_of
from catenum.core.scenario.model import Retry, Scenario, Transaction
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines import clock
from catenum.engines.child_processes import without_main_module
from catenum.engines.ports import Beginning, Engine, LoopPlan
from catenum.lab.load.churn import refuse_what_loops_cannot
from catenum.lab.load.pace_worker import RAMP, LoadJob, TurnReport, Turns, run_load
from catenum.lab.run.loading import load
from catenum.lab.run.parameters import domain_values

#: One turn of one level (s); with so many clients; with arrivals that do not wait for answers.
TURN_S, MANY, MANY_TURN_S, OPEN_TURN_S = 0.25, 200, 0.5, 2.0
#: The rounds of a step at least, since intervals come from them, and the shortest turn (s).
LEAST_ROUNDS, SHORTEST_S = 8, 0.05
#: Where transactions take long, there are fewer and longer ones.
FEW_ROUNDS = 4
#: For the last transactions of a turn to end; who waits longer waits for what nobody releases (s).
DRAIN_S = 10.0
#: For processes to connect all of their clients (s), and how often waiting sessions are counted.
READY_S, LOOK_S = 60.0, 0.1
#: Connections that a run needs beside those of its clients.
OWN_CONNECTIONS = 6


@dataclass(frozen=True, kw_only=True)
class PaceOptions:
    """How to load. ``for_ms``: how long each step; ``think_ms``: the mean pause of a client between
    two transactions; ``rate``: arrivals a second, None for a closed load; ``retry``: of
    transactions that have none of their own.
    """

    clients: tuple[int, ...]
    levels: tuple[str, ...]
    for_ms: float
    retry: Retry | None = None
    think_ms: float = 0.0
    rate: float | None = None
    shares: Mapping[str, float] = field(default_factory=dict)
    seed: int = 1


class Stopped(Exception):
    """A step was ended before all of its turns; the text says why."""


#: Called before each turn: clients, how many turns are done, of how many, and the level.
Progress = Callable[[int, int, int, str], None]


def refuse_what_cannot_pace(scenario: Scenario, file: ScenarioFile | None) -> None:
    """Raises InputError for a transaction that is no unit of a load."""
    refuse_what_loops_cannot(scenario, file, "committed each time")
    for name, transaction in scenario.transactions.items():
        if transaction.ends == "open":
            raise InputError(
                f"{name} stays open: in a load each transaction ends",
                place=file.place("transactions", name, "ends") if file else None,
            )


class Pace:
    """Measures one scenario on one engine's scratch space. After an interrupt ``steps`` has what
    was measured so far.
    """

    def __init__(
        self,
        engine: Engine,
        scenario: Scenario,
        options: PaceOptions,
        *,
        file: ScenarioFile | None = None,
        progress: Progress | None = None,
    ) -> None:
        self.engine, self.file, self.options = engine, file, options
        self.scenario = scenario.for_server(engine.info.server)
        refuse_what_cannot_pace(self.scenario, file)
        self.progress = progress
        self.steps: list[Step] = []
        self._chance = random.Random(options.seed)

    def run(self) -> Iterator[Step]:
        """Step after step. Raises TargetError, InputError."""
        self._refuse_too_many()
        for clients in self.options.clients:
            yield self._step(clients)

    def _refuse_too_many(self) -> None:
        most, left = max(self.options.clients), self.engine.connections_left()
        if most > left:
            raise TargetError(
                f"{self.engine.info.url}: {most} clients take {most} connections, and the server"
                f" has {left} left (max_connections)",
                advice="Use fewer --clients, or let the server admit more.",
            )

    def turns_of(self, clients: int) -> tuple[int, float]:
        """The rounds of a step, and the length of a turn (s): longer for very many clients, of whom
        each has its turn less often, and for arrivals, which may queue for long.
        """
        whole = self.options.for_ms / 1000 / len(self.options.levels)
        if self.options.rate is not None:
            return max(FEW_ROUNDS, round(whole / OPEN_TURN_S)), OPEN_TURN_S
        turn = MANY_TURN_S if clients >= MANY else TURN_S
        rounds = max(LEAST_ROUNDS, round(whole / turn))
        return rounds, turn if clients >= MANY else max(SHORTEST_S, whole / rounds)

    def _step(self, clients: int) -> Step:
        turns: list[TurnFigures] = []
        default = self.engine.info.default_isolation
        stopped: str | None = None
        try:
            load(self.engine, self.scenario, self.file)
            self.engine.analyze()
            with Clients(self.engine, self.scenario, self.file, self.options, clients) as load_of:
                for turn in self._turns(load_of, clients):
                    turns.append(turn)
        except Stopped as why:
            stopped = str(why)
        except BaseException as error:
            why_not = "interrupted" if isinstance(error, KeyboardInterrupt) else str(error)
            if turns:
                self.steps.append(step_of(clients, turns, default, why_not))
            raise
        self.steps.append(step_of(clients, turns, default, stopped))
        return self.steps[-1]

    def _turns(self, load_of: Clients, clients: int) -> Iterator[TurnFigures]:
        levels = list(self.options.levels)
        rounds, seconds = self.turns_of(clients)
        slowest, done, number = 0.0, 0, 0
        while number <= rounds:
            self._chance.shuffle(levels)
            for level in levels:
                if self.progress is not None:
                    self.progress(clients, done, (rounds + 1) * len(levels), level)
                done += 1
                turn = load_of.turn(level, number, seconds)
                if number:  # the first round only warms up
                    yield turn
                else:
                    slowest = max(slowest, percentile(turn.latencies, 0.95), turn.ended_ms)
            if not number and slowest > seconds * 1e3 / SLOW:
                rounds, seconds = self._longer(seconds)
            number += 1

    def _longer(self, seconds: float) -> tuple[int, float]:
        """Fewer and longer turns, for transactions that take long."""
        whole = self.options.for_ms / 1000 / len(self.options.levels)
        return FEW_ROUNDS, max(seconds, whole / FEW_ROUNDS)


class Clients:
    """The processes of one step. Use it as a context."""

    def __init__(
        self,
        engine: Engine,
        scenario: Scenario,
        file: ScenarioFile | None,
        options: PaceOptions,
        clients: int,
    ) -> None:
        self.engine, self.options, self.clients = engine, options, clients
        self.names = list(scenario.transactions)
        drawn = domain_values(engine, scenario, file)
        self.plans = tuple(
            _plan(one, {value: drawn[name, value] for value in one.domains})
            for name, one in scenario.transactions.items()
        )
        transactions = scenario.transactions.values()
        given = options.shares
        self.shares = tuple(
            given.get(name, one.share or 1.0) for name, one in scenario.transactions.items()
        )
        self.retries = tuple(_retry(one.retry or options.retry) for one in transactions)
        self._server = _server(engine.server_process())
        context = mp.get_context("spawn")
        self.turns = Turns(context, clients)
        self.number = 0
        self.seen: list[int] = []  # sessions that wait, at each look in the latest turn
        self.processes: list[SpawnProcess] = []
        self.pipes: list[Connection] = []
        self._context = context

    def __enter__(self) -> Clients:
        count = min(os.cpu_count() or 1, self.clients)
        place = {**self.engine.loop_place()}
        if "check_ms" in place:
            place["check_ms"] = None  # what a deadlock costs is part of what is measured
        edges = [self.clients * n // count for n in range(count + 1)]
        for number, (first, end) in enumerate(pairwise(edges)):
            mine, theirs = self._context.Pipe(duplex=False)
            job = LoadJob(
                server=self.engine.info.server,
                place=place,
                plans=self.plans,
                shares=self.shares,
                retries=self.retries,
                levels=self.options.levels,
                clients=range(first, end),
                think_s=self.options.think_ms / 1000,
                rate=self.options.rate * (end - first) / self.clients
                if self.options.rate
                else None,
                seed=self.options.seed * 1000 + number,
            )
            process = self._context.Process(
                target=run_load, args=(job, theirs, self.turns), daemon=True
            )
            with without_main_module():
                process.start()
            theirs.close()
            self.processes.append(process)
            self.pipes.append(mine)
        try:
            self._collect(0, READY_S, "did not connect in time")
        except BaseException:
            self._end()
            raise
        return self

    def __exit__(self, *reason: object) -> None:
        self._end()

    def _end(self) -> None:
        self.turns.end()
        for process in self.processes:
            process.join(3 if not self._stuck() else 0)
            if process.is_alive():
                process.terminate()
                process.join(2)
            if process.is_alive():
                process.kill()
                process.join(2)
        for pipe in self.pipes:
            pipe.close()

    def turn(self, level: str, round_number: int, seconds: float) -> TurnFigures:
        """One turn. Raises Stopped where somebody waits without end, TargetError, InputError."""
        self.number += 1
        waits = self.engine.wait_count()
        used = _cpu_of(self._server)
        since = clock.seconds() + 0.02 + self.clients / 5000  # sessions change their level before
        until = since + seconds
        self.turns.begin(self.number, self.options.levels.index(level), since, until)
        reports = self._collect(self.number, until - clock.seconds() + DRAIN_S, "", until)
        ended = clock.seconds()
        after = self.engine.wait_count()
        figures = TurnFigures(
            level=level,
            round=round_number,
            seconds=seconds * (1 - RAMP),
            ended_ms=(ended - until) * 1e3,
            lock_waits=after - waits if after is not None and waits is not None else None,
            waiting=sum(self.seen) / len(self.seen) if self.seen else None,
        )
        for report in reports:
            figures.add(report)
            figures.load_cpu += report.cpu / (ended - since)
            figures.busy = max(figures.busy, report.cpu / (ended - since))
        figures.cpus = os.cpu_count() or 1
        now = _cpu_of(self._server)
        if used is not None and now is not None:
            figures.server_cpu = max(0.0, now - used) / (ended - since)
        return figures

    def _collect(
        self, number: int, seconds: float, late: str, until: float | None = None
    ) -> list[TurnReport]:
        """A report of each process for a turn (0: that it is ready)."""
        reports: list[TurnReport] = []
        self.seen = []
        left = list(self.pipes)
        deadline = clock.seconds() + seconds
        while left:
            for pipe in wait(left, timeout=LOOK_S):
                assert isinstance(pipe, Connection)
                try:
                    report: TurnReport = pipe.recv()
                except EOFError:
                    raise TargetError("a load process ended before its turn was over") from None
                if report.rejected:
                    raise InputError(f"a statement of the load is rejected: {report.rejected}")
                if report.broken:
                    raise TargetError(report.broken)
                if report.turn == number:
                    reports.append(report)
                    left.remove(pipe)
            now = clock.seconds()
            if until is not None and now < until:
                waiting = self.engine.waiting_now()
                if waiting is not None:
                    self.seen.append(waiting)
            if left and now > deadline:
                if late:
                    raise TargetError(f"{self.clients} clients {late}")
                raise Stopped(self._stuck_text())
        return reports

    def _stuck(self) -> dict[tuple[int, int], int]:
        """Plans and statements at which clients are, and how many."""
        found: dict[tuple[int, int], int] = {}
        for plan, statement in zip(self.turns.plan, self.turns.statement, strict=True):
            if statement:
                found[plan, statement] = found.get((plan, statement), 0) + 1
        return found

    def _stuck_text(self) -> str:
        places = [
            f"{count} at {self.names[plan]} statement {statement}"
            for (plan, statement), count in sorted(self._stuck().items())
        ]
        told = ", ".join(places) or "some"
        return (
            f"clients had not ended {math.floor(DRAIN_S)} s after the end of a turn ({told}): they"
            " wait for a lock that nobody releases, for a deadlock to be found, or for statements"
            " that take longer"
        )


def _plan(transaction: Transaction, drawn: Mapping[str, object]) -> LoopPlan:
    return LoopPlan(
        beginning=Beginning(
            isolation=transaction.isolation,
            access=transaction.access,
            timeout_ms=transaction.timeout,
        ),
        before=transaction.before,
        statements=transaction.statements,
        ends="rollback" if transaction.ends == "rollback" else "commit",
        fixed=transaction.fixed,
        drawn=drawn,  # type: ignore[arg-type] # of domain_values
    )


def _retry(retry: Retry | None) -> tuple[int, float, frozenset[str]]:
    if retry is None:
        return 0, 0.0, frozenset()
    return retry.times, (retry.pause or 0) / 1000, frozenset(retry.on)


def _server(number: int | None) -> psutil.Process | None:
    try:
        return psutil.Process(number) if number is not None else None
    except psutil.Error:
        return None


def _cpu_of(server: psutil.Process | None) -> float | None:
    """The CPU time (s) of a server with all processes that it started, those that ended among
    them.
    """
    if server is None:
        return None
    try:
        used = sum(server.cpu_times()[:4])
        children = server.children(recursive=True)
    except psutil.Error:
        return None
    for child in children:
        try:
            times = child.cpu_times()
        except psutil.Error:
            continue
        used += times.user + times.system
    return used
