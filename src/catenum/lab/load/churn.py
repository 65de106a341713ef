"""Churn: each transaction in a loop on its own connections, uncontrolled, until timing does it.

Each loop is a process, since threads of one Python could not keep a server busy. Loops run in
*turns*: a gate opens and closes for all of them, so that a baseline and its remedies can share the
same minutes.
"""

from __future__ import annotations

import contextlib
import multiprocessing as mp
import random
import signal
import sys
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess
from typing import Any

from catenum.core.errors import InputError, TargetError
from catenum.core.record.recording import ServerError
from catenum.core.record.waits import Edge
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.engines import clock
from catenum.engines.child_processes import without_main_module
from catenum.engines.clock import Clock
from catenum.engines.drivers import server_module
from catenum.engines.parent import limit_memory
from catenum.engines.ports import Beginning, Engine, LoopPlan, Rejected, Thinking
from catenum.lab.run.parameters import domain_values

KEPT_LATENCIES = 20_000
REPORT_S = 0.1
#: A looping process fetches results whole, which takes no more memory than this (bytes).
MIB = 1 << 20
MEMORY = 512 * MIB
#: What libpq says where it has no memory for a result.
OUT_OF_MEMORY = "out of memory"
#: How often, and how long apart (ms), the server's count of deadlocks is read until it has those of
#: the loops.
COUNT_TRIES, COUNT_PAUSE_MS = 20, 15.0
# for iterations to end once the gate is closed: whoever waits longer waits for what nobody releases
DRAIN_S = 5.0


@dataclass(frozen=True, slots=True)
class Job:
    """What one looping process does: a copy of one transaction."""

    name: str
    transaction: str
    number: int
    server: str
    place: dict[str, Any]
    plan: LoopPlan
    most: int | None


@dataclass(slots=True)
class Report:
    """What a process tells now and then: counts and latencies (ms) since its last report."""

    number: int
    failures: Counter[str] = field(default_factory=Counter)
    latencies: list[float] = field(default_factory=list)
    deadlock: ServerError | None = None
    statement: int = 0
    others: tuple[tuple[int, int], ...] = ()
    session: str = ""
    finished: bool = False
    paused: bool = False  # the loop stands at the gate
    broken: str = ""
    rejected: str = ""


@dataclass(slots=True)
class Tally:
    """What came of one transaction's loops."""

    iterations: int = 0
    failures: Counter[str] = field(default_factory=Counter)
    latencies: list[float] = field(default_factory=list)

    def add(self, report: Report, chance: random.Random) -> None:
        """Take a report in.

        Latencies beyond the number kept replace older ones by chance, so that they stay a sample.
        """
        self.failures.update(report.failures)
        for value in report.latencies:
            self.iterations += 1
            if len(self.latencies) < KEPT_LATENCIES:
                self.latencies.append(value)
            elif (place := int(chance.random() * self.iterations)) < KEPT_LATENCIES:
                self.latencies[place] = value


@dataclass(frozen=True, slots=True)
class DeadlockMet:
    """A deadlock as a loop met it: the cycle, the victim, and at which statement each member
    was.
    """

    edges: tuple[Edge, ...]
    victim: str
    statements: Mapping[str, int]
    error: ServerError
    server_report: str | None
    at_ms: float
    iteration: int


class _Places:
    """Where each loop is, in memory that all share: its statement, since when, and its last
    statement that took long.

    When a deadlock ends, its survivors have gone on before the victim can look: what they waited in
    is then the last statement that took long.
    """

    LONG_S = 0.005

    def __init__(self, context: Any, count: int) -> None:
        self.statement, self.long = (context.Array("i", count, lock=False) for _ in range(2))
        self.since, self.long_until = (context.Array("d", count, lock=False) for _ in range(2))

    def at(self, number: int, statement: int) -> None:
        """Loop ``number`` is about to send ``statement``."""
        now = clock.seconds()
        if now - self.since[number] > self.LONG_S:
            self.long[number], self.long_until[number] = self.statement[number], now
        self.statement[number], self.since[number] = statement, now

    def all(self) -> tuple[tuple[int, int], ...]:
        """For each loop the statement that it waits in, or waited in a moment ago."""
        now = clock.seconds()
        return tuple(
            (
                n,
                (
                    self.long[n]
                    if now - self.since[n] < self.LONG_S and now - self.long_until[n] < 0.05
                    else statement
                ),
            )
            for n, statement in enumerate(self.statement)
        )


