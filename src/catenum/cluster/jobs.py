"""Whole explorations worked off by the cluster: each is a task.

What is expected is begun before it is asked for, a few ahead of it; whoever asks gets what they
would have got from exploring it themselves.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from catenum.cluster.cluster import Cluster
from catenum.cluster.host import Host, Site, host
from catenum.core.errors import CatenumError
from catenum.core.record.recording import TableKeys
from catenum.core.scenario.model import Scenario
from catenum.engines.clock import Clock
from catenum.lab.explore.jobs import Explored, Job
from catenum.lab.explore.meaning import StillBad
from catenum.lab.explore.runner import Progress

if TYPE_CHECKING:
    from distributed import Future

#: Jobs for each worker that are begun or wait at the scheduler.
AHEAD = 3
#: How often (ms) a worker looks whether anybody waits for its job still.
LOOK_MS = 500.0


@dataclass(frozen=True)
class Asked:
    """What a task is given."""

    client: str
    site: Site
    job: Job


class Withdrawn(Exception):
    """Nobody waits for the job any more."""


def explore(asked: Asked) -> Explored | CatenumError | StillBad | Withdrawn:
    """A task: a whole exploration, or what it raised."""
    try:
        still = _wanted()
        return host().do(lambda mine: _explore(mine, asked, still))
    except (CatenumError, StillBad, Withdrawn) as error:
        return error


def _explore(mine: Host, asked: Asked, wanted: Callable[[], bool]) -> Explored:
    if not wanted():
        raise Withdrawn
    space = mine.space(asked.client, asked.site)
    space.end_walk()
    clock, looked = Clock(), 0.0

    def heard(run: object) -> None:
        nonlocal looked
        if clock.now_ms() - looked > LOOK_MS:
            looked = clock.now_ms()
            if not wanted():
                raise Withdrawn

    space.explores.heard = heard
    try:
        return space.explores.explored(asked.job)
    finally:
        mine.used(asked.client)


def _wanted() -> Callable[[], bool]:
    """Says whether the task that runs is wanted still."""
    from distributed import get_worker

    worker = get_worker()
    key = worker.get_current_task()

    def wanted() -> bool:
        task = worker.state.tasks.get(key)
        return task is not None and task.state == "executing"

    return wanted


@dataclass
class Jobs:
    """Explores jobs on a cluster (see ``lab.explore.jobs.Explores``)."""

    cluster: Cluster
    _expected: Iterator[Job] = field(default_factory=lambda: iter(()))  # not begun yet
    _begun: dict[str, tuple[Job, Future[Any]]] = field(default_factory=dict)

    def expect(self, jobs: Iterable[Job]) -> None:
        """These are likely to be asked for next, in this order."""
        self._expected = iter(jobs)
        self._begin()

    def forget(self) -> None:
        """What was expected and not asked for is not wanted any more."""
        self._expected = iter(())
        self.cluster.withdraw([future for _, future in self._begun.values()])
        self._begun.clear()

    def explored(self, job: Job, progress: Progress | None = None) -> Explored:
        """Raises as exploring does; StillBad where one of its schedules ends badly again."""
        known = self._begun.pop(job.key, None)
        future = known[1] if known is not None else self._submit(job, urgent=True)
        self._begin()
        found: Explored = self.cluster.answer(future, lambda: self._submit(job, urgent=True))
        return found

    def lent(
        self, scenario: Scenario, ddl: Sequence[str]
    ) -> AbstractContextManager[dict[str, TableKeys] | None]:
        """Nothing stands on the caller's engine."""
        return nullcontext()

    def _begin(self) -> None:
        """Begin with what is expected, as far as there are workers."""
        self._begin_again()
        for job in self._expected:
            if job.key not in self._begun:
                self._begun[job.key] = (job, self._submit(job))
            if len(self._begun) >= AHEAD * len(self.cluster.workers):
                break

    def _begin_again(self) -> None:
        """Those whose workers are gone."""
        for key, (job, future) in list(self._begun.items()):
            if self.cluster.stranded(future) and not future.done() and self.cluster.workers:
                self.cluster.withdraw([future])
                self._begun[key] = (job, self._submit(job))

    def _submit(self, job: Job, *, urgent: bool = False) -> Future[Any]:
        asked = Asked(self.cluster.name, self.cluster.site, job)
        return self.cluster.submit(explore, asked, urgent=urgent)
