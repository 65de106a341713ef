"""What a worker process keeps between tasks: a private server, and for each client whose work it
does an engine with scratch space.

All of it lives in one thread. The kernel ends a server with the *thread* that started it (prctl(2),
PR_SET_PDEATHSIG), a connection is not for two threads at once, and Dask's own threads come and go.
"""

from __future__ import annotations

import atexit
import functools
import hashlib
import logging
import os
import queue
import socket
import threading
from collections.abc import Callable
from concurrent.futures import Future
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar
from uuid import uuid4

from catenum.core.errors import TargetError
from catenum.core.record.recording import TargetInfo
from catenum.core.servers import rules_of
from catenum.core.version import __version__
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.engines.targets import Connector, Target, open_engine, read_settings
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Worker

Result = TypeVar("Result")
#: After so long (s) without a task a client's scratch space is dropped; so often (s) it is looked
#: whether one is.
IDLE_S, LOOK_S = 60.0, 5.0
#: Clients whose scratch space is kept at once; the longest idle one goes first.
MOST_CLIENTS = 3
#: How long (s) the end of the process waits for the server to stop.
STOP_S = 20.0


@dataclass(frozen=True)
class Site:
    """Where work is done: a kind of server, of which each worker starts its own, with the settings
    that the scenario asks for; or, with ``connector``, one that all of them reach.
    """

    server: str
    connector: Connector | None = None
    sandboxed: bool = True
    own: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True)
class Described:
    """What a worker says of itself: its version, a digest of its program's files, the server."""

    version: str
    digest: str
    server: str
    host: str
    process: int


@dataclass
class Space:
    """What is kept for one client: an engine with scratch space, and what is under way on it."""

    engine: Engine
    explores: Here
    used_ms: float = 0.0
    #: Of a walk: which one it is, a name for its stage, and what works shares off on that.
    walk: str | None = None
    stage: str = ""
    #: Whether another client has worked on the server since: its deadlocks are counted, too.
    shared: bool = False
    worker: Worker | None = None
    stack: ExitStack = field(default_factory=ExitStack)

    def end_walk(self) -> None:
        """End the sessions of the walk. Raises TargetError."""
        stack, self.stack = self.stack, ExitStack()
        self.walk = self.worker = None
        stack.close()

    def begin_walk(self, name: str, stage: Stage, options: ExploreOptions) -> Worker:
        """What works shares of this walk off, in the place of another one's."""
        self.end_walk()
        self.explores.close()
        self.worker = Worker(self.stack.enter_context(stage), options)
        self.walk, self.stage, self.shared = name, uuid4().hex, False
        return self.worker

    def uncounted(self) -> int:
        """Deadlocks of the walk that the server counted and no client received, where these can be
        told from those of others.
        """
        return 0 if self.shared or self.worker is None else self.worker.stage.uncounted()

    def close(self) -> None:
        """Drop the scratch space. Raises TargetError."""
        try:
            self.end_walk()
            self.explores.close()
        finally:
            self.engine.close()