class _Gate:
    """Open or closed, and at some time shut for good. Loops ask at each iteration, so asking must
    cost little.
    """

    CLOSED, OPEN, SHUT = 0, 1, 2

    def __init__(self, context: Any) -> None:
        self.state = context.Array("b", 1, lock=False)
        self._changed = context.Event()

    def set(self, state: int) -> None:
        """Open, close or shut it."""
        self.state[0] = state
        if state == self.CLOSED:
            self._changed.clear()
        else:
            self._changed.set()

    def wait(self) -> None:
        """Until it may have been opened or shut."""
        self._changed.wait(0.5)


def _ends_the_loop(
    report: Report, error: ServerError, job: Job, places: _Places, *, first: bool
) -> bool:
    """Write an error down; whether it is the loop's last."""
    statement = places.statement[job.number]
    report.failures[error.kind] += 1
    if error.kind == "limit" or OUT_OF_MEMORY in error.message:
        report.rejected = (
            f"{job.name} {statement}: its result takes more than {MEMORY // MIB} MB of memory, so"
            " it is not run in loops"
        )
    elif error.kind == "lost":
        report.broken = f"{job.name} lost its connection: {error.message}"
    elif error.kind == "rejected" and first:
        report.rejected = f"{job.name} {statement} is rejected: {error.message}"
    elif error.kind == "deadlock":
        report.deadlock, report.statement, report.others = error, statement, places.all()
    return bool(report.rejected or report.broken)


