"""Explores the probes at every level of a server.

The probes are small, so every class of schedules is run; the checks that ``explore`` adds for
statements that nobody knows are left out, since these ship and are known.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from catenum import samples
from catenum.core.levels.matrix import (
    CHANGES,
    Cell,
    Change,
    ChangedReader,
    Matrix,
    Outline,
    cell_of,
    shown,
)
from catenum.core.levels.probes import PROBES, Probe
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario, Statement
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.servers import rules_of
from catenum.core.space.run import Run
from catenum.engines.ports import Engine
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import Stage, StageOptions
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.run.play import PlayOptions, play

#: Called before each exploration: how many are done, of how many, and which comes next.
Progress = Callable[[int, int, str], None]
_OPTIONS = ExploreOptions(all_orders=0, thorough=False, looked=True, stage=StageOptions(sure=True))


def probe_file(name: str) -> ScenarioFile:
    """A probe's scenario. Raises KeyError where there is none of that name."""
    return read_scenario(samples.probe_text(name).encode(), f"{name}.yaml")


class _Known(Exception):
    """The order of the textbook has told what is to be known."""


@dataclass(frozen=True, slots=True)
class _Task:
    probe: Probe
    level: str

    def __str__(self) -> str:
        return f"{self.probe.name} at {self.level}"


def explore_levels(
    connect: Callable[[], Engine],
    engine: Engine,
    *,
    levels: Sequence[str] | None = None,
    probes: Sequence[Probe] = PROBES,
    progress: Progress | None = None,
) -> Matrix:
    """The matrix of the server behind ``engine``, which has scratch space; ``levels``: all that it
    has by default.
    """
    chosen = tuple(levels or rules_of(engine.info.server).locks.levels)
    tasks = [_Task(probe, level) for probe in probes for level in chosen]
    cells: list[Cell] = []
    changed: list[ChangedReader] = []
    for number, task in enumerate(tasks):
        if progress is not None:
            progress(number, len(tasks), str(task))
        cell, outline = _explored(connect, engine, task)
        cells.append(cell)
        changed += _changed_readers(connect, engine, task, outline)
    if progress is not None:
        progress(len(tasks), len(tasks), "")
    return Matrix(
        server=engine.info.server,
        version=engine.info.version,
        default_level=engine.info.default_isolation,
        levels=chosen,
        cells=tuple(cells),
        changed=tuple(changed),
    )


def _explored(connect: Callable[[], Engine], engine: Engine, task: _Task) -> tuple[Cell, Outline]:
    """The cell, and what became of the textbook's order."""
    file = probe_file(task.probe.name)
    scenario = file.scenario.at_level(task.level)
    textbook = file.scenario.order or tuple(scenario.transactions)
    seen: list[Run] = []

    def try_textbook(stage: Stage) -> None:
        seen.append(Oracle(stage).judge(stage.run(order=textbook)))
        if task.probe.shown_by(seen[0].anomaly.name if seen[0].anomaly else None, seen[0].wrong):
            raise _Known

    runner = ExplorationRunner(
        connect=connect,
        engine=engine,
        scenario=scenario,
        options=_OPTIONS,
        file=file,
        before=try_textbook,
    )
    try:
        explored = runner.run()
    except _Known:
        return shown(task.probe, task.level, textbook), Outline.of(seen[0])
    outline = Outline.of(seen[0])
    cell = cell_of(task.probe, task.level, explored, textbook)
    if cell.result not in ("refused", "deadlock"):
        return cell, outline
    played = play(engine, scenario, PlayOptions(order=cell.evidence, locks="none"), file=file)
    statements = {name: len(one.statements) for name, one in scenario.transactions.items()}
    who, statement = next(_given_up(played, cell.result, statements), (None, None))
    return replace(cell, who=who, statement=statement), outline


def _changed_readers(
    connect: Callable[[], Engine], engine: Engine, task: _Task, before: Outline
) -> Iterator[ChangedReader]:
    """The textbook's order with the reader changed, in each way that the server knows."""
    name = task.probe.reader
    if name is None or not (before.waited or before.given_up):
        return  # it costs nothing as it is
    file = probe_file(task.probe.name)
    scenario = file.scenario.at_level(task.level)
    order = file.scenario.order or tuple(scenario.transactions)
    locks = rules_of(engine.info.server).locks
    for change in CHANGES:
        if change == "deferrable" and locks.defers_at != task.level:
            continue
        if change == "read only" and not locks.has_read_only:
            continue
        seen: list[Run] = []

        def try_textbook(stage: Stage, seen: list[Run] = seen) -> None:
            seen.append(stage.run(order=order))
            raise _Known

        runner = ExplorationRunner(
            connect=connect,
            engine=engine,
            scenario=_with_reader(scenario, name, change, task.level),
            options=_OPTIONS,
            file=file,
            before=try_textbook,
        )
        with contextlib.suppress(_Known):
            runner.run()
        yield ChangedReader(
            probe=task.probe.name,
            level=task.level,
            change=change,
            reader=name,
            order=tuple(order),
            before=before,
            after=Outline.of(seen[0]),
        )


def _with_reader(scenario: Scenario, name: str, change: Change, level: str) -> Scenario:
    """The scenario with its reader changed. To begin is no move of its own here, so that the order
    stays the same.
    """
    reader = scenario.transactions[name]
    if change == "read only":
        changed = reader.model_copy(update={"access": "read only"})
    else:
        begin = Statement(sql=f"start transaction isolation level {level}, read only, deferrable")
        first = reader.statements[0].model_copy(update={"at_once": True})
        changed = reader.model_copy(
            update={"isolation": None, "statements": (begin, first, *reader.statements[1:])}
        )
    return scenario.model_copy(update={"transactions": {**scenario.transactions, name: changed}})


def _given_up(
    played: Recording, kind: str, statements: Mapping[str, int]
) -> Iterator[tuple[str, int | None]]:
    """Who was refused or became the victim, and at which statement (None: at its end)."""
    for event in played.events:
        if event.error is not None and event.error.kind == kind:
            number = event.statement
            at_end = number is None or number > statements[event.transaction]
            yield event.transaction, None if at_end else number
