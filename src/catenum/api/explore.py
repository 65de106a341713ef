"""Every schedule that can differ: explored, saved as a folder, and continued from one."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Unpack

from catenum.api.files import make_folder, read_file, save_atomically
from catenum.api.scenarios import RunRequest, ScenarioSource, request
from catenum.api.servers import server_for
from catenum.api.space import MOST_CLASSES, SpaceOptions, explore_options
from catenum.api.spread import Spread, spread_over
from catenum.core.errors import InputError
from catenum.core.record.recording import DataVerdict
from catenum.core.record.recording_file import to_json as recording_json
from catenum.core.scenario.model import Scenario
from catenum.core.space.exploration import Exploration, letter_of
from catenum.core.space.exploration_file import to_json
from catenum.core.space.run import went_on
from catenum.core.text import counted
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.walker import ExploreOptions, Explorer, Plan
from catenum.lab.run.play import LockDetail, PlayOptions, play

STATE, RESULT = "state.json", "exploration.json"
#: The state is saved this often, but saving may not take more than a part of the time.
SAVE_EVERY_MS, SAVE_PART = 1_000.0, 0.05
#: How often a schedule is played to get the outcome that it had: where the server had made its
#: other choice, and else.
MOST_REPLAYS, FEW_REPLAYS = 20, 3
#: Hears what was found by the time that something ended an exploration.
BrokenOff = Callable[[Exploration], None]


def explore(
    scenario: ScenarioSource,
    *,
    remedy: str | None = None,
    locks: LockDetail = "waits",
    save: Path | None = None,
    resume: Path | None = None,
    broken_off: BrokenOff | None = None,
    **options: Unpack[SpaceOptions],
) -> Exploration:
    """Run every schedule that can differ, and compare the data with every serial order.

    ``remedy``: one of the scenario's applied, or 'one + other'; ``locks='full'`` counts every lock
    taken; ``save``: a folder for the result and a recording of each outcome; ``resume``: such a
    folder, whose exploration goes on. Raises InputError, TargetError, SaveError; ``broken_off`` is
    given what was found by then.
    """
    asked = request(scenario, options, remedy=remedy)
    folder = save or resume
    with _exploring(asked, options, locks, broken_off) as exploring:
        return exploring.run(_Job(asked.scenario, folder, resume is not None))


def explore_levels(
    scenario: ScenarioSource,
    *,
    remedy: str | None = None,
    locks: LockDetail = "waits",
    save: Path | None = None,
    resume: Path | None = None,
    broken_off: BrokenOff | None = None,
    **options: Unpack[SpaceOptions],
) -> list[Exploration]:
    """The same at every level that really differs on the server, each in a folder of its own."""
    if options.get("isolation"):
        raise InputError(
            "--isolation each cannot be combined with another --isolation: it sets every level in"
            " turn"
        )
    asked = request(scenario, options, remedy=remedy)
    folder = save or resume
    with _exploring(asked, options, locks, broken_off) as exploring:
        return [
            exploring.run(
                _Job(
                    asked.scenario.at_level(level),
                    folder / level.replace(" ", "-") if folder is not None else None,
                    resume is not None,
                )
            )
            for level in exploring.engine.capabilities.levels
        ]


@dataclass
class _Job:
    """One exploration of perhaps several: its scenario, and where it is saved."""

    scenario: Scenario
    folder: Path | None
    resumed: bool


@dataclass
class _Exploring:
    """Runs one exploration after another on a server."""

    asked: RunRequest
    connect: Callable[[], Engine]
    engine: Engine
    options: ExploreOptions
    spread: Spread
    broken_off: BrokenOff | None

    def run(self, job: _Job) -> Exploration:
        if job.folder is not None:
            make_folder(job.folder)
        runner = ExplorationRunner(
            connect=self.connect,
            engine=self.engine,
            scenario=job.scenario,
            options=self.options,
            workers=self.spread.workers,
            together=self.spread.together,
            file=self.asked.file,
            ddl=self.asked.ddl,
        )
        state = _read_state(job.folder) if job.resumed and job.folder is not None else None
        try:
            found = self._explored(runner, job.folder, state)
        except BaseException as error:
            if runner.explorer is not None and not isinstance(error, InputError):
                self._break_off(runner, job.folder)
            raise
        if job.folder is not None:
            self._save(found, job.scenario, job.folder)
        return found

    def _explored(
        self, runner: ExplorationRunner, folder: Path | None, state: dict[str, Any] | None
    ) -> Exploration:
        listener, clock, due_ms = self.asked.listener, Clock(), 0.0

        def on_the_way(explorer: Explorer) -> None:
            nonlocal due_ms
            listener.part(
                explorer.fraction,
                f"{explorer.tally.schedules:,} schedules, {explorer.tally.bad:,} with a conflict",
            )
            if folder is not None and (began_ms := clock.now_ms()) >= due_ms:
                _save_state(runner, folder, explorer)
                took_ms = clock.now_ms() - began_ms
                due_ms = began_ms + max(SAVE_EVERY_MS, took_ms / SAVE_PART)

        try:
            return runner.run(
                resume=state,
                counted=lambda made: listener.size(size_of(made, runner.scenario)),
                progress=on_the_way,
            )
        finally:
            listener.clear()

    def _break_off(self, runner: ExplorationRunner, folder: Path | None) -> None:
        result = runner.result
        if folder is not None:
            _save_state(runner, folder, None)
            save_atomically(folder / RESULT, to_json(result).encode())
        if self.broken_off is not None:
            self.broken_off(result)

    def _save(self, found: Exploration, scenario: Scenario, folder: Path) -> None:
        """The result, and a recording of each distinct outcome, played again from its shortest
        schedule.

        Where the server goes on otherwise than it did, the verdict on the data is not the
        recording's.
        """
        save_atomically(folder / RESULT, to_json(found).encode())
        if found.reach.whole:
            (folder / STATE).unlink(missing_ok=True)
        stage = self.options.stage
        for number, entry in enumerate(found.outcomes):
            how = PlayOptions(
                order=entry.shortest,
                locks="full",
                victim=stage.victim,
                limit_ms=stage.limit_ms,
                once=self.asked.outside,
            )
            times = MOST_REPLAYS if entry.chosen else FEW_REPLAYS
            verdicts: list[DataVerdict] = [entry.data] * times
            for verdict in (*verdicts, "unchecked"):
                recording = play(
                    self.engine,
                    scenario,
                    how,
                    file=self.asked.file,
                    ddl=self.asked.ddl,
                    data=verdict,
                )
                same = went_on(recording.events) == entry.went_on
                if same and recording.outcome.kind == entry.kind:
                    break
            save_atomically(
                folder / f"outcome-{letter_of(number)}.json", recording_json(recording).encode()
            )


@contextmanager
def _exploring(
    asked: RunRequest, options: SpaceOptions, locks: LockDetail, broken_off: BrokenOff | None
) -> Iterator[_Exploring]:
    how = explore_options(options, limit=MOST_CLASSES, pictures=locks == "full")
    with (
        server_for(asked.where, asked.file, outside=asked.outside, listener=asked.listener) as (
            connect,
            engine,
        ),
        spread_over(options, connect, engine, asked.listener) as spread,
    ):
        yield _Exploring(asked, connect, engine, how, spread, broken_off)


def size_of(made: Plan, scenario: Scenario) -> str:
    """How large the space is, as counted before anything runs."""
    level = {t.isolation for t in scenario.transactions.values()}
    at = f" at {level.pop()}" if len(level) == 1 and None not in level else ""
    classes = (
        f"at most {counted(made.classes, 'class')}"
        if made.classes is not None
        else "more classes than can be counted"
    )
    drawn = ", of which a sample is run" if made.sampled else ""
    if made.every:
        return f"{counted(made.orders, 'order')}{at}{drawn}."
    return f"{counted(made.orders, 'order')}{at}, in {classes} of equivalent ones{drawn}."


def _read_state(folder: Path) -> dict[str, Any]:
    path = folder / STATE
    try:
        plain = json.loads(read_file(path))
    except ValueError as error:
        raise InputError(f"{path}: nothing to resume: {error}") from error
    if not isinstance(plain, dict):
        raise InputError(f"{path}: nothing to resume: not the saved state of an exploration")
    return plain


def _save_state(runner: ExplorationRunner, folder: Path, explorer: Explorer | None) -> None:
    save_atomically(folder / STATE, json.dumps(runner.state(explorer)).encode())