def _loop(job: Job, pipe: Connection, gate: _Gate, places: _Places) -> None:
    """The body of a looping process. Interrupts are its parent's to handle."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    report = Report(job.number)
    limit_memory(MEMORY)
    try:
        loop = server_module(job.server, ".engine").Loop([job.plan], job.name, **job.place)
    except Rejected as problem:
        report.rejected = f"a statement of {job.transaction} is rejected: {problem}"
        pipe.send(report)
        return
    except Exception as problem:  # whatever a driver raises: the parent tells it
        report.broken = f"{job.name} could not begin: {problem}"
        pipe.send(report)
        return
    report.session = loop.id
    pipe.send(report)
    report = Report(job.number)
    done, last = 0, clock.seconds()

    # What stands in this loop is paid at every iteration, tens of thousands of times a second.
    at: Callable[[int], None] = partial(places.at, job.number)
    if job.plan.thinks:
        at = Thinking(at, job.plan.thinks, lambda pause: clock.Clock().rest(pause * 1e3))
    run, now_s, state = loop.run, clock.counter(), gate.state
    most = job.most or sys.maxsize
    try:
        while done < most:
            if state[0] != _Gate.OPEN:
                if state[0] == _Gate.SHUT:
                    break
                report.paused = True
                pipe.send(report)
                report = Report(job.number)
                gate.wait()
                last = clock.seconds()
                continue
            start = now_s()
            try:
                error = run(at)
            except MemoryError:
                error = ServerError(code="", kind="limit", message=OUT_OF_MEMORY)
            now = now_s()
            done += 1
            report.latencies.append((now - start) * 1e3)
            if error is not None and _ends_the_loop(report, error, job, places, first=done == 1):
                break
            if error is not None or now - last > REPORT_S:
                pipe.send(report)
                report, last = Report(job.number), now
    except (BrokenPipeError, KeyboardInterrupt):
        return
    finally:
        loop.close()
    report.finished = True
    with contextlib.suppress(OSError):
        pipe.send(report)


def refuse_what_loops_cannot(
    scenario: Scenario, file: ScenarioFile | None, how: str = "rolled back each time"
) -> None:
    """Raises InputError for a transaction that is no loop of its own: an iteration begins, runs its
    statements and is rolled back (``how`` it ends).
    """
    shared = {n for names in scenario.connections.values() if len(names) > 1 for n in names}
    for name, transaction in scenario.transactions.items():
        kills = any(statement.kill is not None for statement in transaction.statements)
        why = {
            "autocommit": transaction.autocommit and "commits each statement",
            "connection": name in shared and "shares its connection with others",
            "ends": transaction.ends == "close" and "closes its connection",
            "statements": kills and "kills a session",
            "after_error": transaction.goes_on and "goes on after an error",
        }
        for key, words in why.items():
            if words:
                raise InputError(
                    f"{name} {words}: transactions in loops are {how}, and each has"
                    " a connection of its own",
                    place=file.place("transactions", name, key) if file else None,
                    advice="'explore' runs it in every order.",
                )


class Churn:
    """The looping processes of one scenario on one engine's scratch space, and what they have
    reported so far.
    """

    def __init__(
        self,
        engine: Engine,
        scenario: Scenario,
        *,
        copies: Mapping[str, int],
        commit: bool = False,
        most: int | None = None,
        file: ScenarioFile | None = None,
    ) -> None:
        """``most``: iterations of each copy, at most. The data must have been loaded.

        Raises InputError for a parameter whose column has no values, with its place in ``file``.
        """
        self.engine, self.scenario = engine, scenario.for_server(engine.info.server)
        refuse_what_loops_cannot(self.scenario, file)
        self.tallies = {name: Tally() for name in self.scenario.transactions}
        self.met: list[DeadlockMet] = []
        self.seconds = 0.0
        self.waits = 0
        self.looks = self.seen_waiting = (
            0  # where waits are not counted: looks, and loops seen waiting in them
        )
        self.clock = Clock()
        self.hidden: int | None = (
            None  # deadlocks that the server counted and no loop met; None: not known
        )
        self._counted: int | None = None
        self._late: dict[
            int, int
        ] = {}  # loops that did not end their iteration after a turn: at which statement
        self._waiting: set[int] = set()  # those of them that waited for a lock then
        self._chance = random.Random(11)
        self._drawn = domain_values(engine, self.scenario, file)
        self._jobs = list(self._plan(copies, commit, most))
        context = mp.get_context("spawn")
        self._gate = _Gate(context)
        self._places = _Places(context, len(self._jobs))
        self._sessions: dict[str, int] = {}
        self._processes: list[SpawnProcess] = []
        self._pipes: list[Connection] = []
        for job in self._jobs:
            mine, theirs = context.Pipe(duplex=False)
            process = context.Process(
                target=_loop, args=(job, theirs, self._gate, self._places), daemon=True
            )
            with without_main_module():
                process.start()
            theirs.close()
            self._processes.append(process)
            self._pipes.append(mine)

    def _plan(self, copies: Mapping[str, int], commit: bool, most: int | None) -> Iterator[Job]:
        number = 0
        for name, transaction in self.scenario.transactions.items():
            ends = "commit" if commit and transaction.ends != "rollback" else "rollback"
            plan = LoopPlan(
                beginning=Beginning(
                    isolation=transaction.isolation,
                    access=transaction.access,
                    timeout_ms=transaction.timeout,
                ),
                before=transaction.before,
                statements=transaction.statements,
                ends=ends,
                fixed=transaction.fixed,
                drawn={value: self._drawn[name, value] for value in transaction.domains},
            )
            for copy in range(copies.get(name, 1)):
                label = name if copies.get(name, 1) == 1 else f"{name}.{copy + 1}"
                yield Job(
                    label,
                    name,
                    number,
                    self.engine.info.server,
                    self.engine.loop_place(),
                    plan,
                    most,
                )
                number += 1

    @property
    def iterations(self) -> int:
        """Iterations of all loops together."""
        return sum(tally.iterations for tally in self.tallies.values())

    def failures(self, kind: str) -> int:
        """How often a kind of failure ended an iteration."""
        return sum(tally.failures[kind] for tally in self.tallies.values())

    @property
    def finished(self) -> bool:
        """Whether every loop has made all its iterations."""
        return not self._pipes

    def ready(self) -> None:
        """Wait until every process is connected. Raises TargetError where one could not begin."""
        self._counted = self.engine.deadlock_count({})
        waiting = set(range(len(self._jobs)))
        while waiting:
            for report in self._reports(10.0):
                if report.session:
                    self._sessions[report.session] = report.number
                waiting.discard(report.number)
            if any(not process.is_alive() for process in self._processes) and waiting:
                raise TargetError("a looping process ended before it began")

    def turn(self, seconds: float, until: str | None = None) -> int:
        """Open the gate for so long, or until a failure of the kind ``until``. Returns the
        iterations of this turn.
        """
        before, waited = self.iterations, self.engine.wait_count()
        start = clock.seconds()
        self._gate.set(_Gate.OPEN)
        while (left := seconds - (clock.seconds() - start)) > 0 and self._pipes:
            self._take(self._reports(min(left, 0.2)))
            waiting = self.engine.waiting_now()
            if waiting is not None:
                self.looks, self.seen_waiting = self.looks + 1, self.seen_waiting + waiting
            if until is not None and self.failures(until):
                break
        self._gate.set(_Gate.CLOSED)
        self.seconds += clock.seconds() - start
        self._drain()
        after = self.engine.wait_count()
        if waited is not None and after is not None:
            self.waits += after - waited
        return self.iterations - before

    def _drain(self) -> None:
        """After the gate has closed each loop reports once more; then all of the turn is
        counted.
        """
        waiting = {
            job.number
            for job, process in zip(self._jobs, self._processes, strict=True)
            if process.is_alive()
        }
        deadline = clock.seconds() + DRAIN_S
        while waiting - self._late.keys() and self._pipes and clock.seconds() < deadline:
            for report in self._reports(0.2):
                self._take([report])
                if report.paused or report.finished:
                    waiting.discard(report.number)
        self._late = {number: self._places.statement[number] for number in waiting}
        late = {session: number for session, number in self._sessions.items() if number in waiting}
        self._waiting = (
            {late[session] for session in self.engine.waiting_among(late)} if late else set()
        )

    @property
    def unread(self) -> int:
        """Deadlocks whose cycle could not be read."""
        return self.failures("deadlock") - len(self.met)

    @property
    def stuck(self) -> list[tuple[str, int]]:
        """Loops that still wait although all others have ended their iterations, each with its
        statement's number.

        One that merely takes long is not among them.
        """
        return [
            (self._jobs[n].name, statement)
            for n, statement in sorted(self._late.items())
            if n in self._waiting
        ]

    def _reports(self, seconds: float) -> Iterator[Report]:
        ready = wait(self._pipes, timeout=seconds)
        for pipe in [pipe for pipe in self._pipes if pipe in ready]:
            try:
                report: Report = pipe.recv()
            except EOFError:
                self._pipes.remove(pipe)
                continue
            if report.rejected:
                raise InputError(report.rejected)
            if report.broken:
                raise TargetError(report.broken)
            yield report

    def _take(self, reports: Any) -> None:
        for report in reports:
            self._late.pop(report.number, None)
            self.tallies[self._jobs[report.number].transaction].add(report, self._chance)
            if report.deadlock is not None:
                self._meet(report)

    def _meet(self, report: Report) -> None:
        """Read the cycle of a deadlock.

        From the error where it tells, else from the server's report of the latest one.
        """
        names = {session: self._jobs[number].name for session, number in self._sessions.items()}
        assert report.deadlock is not None
        edges = self.engine.edges_of(report.deadlock, names=names)
        reported = self.engine.cycle_statements(names)
        victim = self._jobs[report.number].name
        fell = self.engine.cycle_victim(names) or victim
        if fell != victim or victim not in {edge.waiter for edge in edges}:
            return  # the server's report was already of another deadlock; counted all the same
        places = dict(report.others)
        at = {
            job.name: self._statement_of(job, places.get(job.number, 0), reported.get(job.name))
            for job in self._jobs
        }
        at[victim] = report.statement
        self.met.append(
            DeadlockMet(
                edges,
                victim,
                at,
                report.deadlock,
                self.engine.report_of(report.deadlock),
                self.clock.now_ms(),
                self.iterations,
            )
        )

    @staticmethod
    def _statement_of(job: Job, place: int, reported: str | None) -> int:
        """The number of the statement that a member was at, one more than there are for its end; 0
        where neither its text nor its place tells. ``reported``: the text by the server's report,
        with the values of its parameters.
        """
        texts = [" ".join(text.split()) for text in job.plan.texts]
        if reported is None or job.plan.fixed or job.plan.drawn:
            return place
        text = " ".join(reported.split())
        same = [number for number, known in enumerate(texts, 1) if known == text]
        return place if place in same else next(iter(same), 0)

    def close(self) -> None:
        """End every process, the gentle way first."""
        self._gate.set(_Gate.SHUT)
        for job, process in zip(self._jobs, self._processes, strict=True):
            process.join(0 if job.number in self._late else 2)
            if process.is_alive():
                process.terminate()
                process.join(2)
        for pipe in self._pipes:
            pipe.close()
        self.hidden = self._count_hidden()

    def _count_hidden(self) -> int | None:
        """After the loops are over: a session hands in its counts at its end, which is a moment
        after the process's.
        """
        reported, now = self.failures("deadlock"), None
        with contextlib.suppress(TargetError):  # the server is gone
            for _ in range(COUNT_TRIES if self._counted is not None else 0):
                now = self.engine.deadlock_count({})
                if now is None or now - (self._counted or 0) >= reported:
                    break
                self.clock.rest(COUNT_PAUSE_MS)
        return (
            max(0, now - self._counted - reported)
            if now is not None and self._counted is not None
            else None
        )

    def sql_of(self, name: str, statement: int) -> str:
        """The text of a loop's statement, from 1; of its end beyond those."""
        plan = next(job.plan for job in self._jobs if job.name == name)
        return plan.texts[statement - 1] if 0 < statement <= len(plan.statements) else plan.ends

    def transaction_of(self, name: str) -> str:
        """The transaction that a copy runs."""
        return next(job.transaction for job in self._jobs if job.name == name)
