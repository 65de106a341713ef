"""A process of a load: many clients, each with a connection of its own, that wait for their own
answers only.

Clients are greenlets of one gevent hub, so that a process holds hundreds of connections; what a
client does reads from top to bottom. All processes take turns together: the parent writes the
number of a turn, its level and its times to memory that all share, and each process sends one
report a turn, once all of its clients stand still.
"""

from __future__ import annotations

import contextlib
import os
import random
import signal
from collections.abc import Callable
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from catenum.core.pace.measured import TurnCounts
from catenum.core.record.recording import ServerError
from catenum.core.servers import rules_of
from catenum.engines import clock
from catenum.engines.drivers import server_module
from catenum.engines.parent import tie
from catenum.engines.ports import Loop, LoopPlan, Rejected, Thinking

#: Latencies that one process retains of a turn; of more, a sample.
KEPT_LATENCIES = 20_000
#: How often a process that stands still looks for the next turn (s).
LOOK_S = 0.001
#: Of a turn, the part at its begin that is not counted, since not all clients are under way.
RAMP = 0.1


@dataclass(frozen=True, kw_only=True)
class LoadJob:
    """What a process does. ``clients``: their numbers among those of all processes; ``shares``: how
    often each plan is drawn; ``think_s``: the mean pause between two transactions of a client;
    ``rate``: arrivals a second for this process, None for a closed load.
    """

    server: str
    place: dict[str, Any]
    plans: tuple[LoopPlan, ...]
    shares: tuple[float, ...]
    retries: tuple[tuple[int, float, frozenset[str]], ...]
    levels: tuple[str, ...]
    clients: range
    think_s: float
    rate: float | None
    seed: int


@dataclass(slots=True, kw_only=True)
class TurnReport(TurnCounts):
    """What one process has to say of a turn. ``seen``: how many latencies there were."""

    turn: int
    seen: int = 0
    cpu: float = 0.0
    broken: str = ""
    rejected: str = ""

    def add_latency(self, value: float, chance: random.Random) -> None:
        """Beyond the number retained, by chance in place of another."""
        self.seen += 1
        if len(self.latencies) < KEPT_LATENCIES:
            self.latencies.append(value)
        elif (place := int(chance.random() * self.seen)) < KEPT_LATENCIES:
            self.latencies[place] = value


class Turns:
    """The turn that all processes are in, in memory that they share."""

    END = -1

    def __init__(self, context: Any, clients: int) -> None:
        self.number = context.Array("i", 1, lock=False)
        self.level = context.Array("i", 1, lock=False)
        self.since, self.until = (context.Array("d", 1, lock=False) for _ in range(2))
        #: By client: at which statement of which plan it is; 0 while it stands still.
        self.statement, self.plan = (context.Array("i", clients, lock=False) for _ in range(2))

    def begin(self, number: int, level: int, since: float, until: float) -> None:
        """Begin a turn: its number is written last."""
        self.level[0], self.since[0], self.until[0] = level, since, until
        self.number[0] = number

    def end(self) -> None:
        """No turn comes any more."""
        self.number[0] = self.END


