"""One exploration worked off by the cluster: its shares are tasks.

A task works a share off for a turn and gives back what is left, in parts where other workers would
have nothing. What is not given back (a worker died) is done again, by another; what is run does not
depend on how it is cut, so the result is that of one process.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any
from uuid import uuid4

from catenum.cluster.cluster import Cluster
from catenum.cluster.host import Host, Site, Space, host
from catenum.core.errors import CatenumError, TargetError
from catenum.core.space.exploration_file import tally_adapter
from catenum.engines.clock import Clock
from catenum.lab.explore.audit import Widened
from catenum.lab.explore.hold import held
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import Explorer, Share, Worker, full
from catenum.lab.explore.workers import WorkerTask

if TYPE_CHECKING:
    from distributed import Future

#: How long (ms) a task lasts; and while there are fewer shares than workers.
TURN_MS, FIRST_TURN_MS = 1_500.0, 200.0
#: Shares for each worker that are under way or wait at the scheduler, so that nobody idles
#: meanwhile; and those that are held ready beside them.
AHEAD, READY = 2, 2


@dataclass(frozen=True)
class Turn:
    """What a task is given. ``walk``: which exploration the share is of; ``parts``: how many what
    is left is to be given back in.
    """

    client: str
    site: Site
    walk: str
    task: WorkerTask
    share: Share
    for_ms: float
    parts: int


@dataclass(frozen=True)
class Turned:
    """What came of it, and how long it took. ``uncounted``: deadlocks that the worker's server
    counted as long as this stage stands, and no client received.
    """

    worker: str
    tally: Any
    left: list[Share]
    uncounted: int = 0
    stage: str = ""
    worked_ms: float = 0.0
    raised: Exception | None = None


def walk(turn: Turn) -> Turned:
    """A task: work a share off for a turn."""
    from distributed import get_worker

    where = get_worker().address
    try:
        return host().do(lambda mine: _walk(mine, turn, where))
    except (CatenumError, Widened) as error:
        return Turned(where, None, [], raised=error)


def _walk(mine: Host, turn: Turn, where: str) -> Turned:
    space = mine.space(turn.client, turn.site)
    worker = _worker(space, turn)
    worker.take(turn.share)
    clock = Clock()
    while worker.busy and clock.now_ms() < turn.for_ms:
        worker.step()
    mine.used(turn.client)
    worked_ms = clock.now_ms()
    tally = tally_adapter().dump_python(worker.take_tally())
    left = worker.give_all(turn.parts)
    return Turned(where, tally, left, space.uncounted(), space.stage, worked_ms)


def settle(client: str, site: Site, name: str) -> Turned | None:
    """A task: what a worker has assumed in a walk and not checked yet; None where it has no part
    in it.
    """
    from distributed import get_worker

    where = get_worker().address
    try:
        return host().do(lambda mine: _settle(mine.space(client, site), name, where))
    except (CatenumError, Widened) as error:
        return Turned(where, None, [], raised=error)


def _settle(space: Space, name: str, where: str) -> Turned | None:
    worker = space.worker
    if worker is None or space.walk != name:
        return None
    worker.finish()
    tally = tally_adapter().dump_python(worker.take_tally())
    settled = Turned(where, tally, [], space.uncounted(), space.stage)
    space.end_walk()
    return settled


def _worker(space: Space, turn: Turn) -> Worker:
    if space.worker is not None and space.walk == turn.walk:
        return space.worker
    task = turn.task
    stage = Stage(space.engine, task.scenario, task.options.stage, ddl=task.ddl)
    return space.begin_walk(turn.walk, stage, task.options)


@dataclass
class Walks:
    """Works explorations off on a cluster (see ``lab.explore.workers.Together``)."""

    cluster: Cluster
    _under_way: dict[Future[Any], Share] = field(default_factory=dict)
    #: By worker and stage: one that was idle for long has set another.
    _uncounted: dict[tuple[str, str], int] = field(default_factory=dict)

    @property
    def own_servers(self) -> bool:
        """Whether each worker has one, that is not the caller's."""
        return self.cluster.site.connector is None

    def explore(
        self,
        task: WorkerTask,
        explorer: Explorer,
        progress: Callable[[Explorer], None] | None = None,
    ) -> None:
        """Work everything off. What is left when this returns or raises stands in ``explorer``."""
        clock, already, name = Clock(), explorer.ran_ms, uuid4().hex
        options, pending = task.options, explorer.shares
        plain = replace(task, connect=_nowhere)  # the workers know where
        self._uncounted.clear()
        try:
            while pending or self._under_way:
                over = options.for_ms is not None and clock.now_ms() > options.for_ms
                if over or full(explorer, options):
                    return
                self._give(plain, name, pending)
                for future in self.cluster.wait():
                    self._take(future, explorer, pending)
                self._reclaim(pending)
                explorer.ran_ms = already + clock.now_ms()
                if progress is not None:
                    progress(replace(explorer, shares=[*pending, *self._under_way.values()]))
            self._settle(name, explorer)
        finally:
            with held:
                self.cluster.withdraw(list(self._under_way))
                pending += self._under_way.values()
                self._under_way.clear()
            explorer.ran_ms = already + clock.now_ms()

    def _give(self, task: WorkerTask, name: str, pending: list[Share]) -> None:
        workers = len(self.cluster.workers)
        few = len(pending) + len(self._under_way) < AHEAD * workers
        while pending and len(self._under_way) < AHEAD * workers:
            with held:
                share = pending.pop()
                turn = Turn(
                    client=self.cluster.name,
                    site=self.cluster.site,
                    walk=name,
                    task=task,
                    share=share,
                    for_ms=FIRST_TURN_MS if few and workers > 1 else TURN_MS,
                    parts=1 + READY if few or len(pending) < READY else 1,
                )
                self._under_way[self.cluster.submit(walk, turn)] = share

    def _take(self, future: Future[Any], explorer: Explorer, pending: list[Share]) -> None:
        """What a task gave back."""
        with held:
            share = self._under_way.pop(future, None)
            if share is None:
                return
            try:
                turned: Turned = self.cluster.result(future)
            except TargetError:
                pending.append(share)
                raise
            pending += turned.left if turned.raised is None else [share]
            self._add(turned, explorer)

    def _add(self, turned: Turned, explorer: Explorer) -> None:
        if isinstance(turned.raised, TargetError):
            raise TargetError(f"worker {turned.worker}: {turned.raised}") from turned.raised
        if turned.raised is not None:
            raise turned.raised
        explorer.tally.merge(tally_adapter().validate_python(turned.tally))
        self._uncounted[turned.worker, turned.stage] = turned.uncounted
        if self.own_servers:
            explorer.tally.uncounted = sum(self._uncounted.values())

    def _settle(self, name: str, explorer: Explorer) -> None:
        """What the workers have not checked yet; of one that is gone it stays unchecked."""
        cluster = self.cluster
        left = {
            cluster.submit(settle, cluster.name, cluster.site, name, at=one)
            for one in {worker for worker, _ in self._uncounted}
            if one in cluster.workers
        }
        while left:
            for future in cluster.wait():
                left.discard(future)
                turned = future.result() if future.status == "finished" else None
                if turned is not None:
                    self._add(turned, explorer)
            left = {one for one in left if not cluster.stranded(one)}

    def _reclaim(self, pending: list[Share]) -> None:
        """Shares that were given to workers of which none is there any more."""
        for future in [one for one in self._under_way if self.cluster.stranded(one)]:
            with held:
                pending.append(self._under_way.pop(future))
                self.cluster.withdraw([future])


def _nowhere() -> Any:
    raise RuntimeError("a worker of a cluster connects by its site")
