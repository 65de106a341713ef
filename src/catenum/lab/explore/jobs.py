"""Whole explorations as plain values, so that another process can be given them.

Who explores many variants of a scenario (a sweep its cases, a trial its remedies, a proposer its
candidates) asks for one after another, and may say beforehand which it is going to ask for: where
there are other processes, they begin with those. What is asked for, and in which order, does not
depend on who runs it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass, field, replace
from hashlib import sha256
from typing import Protocol

from catenum.core.record.recording import TableKeys, TableRows
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.space.exploration import Exploration
from catenum.core.space.run import Run
from catenum.core.space.state import Step
from catenum.engines.ports import Engine
from catenum.lab.explore.meaning import Compared, Order, Serial
from catenum.lab.explore.runner import ExplorationRunner, Progress
from catenum.lab.explore.stage import Standing
from catenum.lab.explore.walker import ExploreOptions


@dataclass(frozen=True, kw_only=True)
class Job:
    """One exploration. ``file``: where errors point to; ``serially``: the serial orders are wanted
    as well; ``schedules``: those that end badly as it is, each of which ends the job where it does
    so again.
    """

    scenario: Scenario
    options: ExploreOptions
    ddl: tuple[str, ...] = ()
    file: ScenarioFile | None = None
    serially: bool = False
    schedules: tuple[Order, ...] = ()

    @property
    def key(self) -> str:
        """Equal for the same work, however long it may take."""
        parts = (
            self.scenario.model_dump_json(),
            replace(self.options, for_ms=None),
            self.ddl,
            self.serially,
            self.schedules,
        )
        return sha256(repr(parts).encode()).hexdigest()


@dataclass(frozen=True)
class Explored:
    """What a job came to: the exploration, the serial orders, the data as it was loaded, and the
    statements that were seen to lock more than their texts tell.
    """

    exploration: Exploration
    serial: Serial
    loaded: Mapping[str, TableRows]
    opened: tuple[Step, ...]


class Explores(Protocol):
    """What explores jobs."""

    def expect(self, jobs: Iterable[Job]) -> None:
        """These are likely to be asked for next, in this order."""

    def forget(self) -> None:
        """What was expected and not asked for is not wanted any more."""

    def explored(self, job: Job, progress: Progress | None = None) -> Explored:
        """Raises as exploring does; StillBad where one of its schedules ends badly again."""

    def lent(
        self, scenario: Scenario, ddl: Sequence[str]
    ) -> AbstractContextManager[dict[str, TableKeys] | None]:
        """The tables, where the data of a scenario that was explored stands on the caller's engine,
        to be used and brought back.
        """


def ignore(judged: Run) -> None:
    """Nobody listens."""


@dataclass(kw_only=True)
class Here:
    """Explores on the caller's engine, one job after another: each with data that the last one has
    left, or, with several ``workers``, each shared among their processes.
    """

    connect: Callable[[], Engine]
    engine: Engine
    workers: int = 1
    standing: Standing = field(default_factory=Standing)
    #: Told of each schedule that is run; what it raises ends the job.
    heard: Callable[[Run], None] = ignore
    _began: bool = False

    def expect(self, jobs: Iterable[Job]) -> None:
        """Nothing is done before it is asked for."""

    def forget(self) -> None:
        """Nothing was begun."""

    def explored(self, job: Job, progress: Progress | None = None) -> Explored:
        """Raises as exploring does; StillBad where one of its schedules ends badly again."""
        compared, self._began = Compared(job.schedules), True

        def heard(run: Run) -> None:
            compared.heard(run)
            self.heard(run)

        runner = ExplorationRunner(
            connect=self.connect,
            engine=self.engine,
            scenario=job.scenario,
            options=job.options,
            workers=self.workers,
            file=job.file,
            ddl=job.ddl,
            before=compared.before,
            behind=compared.behind if job.serially else None,
            heard=heard,
            standing=self.standing if self.workers == 1 else None,
        )
        found = runner.run(progress=progress)
        return Explored(found, compared.found, compared.loaded, runner.options.opened)

    def lent(
        self, scenario: Scenario, ddl: Sequence[str]
    ) -> AbstractContextManager[dict[str, TableKeys] | None]:
        """See ``Standing.lent``."""
        return self.standing.lent(self.engine, scenario, ddl)

    def close(self) -> None:
        """End the sessions that wait for another job. Raises TargetError."""
        if self._began:
            self.standing.end(self.engine)