def run_load(job: LoadJob, pipe: Connection, turns: Turns) -> None:
    """The body of a load process. Interrupts are its parent's to handle."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    tie(signal.SIGTERM)()
    from gevent import monkey

    monkey.patch_socket()
    monkey.patch_ssl()
    try:
        _Load(job, pipe, turns).work()
    except (BrokenPipeError, EOFError):
        return
    except Rejected as problem:
        pipe.send(TurnReport(turn=0, rejected=str(problem)))
    except Exception as problem:  # whatever a driver raises: the parent tells it
        with contextlib.suppress(OSError):
            pipe.send(TurnReport(turn=0, broken=str(problem) or type(problem).__name__))


def _waiting() -> Callable[[int], Callable[[], None]]:
    """What waits for a socket of a driver that does not use Python's.

    A statement is waited for some ten thousand times a second, so the watcher of a socket is not
    started and stopped each time, as the hub's own ``wait`` does.
    """
    from gevent import get_hub, getcurrent

    hub = get_hub()

    def waits_for(socket: int) -> Callable[[], None]:
        watcher = hub.loop.io(socket, 1)
        waiter: Any = None

        def readable() -> None:
            if waiter is None:  # nobody asked: the server has closed it
                watcher.stop()
            else:
                waiter.switch()

        def wait() -> None:
            nonlocal waiter
            waiter = getcurrent()
            if not watcher.active:  # type: ignore[attr-defined] # not in its stubs
                watcher.start(readable)
            try:
                hub.switch()
            finally:
                waiter = None

        return wait

    return waits_for


class _Load:
    def __init__(self, job: LoadJob, pipe: Connection, turns: Turns) -> None:
        from gevent.event import Event
        from gevent.queue import Queue

        self.job, self.pipe, self.turns = job, pipe, turns
        self.chance = random.Random(job.seed)
        self.gate, self.idle = Event(), Event()  # another gate for each turn
        self.parent = os.getppid()
        self.busy = 0
        self.report = TurnReport(turn=0)
        self.counted_from = self.until = 0.0
        self.arrived: Any = Queue()
        self.loops: list[Loop] = []
        self.is_duplicate = rules_of(job.server).errors.is_duplicate
        self.over = False

    def work(self) -> None:
        """Connect, then turn by turn."""
        import gevent

        make = server_module(self.job.server, ".engine").Loop
        # one client alone has nobody to make room for: its driver waits by itself
        alone = len(self.job.clients) == 1 and self.job.rate is None
        waiting = None if alone else _waiting()
        for number in self.job.clients:
            name = f"client {number + 1}"
            self.loops.append(make(self.job.plans, name, waiting=waiting, **self.job.place))
        clients = [
            gevent.spawn(self._client, number, loop)
            for number, loop in zip(self.job.clients, self.loops, strict=True)
        ]
        self.pipe.send(TurnReport(turn=0))
        number = 0
        try:
            while (found := self.turns.number[0]) != Turns.END:
                if found == number:
                    gevent.sleep(LOOK_S)
                    if os.getppid() != self.parent:
                        return
                    continue
                number = found
                self._turn(number)
        finally:
            self.over = True
            self.gate.set()
            gevent.joinall(clients, timeout=1)
            for loop in self.loops:
                with contextlib.suppress(Exception):  # its answer may be on its way still
                    loop.close()

    def _turn(self, number: int) -> None:
        import gevent
        from gevent.event import Event

        since, self.until = self.turns.since[0], self.turns.until[0]
        self.counted_from = since + RAMP * (self.until - since)
        self.report = TurnReport(turn=number)
        level = self.job.levels[self.turns.level[0]]
        # where a level is set by a statement of its own, this stands before the turn
        gevent.joinall([gevent.spawn(self._use_level, loop, level) for loop in self.loops])
        if self.report.broken:
            self.pipe.send(self.report)
            return
        cpu = clock.cpu_seconds()
        self.idle.clear()
        if (ahead := since - clock.seconds()) > 0:
            gevent.sleep(ahead)
        arrivals = gevent.spawn(self._arrive, since) if self.job.rate is not None else None
        self.busy = len(self.loops)
        gate, self.gate = self.gate, Event()
        gate.set()
        self.idle.wait()
        if arrivals is not None:
            arrivals.join()
            self._count_unserved()
        self.report.cpu = clock.cpu_seconds() - cpu
        self.pipe.send(self.report)

    def _use_level(self, loop: Loop, level: str) -> None:
        try:
            loop.use_level(level)
        except Exception as problem:  # whatever a driver raises: the parent tells it
            self.report.broken = f"a client lost its connection: {problem}"

    # -- an open load: arrivals do not wait for answers --------------------------------------------

    def _arrive(self, since: float) -> None:
        """Arrivals after Poisson, and an end for each client."""
        import gevent

        at = since
        while (at := at + self.chance.expovariate(self.job.rate or 1.0)) < self.until:
            if (ahead := at - clock.seconds()) > 0:
                gevent.sleep(ahead)
            self.report.arrivals += 1
            self.arrived.put(at)
        if (ahead := self.until - clock.seconds()) > 0:
            gevent.sleep(ahead)
        for _ in self.loops:
            self.arrived.put(None)

    def _count_unserved(self) -> None:
        while not self.arrived.empty():
            at = self.arrived.get()
            if at is not None:
                self.report.unserved += 1
                self.report.add_latency((self.until - at) * 1e3, self.chance)

    # -- a client ----------------------------------------------------------------------------------

    def _client(self, number: int, loop: Loop) -> None:
        while True:
            self.gate.wait()
            if self.over:
                return
            try:
                self._transactions(number, loop)
            except Exception as problem:  # a driver's, which the loop has not taken
                self.report.broken = str(problem) or type(problem).__name__
            self.turns.statement[number] = 0
            self.busy -= 1
            if self.busy == 0:
                self.idle.set()
            if self.report.broken or self.report.rejected:
                return

    def _transactions(self, number: int, loop: Loop) -> None:
        """Transaction after transaction until the turn is over."""
        import gevent

        job, chance = self.job, self.chance
        places = self.turns.statement
        which, plans, shares = 0, range(len(job.plans)), job.shares
        several, think, now = len(plans) > 1, job.think_s, clock.seconds

        def heard(statement: int) -> None:
            places[number] = statement

        heards = [
            Thinking(heard, plan.thinks, gevent.sleep) if plan.thinks else heard
            for plan in job.plans
        ]

        while now() < self.until:
            start = self.arrived.get() if job.rate is not None else now()
            if start is None:
                return
            if (
                job.rate is not None and now() >= self.until
            ):  # it arrived in time, and nobody had begun it
                self.report.unserved += 1
                self.report.add_latency((self.until - start) * 1e3, chance)
                continue
            if several:
                which = chance.choices(plans, shares)[0]
                self.turns.plan[number] = which
            self._transaction(loop, which, start, heards[which])
            places[number] = 0
            if self.report.broken or self.report.rejected:
                return
            if think:
                gevent.sleep(min(chance.expovariate(1 / think), max(0.0, self.until - now())))

    def _transaction(self, loop: Loop, which: int, start: float, at: Callable[[int], None]) -> None:
        """One transaction with its retries."""
        import gevent

        report = self.report
        times, pause_s, kinds = self.job.retries[which]
        error = loop.run(at, which)
        tried = 0
        while error is not None:
            kind = self._failed(error, report)
            if kind not in kinds or tried >= times or report.broken:
                report.given_up[kind] += 1
                return
            if clock.seconds() >= self.until:  # the turn is over: nobody waits for another attempt
                report.cut_off += 1
                return
            tried += 1
            report.retries += 1
            if pause_s:
                gevent.sleep(pause_s * (0.5 + self.chance.random()))
            error = loop.run(at, which, again=True)
        now = clock.seconds()
        report.finished += 1
        if self.counted_from <= now < self.until:
            report.commits += 1
        report.add_latency((now - start) * 1e3, self.chance)

    def _failed(self, error: ServerError, report: TurnReport) -> str:
        """Write an error down; its kind."""
        kind = "duplicate" if self.is_duplicate(error.code) else str(error.kind)
        report.failures[kind] += 1
        if kind == "lost":
            report.broken = f"a client lost its connection: {error.message}"
        elif kind == "rejected" and not report.finished and report.failures.total() == 1:
            report.rejected = error.message
        return kind