class Host(threading.Thread):
    """The thread. ``do`` has it do something, and waits."""

    def __init__(self, closed: Callable[[], bool]) -> None:
        """``closed``: whether the worker has ended; its process may go on."""
        super().__init__(name="catenum-host", daemon=True)
        self._asked: queue.SimpleQueue[tuple[Callable[[], Any], Future[Any]] | None]
        self._asked = queue.SimpleQueue()
        self._clock, self._closed = Clock(), closed
        self._servers: dict[Site, tuple[Connector, ExitStack]] = {}
        self._spaces: dict[str, Space] = {}
        atexit.register(self.stop)
        self.start()

    def do(self, work: Callable[[Host], Result]) -> Result:
        """What ``work`` returns or raises."""
        answer: Future[Result] = Future()
        self._asked.put((functools.partial(work, self), answer))
        return answer.result()

    def run(self) -> None:
        while True:
            try:
                asked = self._asked.get(timeout=LOOK_S)
            except queue.Empty:
                if self._closed():
                    break
                self._end_idle()
                continue
            if asked is None:
                break
            work, answer = asked
            try:
                answer.set_result(work())
            except BaseException as error:
                answer.set_exception(error)
            del work, answer
        self.leave()
        for site in list(self._servers):
            self._stop_server(site)

    def stop(self) -> None:
        """Drop everything, and stop the servers."""
        if self.is_alive():
            self._asked.put(None)
            self.join(STOP_S)

    # -- in the thread -----------------------------------------------------------------------------

    def connector(self, site: Site) -> Connector:
        """What connects to the site's server, which is started where it is this process's own.
        Raises TargetError.
        """
        if site.connector is not None:
            return site.connector
        if site not in self._servers:
            word = f"local:{site.server}"
            target = Target(site.server, word, None, read_settings())
            opened = open_engine(
                target, _ignore, sandboxed=site.sandboxed, own=dict(site.own), alone=True
            )
            stack = ExitStack()
            self._servers[site] = (stack.enter_context(opened), stack)
        return self._servers[site][0]

    def _stop_server(self, site: Site) -> None:
        _, stack = self._servers.pop(site)
        _quietly(stack.close)

    def space(self, client: str, site: Site) -> Space:
        """The client's scratch space. Raises TargetError."""
        known = self._spaces.get(client)
        if known is None:
            while len(self._spaces) >= MOST_CLIENTS:
                idle = min(self._spaces, key=lambda one: self._spaces[one].used_ms)
                self._spaces.pop(idle).close()
            connector = self.connector(site)
            engine: Engine = connector()
            try:
                engine.make_scratch()
            except BaseException:
                engine.close()
                raise
            known = Space(engine, Here(connect=connector, engine=engine))
            self._spaces[client] = known
        known.used_ms = self._clock.now_ms()
        for name, other in self._spaces.items():
            other.shared = other.shared or name != client
        known.shared = known.shared or len(self._spaces) > 1
        return known

    def used(self, client: str) -> None:
        """A task of the client is over."""
        if client in self._spaces:
            self._spaces[client].used_ms = self._clock.now_ms()

    def leave(self, client: str | None = None) -> None:
        """Drop the scratch space of a client, or of all."""
        for name in [client] if client is not None else list(self._spaces):
            space = self._spaces.pop(name, None)
            if space is not None:
                _quietly(space.close)

    def describe(self, site: Site) -> Described:
        """Raises TargetError where the server cannot be had."""
        try:
            info = self._info(site)
        except TargetError:
            if site.connector is not None or site not in self._servers:
                raise
            self.leave()  # its server died: another one, once
            self._stop_server(site)
            info = self._info(site)
        shown = f"{rules_of(info.server).title} {info.version}"
        return Described(__version__, digest_here(), shown, socket.gethostname(), os.getpid())

    def _info(self, site: Site) -> TargetInfo:
        engine: Engine = self.connector(site)()
        try:
            return engine.info
        finally:
            engine.close()

    def _end_idle(self) -> None:
        for name, space in list(self._spaces.items()):
            if self._clock.now_ms() - space.used_ms > IDLE_S * 1000:
                self.leave(name)


def _ignore(text: str) -> None:
    """What a worker's server is told to a person, who is elsewhere."""


def _quietly(close: Callable[[], None]) -> None:
    try:
        close()
    except Exception as error:  # the server may be gone; nobody waits for an answer
        logging.getLogger("catenum").warning("%s", error)


_lock = threading.Lock()
_host: Host | None = None


def host() -> Host:
    """That of the worker whose task this is, which is started where there is none."""
    global _host
    from distributed import Status, get_worker

    worker = get_worker()

    def closed() -> bool:
        return worker.status in (Status.closing, Status.closed, Status.failed)

    with _lock:
        if _host is None or not _host.is_alive():
            _host = Host(closed)
        return _host


def describe(site: Site) -> Described:
    """A task: what the worker is, with its server started. Raises TargetError."""
    return host().do(lambda mine: mine.describe(site))


def leave(client: str) -> None:
    """A task: drop what is kept for a client."""
    if _host is not None:
        _host.do(lambda mine: mine.leave(client))


@functools.cache
def digest_here() -> str:
    """Of the program's files: two trees of one version may differ."""
    root = Path(__file__).parents[1]
    found = hashlib.sha256()
    for path in sorted(root.rglob("*.py")):
        found.update(str(path.relative_to(root)).encode())
        found.update(path.read_bytes())
    return found.hexdigest()[:16]
