"""Several processes explore one space, each in a scratch space of its own.

The parent holds all shares. A worker reports what it added up together with what is left of its
share, in one message, so whatever was not reported when it dies is simply done again, by another.
Whoever is idle gets a part of a busy one's walk. What is run does not depend on how it is split, so
the result is the same for any number of workers.
"""

from __future__ import annotations

import contextlib
import multiprocessing as mp
import os
import signal
from collections.abc import Callable
from dataclasses import dataclass, replace
from multiprocessing.connection import Connection, wait
from typing import Any, Protocol

from catenum.core.errors import CatenumError, TargetError
from catenum.core.scenario.model import Scenario
from catenum.core.space.exploration_file import tally_adapter
from catenum.engines import parent
from catenum.engines.child_processes import without_main_module
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.audit import Widened
from catenum.lab.explore.hold import held
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Explorer, Share, Worker, full

REPORT_MS = 200.0
STOP_S = 10.0
#: A share at which so many workers died is not tried again.
MOST_DEATHS = 3


@dataclass(frozen=True)
class WorkerTask:
    """What a worker process is given: how to connect, and what to run. All of it plain values."""

    connect: Callable[[], Engine]
    scenario: Scenario
    ddl: tuple[str, ...]
    options: ExploreOptions
    parent: int


def _work(task: WorkerTask, pipe: Connection) -> None:
    """A worker process: take shares, report, give parts away, until asked to stop or the parent is
    gone.
    """
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent hears it, and tells us
    signal.signal(signal.SIGTERM, _leave)
    parent.tie(signal.SIGTERM)()  # also in the midst of a schedule that waits
    if os.getppid() != task.parent:
        return
    with contextlib.ExitStack() as stack:
        try:
            engine = task.connect()
            stack.callback(engine.close)
            engine.make_scratch()
            with Stage(engine, task.scenario, task.options.stage, ddl=task.ddl) as stage:
                _serve(Worker(stage, task.options), pipe)
        except CatenumError as error:
            _say(pipe, ("failed", str(error)))
        except Widened as widened:
            _say(pipe, ("widened", widened.pairs, widened.why, widened.passing, widened.expected))
        except (EOFError, BrokenPipeError, KeyboardInterrupt):
            pass  # the parent is gone, or wants us gone: what was made is cleared below


def _leave(number: int, frame: object) -> None:
    raise KeyboardInterrupt


def _say(pipe: Connection, message: tuple[Any, ...]) -> None:
    with contextlib.suppress(OSError):
        pipe.send(message)


def _serve(worker: Worker, pipe: Connection) -> None:
    clock, reported = Clock(), 0.0
    pipe.send(("ready",))
    while True:
        if not worker.busy or pipe.poll(0):
            word, *rest = pipe.recv()
            if word == "stop":
                pipe.send(_report(worker, "stopped"))
                return
            if word == "share":
                worker.take(rest[0])
            elif word == "split":
                given = worker.split() if worker.busy else None
                pipe.send((*_report(worker, "given"), given))
            continue
        worker.step()
        if not worker.busy or clock.now_ms() - reported > REPORT_MS:
            reported = clock.now_ms()
            pipe.send(_report(worker, "report"))


def _report(worker: Worker, word: str) -> tuple[Any, ...]:
    return (word, tally_adapter().dump_python(worker.take_tally()), worker.share())


@dataclass
class _Hand:
    """A worker process as the parent sees it: the share it holds, as it last told."""

    process: Any
    pipe: Connection
    share: Share | None = None
    ready: bool = False
    asked: bool = False


