"""Explores the probes at every level of a server.

The probes are small, so every class of schedules is run; the checks that ``explore`` adds for
statements that nobody knows are left out, since these ship and are known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from catenum import samples
from catenum.core.levels.matrix import CHANGES, Cell, Change, Matrix, cell_of
from catenum.core.levels.probes import PROBES, Probe
from catenum.core.record.recording import Recording
from catenum.core.scenario.model import Scenario, Statement
from catenum.core.scenario.reader import ScenarioFile, read_scenario
from catenum.core.servers import rules_of
from catenum.engines.ports import Engine
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.stage import StageOptions
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.run.play import PlayOptions, play

#: Called before each exploration: how many are done, of how many, and which comes next.
Progress = Callable[[int, int, str], None]
_OPTIONS = ExploreOptions(all_orders=0, thorough=False, looked=True, stage=StageOptions(sure=True))


def probe_file(name: str) -> ScenarioFile:
    """A probe's scenario. Raises KeyError where there is none of that name."""
    return read_scenario(samples.probe_text(name).encode(), f"{name}.yaml")


@dataclass(frozen=True, slots=True)
class _Task:
    probe: Probe
    level: str
    change: Change | None = None

    def __str__(self) -> str:
        return f"{self.probe.name} at {self.level}" + (f", {self.change}" if self.change else "")


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
    rules = rules_of(engine.info.server).locks
    chosen = tuple(levels or rules.levels)
    tasks = [_Task(probe, level) for probe in probes for level in chosen]
    # a reader that says so may wait less, or not at all: of interest where it waits or is refused
    changed = [
        _Task(probe, level, change)
        for probe in probes
        if probe.reader is not None
        for level in chosen
        for change in CHANGES
        if change == "read only" or rules.defers_at == level
    ]
    cells: list[Cell] = []
    for number, task in enumerate(tasks):
        if progress is not None:
            progress(number, len(tasks) + len(changed), str(task))
        cells.append(_explored(connect, engine, task))
    free = {(cell.probe, cell.level) for cell in cells if cell.result in ("happens", "snapshot")}
    worth = [
        one
        for one in changed
        if one.change == "deferrable" or (one.probe.name, one.level) not in free
    ]
    again: list[Cell] = []
    for number, task in enumerate(worth):
        if progress is not None:
            progress(len(tasks) + number, len(tasks) + len(worth), str(task))
        again.append(_explored(connect, engine, task))
    if progress is not None:
        progress(1, 1, "")
    return Matrix(
        server=engine.info.server,
        version=engine.info.version,
        default_level=engine.info.default_isolation,
        levels=chosen,
        cells=tuple(cells),
        changed=tuple(again),
    )


def _explored(connect: Callable[[], Engine], engine: Engine, task: _Task) -> Cell:
    file = probe_file(task.probe.name)
    scenario = _changed(file.scenario.at_level(task.level), task)
    runner = ExplorationRunner(
        connect=connect, engine=engine, scenario=scenario, options=_OPTIONS, file=file
    )
    explored = runner.run()
    textbook = file.scenario.order or tuple(scenario.transactions)
    cell = cell_of(task.probe, task.level, explored, textbook, task.change)
    if cell.result not in ("refused", "deadlock"):
        return cell
    played = play(engine, scenario, PlayOptions(order=cell.evidence, locks="none"), file=file)
    statements = {name: len(one.statements) for name, one in scenario.transactions.items()}
    who, statement = next(_given_up(played, cell.result, statements), (None, None))
    return replace(cell, who=who, statement=statement)


def _changed(scenario: Scenario, task: _Task) -> Scenario:
    """The scenario with what the task changes of its reader."""
    name = task.probe.reader
    if task.change is None or name is None:
        return scenario
    reader = scenario.transactions[name]
    if task.change == "read only":
        changed = reader.model_copy(update={"access": "read only"})
    else:
        begin = f"start transaction isolation level {task.level}, read only, deferrable"
        changed = reader.model_copy(
            update={"isolation": None, "statements": (Statement(sql=begin), *reader.statements)}
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