class Crew:
    """The worker processes of one exploration, and the shares among them."""

    def __init__(self, task: WorkerTask, size: int, explorer: Explorer) -> None:
        self.explorer = explorer
        self.deaths: dict[str, int] = {}
        self.failed: str | None = None
        self.widened: Widened | None = None
        context = mp.get_context("spawn")
        self.hands: list[_Hand] = []
        for _ in range(size):
            ours, theirs = context.Pipe()
            process = context.Process(target=_work, args=(task, theirs), daemon=True)
            with without_main_module():
                process.start()
            theirs.close()
            self.hands.append(_Hand(process, ours))

    def run(self, options: ExploreOptions, progress: Callable[[Explorer], None] | None) -> None:
        """Until all shares are worked off or time is up. Raises TargetError where the workers
        cannot go on.
        """
        clock = Clock()
        already = self.explorer.ran_ms
        pending = self.explorer.shares
        try:
            while pending or any(hand.share is not None for hand in self.hands):
                if (options.for_ms is not None and clock.now_ms() > options.for_ms) or full(
                    self.explorer, options
                ):
                    return
                self._give(pending)
                self._listen(pending)
                self.explorer.ran_ms = already + clock.now_ms()
                if self.widened is not None:
                    raise self.widened
                if self.failed is not None or not self.hands:
                    raise TargetError(self.failed or "every worker process died")
                if progress is not None:
                    taken = [hand.share for hand in self.hands if hand.share is not None]
                    progress(replace(self.explorer, shares=[*pending, *taken]))
        finally:
            self.stop(pending)
            self.explorer.ran_ms = already + clock.now_ms()

    def _give(self, pending: list[Share]) -> None:
        idle = [hand for hand in self.hands if hand.ready and hand.share is None]
        for hand in idle:
            if pending:
                with held:
                    hand.share = pending.pop()
                    self._send(hand, ("share", hand.share))
        still = sum(hand.ready and hand.share is None for hand in self.hands)
        busy = [
            hand
            for hand in self.hands
            if hand.share is not None and "walk" in hand.share and not hand.asked
        ]
        for hand in busy[:still]:
            hand.asked = True
            self._send(hand, ("split",))

    def _listen(self, pending: list[Share]) -> None:
        by_handle: dict[Any, _Hand] = {}
        for hand in self.hands:
            by_handle[hand.pipe] = by_handle[hand.process.sentinel] = hand
        for handle in wait(list(by_handle), timeout=0.2):
            hand = by_handle[handle]
            if hand not in self.hands:
                continue
            with held:
                try:
                    if hand.pipe.poll(0):
                        self._hear(hand, hand.pipe.recv(), pending)
                    elif not hand.process.is_alive():
                        self._bury(hand, pending)
                except (EOFError, OSError):
                    self._bury(hand, pending)

    def _hear(self, hand: _Hand, message: tuple[Any, ...], pending: list[Share]) -> None:
        word, *rest = message
        if word == "ready":
            hand.ready = True
        elif word == "failed":
            self.failed = str(rest[0])
        elif word == "widened":
            self.widened = Widened(*rest)
        else:
            self.explorer.tally.merge(tally_adapter().validate_python(rest[0]))
            hand.share = rest[1]
            if word == "given":
                hand.asked = False
                if rest[2] is not None:
                    pending.append(rest[2])

    def _bury(self, hand: _Hand, pending: list[Share]) -> None:
        """A worker died: its share goes to the others."""
        self.hands.remove(hand)
        hand.pipe.close()
        hand.process.join(1)
        if hand.share is not None:
            key = repr(hand.share)
            self.deaths[key] = self.deaths.get(key, 0) + 1
            if self.deaths[key] >= MOST_DEATHS:
                self.failed = f"{MOST_DEATHS} worker processes died at the same schedules"
            pending.append(hand.share)

    def _send(self, hand: _Hand, message: tuple[Any, ...]) -> None:
        with contextlib.suppress(OSError):  # it died; that is heard next
            hand.pipe.send(message)

    def stop(self, pending: list[Share]) -> None:
        """Have every worker report a last time, clear up and go; what they had left is kept in
        ``pending``.
        """
        for hand in self.hands:
            self._send(hand, ("stop",))
        clock = Clock()
        for hand in list(self.hands):
            while hand in self.hands and clock.now_ms() < STOP_S * 1000:
                try:
                    if hand.pipe.poll(0.2):
                        message = hand.pipe.recv()
                        self._hear(hand, message, pending)
                        if message[0] == "stopped":
                            break
                    elif not hand.process.is_alive():
                        break
                except (EOFError, OSError):
                    break
            if hand.share is not None:
                pending.append(hand.share)
                hand.share = None
        for hand in self.hands:
            hand.process.join(STOP_S)
            if hand.process.is_alive():
                os.kill(hand.process.pid, signal.SIGKILL)
                hand.process.join()
        self.hands.clear()


class Together(Protocol):
    """What works the shares of an exploration off. ``own_servers``: on other servers than the
    caller's, so that it also adds up the deadlocks that these counted and no client received.
    """

    @property
    def own_servers(self) -> bool: ...

    def explore(
        self,
        task: WorkerTask,
        explorer: Explorer,
        progress: Callable[[Explorer], None] | None = None,
    ) -> None:
        """Work everything off. What is left when this returns or raises stands in ``explorer``."""


@dataclass(frozen=True)
class Workers:
    """``size`` processes, on the server of the task."""

    size: int
    own_servers: bool = False

    def explore(
        self,
        task: WorkerTask,
        explorer: Explorer,
        progress: Callable[[Explorer], None] | None = None,
    ) -> None:
        """Work everything off. What is left when this returns or raises stands in ``explorer``."""
        Crew(task, self.size, explorer).run(task.options, progress)
