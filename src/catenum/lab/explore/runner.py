"""One exploration from the count before its start to its result, whether one process does the work
or several.

Kept apart from the work itself so that a survey can be broken off (by a person, a limit, a server
that dies) and still tell what it found, and go on later from where it stopped.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from catenum.core.errors import InputError
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.space.claims import describe_outcome
from catenum.core.space.exploration import Exploration
from catenum.core.space.exploration_file import tally_adapter
from catenum.core.space.run import Run
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.audit import Widened, untold
from catenum.lab.explore.complete import EveryOrder, Outcomes, every_order
from catenum.lab.explore.stage import Stage, Standing
from catenum.lab.explore.walker import (
    ExploreOptions,
    Explorer,
    Plan,
    Worker,
    exploration,
    explore_here,
    plan,
    turn_to_sample,
)
from catenum.lab.explore.workers import Together, Workers, WorkerTask

STATE_FORMAT = "catenum-exploration-state/5"
ONE_WORKER = "one worker ran all schedules: scratch spaces keep tables apart, but not named locks"
#: How long (ms) every order may take, or how many times what the walk took.
EVERY_ORDER_MS, EVERY_ORDER_TIMES = 15_000.0, 3.0
ONE_COUNTS = "one worker ran all schedules, so that the server's count of deadlocks tells of each"
Progress = Callable[[Explorer], None]


@dataclass(kw_only=True)
class ExplorationRunner:
    """What to explore, and how far it has come."""

    connect: Callable[[], Engine]
    engine: Engine
    scenario: Scenario
    options: ExploreOptions = field(default_factory=ExploreOptions)
    workers: int = 1
    #: Who works the shares off instead of this process and its children.
    together: Together | None = None
    file: ScenarioFile | None = None
    ddl: tuple[str, ...] = ()
    explorer: Explorer | None = None
    stage: Stage | None = None
    notes: tuple[str, ...] = ()
    #: Data that the last stage has left, for exploring other values of the same code.
    standing: Standing | None = None
    #: Called once with the stage when it is ready, before anything is explored; what it raises ends
    #: the survey.
    before: Callable[[Stage], None] | None = None
    #: Called with the stage when it was explored, or will be by other processes.
    behind: Callable[[Stage], None] | None = None
    #: Told of each schedule that was run, where one worker runs them all; what it raises ends the
    #: survey.
    heard: Callable[[Run], None] = lambda judged: None

    def run(
        self,
        *,
        resume: dict[str, Any] | None = None,
        counted: Callable[[Plan], None] | None = None,
        progress: Progress | None = None,
    ) -> Exploration:
        """Explore. ``counted`` hears how large the space is before anything runs; ``resume`` is an
        earlier ``state``.

        Whatever is raised, ``result`` tells what had been found by then. Raises InputError where
        ``resume`` is of another exploration.
        """
        while True:
            try:
                return self._run(resume, counted, progress)
            except Widened as widened:
                if widened.pairs:
                    faulty = "; please report this. Everything was run again with that known"
                    why = widened.why + ("" if widened.expected else faulty)
                    self.notes = (*self.notes, why)
                self.options = replace(
                    self.options,
                    widened=(*self.options.widened, *widened.pairs),
                    passing=(*self.options.passing, *widened.passing),
                )
                resume = counted = None

    def _run(
        self,
        resume: dict[str, Any] | None,
        counted: Callable[[Plan], None] | None,
        progress: Progress | None,
    ) -> Exploration:
        self.stage = Stage(
            self.engine,
            self.scenario,
            self.options.stage,
            self.file,
            self.ddl,
            standing=self.standing,
        )
        every: EveryOrder | None = None
        with self.stage as stage:
            if self.before is not None:
                before, self.before = self.before, None
                before(stage)
            if resume is not None:
                self._widen_as(resume)
            known = self.options.opened or self.options.every or self.options.looked
            for step, table in untold(stage) if not known else ():
                self.options = replace(self.options, opened=(*self.options.opened, step))
                what = (
                    f"{step[0]} statement {(step[1] or 0) + 1} locked {table}, which is not visible"
                    " in its SQL text"
                )
                self.notes = (*self.notes, f"{what}; it is assumed to touch anything")
            stage.widen(self.options.widened, self.options.opened, self.options.passing)
            made = plan(stage.scenario, stage.dependence, self.options, self._salt())
            self.explorer = Explorer(plan=made, shares=list(made.shares))
            if resume is not None:
                self._go_on_from(resume)
            if counted is not None:
                counted(made)
            together = self.together or (Workers(self.workers) if self.workers > 1 else None)
            if together and any(found.named_locks for found in stage.footprints.values()):
                together, self.notes = None, (*self.notes, ONE_WORKER)
            if together and stage.handlers:
                together, self.notes = None, (*self.notes, ONE_COUNTS)
            if together is None:
                self._run_here(stage, self.explorer, progress, resumed=resume is not None)
            else:
                every = self._every_order(stage)
            if self.behind is not None:
                self.behind(stage)
        if together is not None:
            self._run_together(together, self.explorer, every, progress)
        return self.result

    def _run_here(
        self, stage: Stage, explorer: Explorer, progress: Progress | None, *, resumed: bool
    ) -> None:
        outcomes = Outcomes()

        def heard(run: Run) -> None:
            outcomes(run)
            self.heard(run)

        explore_here(stage, explorer, self.options, progress, heard)
        if turn_to_sample(explorer, self.options):
            explore_here(stage, explorer, self.options, progress, heard)
        elif not resumed:
            self._run_every_order(stage, outcomes)
        explorer.tally.uncounted = stage.uncounted()
        explorer.tally.may_hide = stage.may_hide

    def _run_together(
        self,
        together: Together,
        explorer: Explorer,
        every: EveryOrder | None,
        progress: Progress | None,
    ) -> None:
        """By processes, each with scratch space of its own, once that of this one is gone."""
        was = self.engine.deadlock_count({})
        task = WorkerTask(self.connect, self.scenario, self.ddl, self.options, os.getpid())
        together.explore(task, explorer, progress)
        if turn_to_sample(explorer, self.options):
            together.explore(task, explorer, progress)
        elif every is not None and not explorer.shares and not explorer.plan.sampled:
            self._compare(every)
        if together.own_servers:
            return  # each counts on its own
        now = self.engine.deadlock_count({})
        if was is not None and now is not None:
            explorer.tally.uncounted = max(0, now - was - explorer.tally.deadlocks)

    def _every_order(self, stage: Stage) -> EveryOrder | None:
        explorer, clock = self.explorer, Clock()
        if explorer is None or self.options.every or not self.options.all_orders:
            return None
        spent, most = explorer.ran_ms, max(EVERY_ORDER_MS, EVERY_ORDER_TIMES * explorer.ran_ms)
        if self.options.for_ms is not None:
            most = min(most, self.options.for_ms - spent)
        found = every_order(
            stage, self.options, explorer.plan.orders, lambda: clock.now_ms() > most
        )
        explorer.ran_ms = spent + clock.now_ms()
        return found

    def _run_every_order(self, stage: Stage, outcomes: Outcomes) -> None:
        """After a walk that is through: what it left out must not have another outcome."""
        explorer = self.explorer
        if explorer is None or explorer.shares or explorer.plan.sampled:
            return
        every = self._every_order(stage)
        if every is not None:
            beyond = every.outcomes.fine - outcomes.fine
            steady = all(every.outcomes.is_steady(stage, key) for key in beyond)
            self._compare(every, differs=bool(beyond), steady=steady)

    def _compare(self, every: EveryOrder, *, differs: bool = False, steady: bool = True) -> None:
        """``differs``: some data is that of no schedule of the reduced walk; ``steady``: whenever
        it is run.
        """
        explorer = self.explorer
        if explorer is None:
            return
        tally = explorer.tally
        missed = [key for key in every.tally.outcomes if key not in tally.outcomes]
        raced = bool(tally.given_up or tally.diverged or tally.races or tally.contests)
        calm = every.steady and steady and not raced
        if not (missed or differs or (calm and every.tally.cycles.keys() - tally.cycles.keys())):
            explorer.all_orders = every.tally.schedules if calm else None
        elif calm:
            entries = [every.tally.outcomes[key] for key in missed]
            self._take_every_order(every, [describe_outcome(one) or one.kind for one in entries])
        else:
            self._take_choices(every, missed)

    def _take_choices(self, every: EveryOrder, missed: Sequence[str]) -> None:
        """Outcomes by a choice of the server's, for which no schedule stands: they count, and
        nothing is proven.
        """
        explorer = self.explorer
        if explorer is None:
            return
        tally = explorer.tally
        for key in missed:
            tally.outcomes[key] = every.tally.outcomes[key]
            tally.schedules += every.tally.outcomes[key].count
        tally.races += 1
        tally.race = tally.race or next(
            (every.tally.outcomes[key].shortest for key in missed), None
        )

    def _take_every_order(self, every: EveryOrder, missed: Sequence[str]) -> None:
        """All orders have an outcome that the reduced walk had not: theirs counts."""
        explorer = self.explorer
        if explorer is None:
            return
        explorer.tally, explorer.plan.every, explorer.plan.classes = (
            every.tally,
            True,
            every.tally.schedules,
        )
        reported = f" ({'; '.join(missed[:3])})" if missed else ""
        self.notes = (
            *self.notes,
            (
                f"orders that were taken for equivalent have another outcome{reported}, so every"
                " order counts here; please report this"
            ),
        )

    @property
    def result(self) -> Exploration:
        """What was found so far. Raises RuntimeError before the space was counted."""
        if self.explorer is None or self.stage is None:
            raise RuntimeError("not begun")
        default = self.engine.info.default_isolation
        levels = {name: t.isolation or default for name, t in self.scenario.transactions.items()}
        found = exploration(self.scenario, self.engine, self.stage, self.explorer, levels)
        return replace(found, notes=(*found.notes, *self.notes))

    def _salt(self) -> str:
        return f"{self.engine.info.server} {self.engine.info.version} {self.ddl}"

    # -- going on later ----------------------------------------------------------------------------

    def state(self, explorer: Explorer | None = None) -> dict[str, Any]:
        """What has to be kept to go on later, as plain values."""
        explorer = explorer or self.explorer
        if explorer is None:
            raise RuntimeError("not begun")
        return {
            "format": STATE_FORMAT,
            "scenario": self.scenario.scenario,
            "digest": explorer.plan.digest,
            "ran_ms": explorer.ran_ms,
            "shares": explorer.shares,
            "sampled": explorer.plan.sampled,
            "widened": [[list(one), list(other)] for one, other in self.options.widened],
            "opened": [list(step) for step in self.options.opened],
            "passing": [list(step) for step in self.options.passing],
            "tally": tally_adapter().dump_python(explorer.tally, mode="json"),
        }

    def _widen_as(self, state: dict[str, Any]) -> None:
        try:
            pairs = tuple(((a, m), (b, n)) for (a, m), (b, n) in state.get("widened", ()))
            steps = tuple((name, number) for name, number in state.get("opened", ()))
            passing = tuple((name, number) for name, number in state.get("passing", ()))
        except (TypeError, ValueError) as error:
            raise InputError(f"nothing to resume: the saved state is damaged ({error})") from error
        self.options = replace(self.options, widened=pairs, opened=steps, passing=passing)

    def _go_on_from(self, state: dict[str, Any]) -> None:
        if self.explorer is None:
            raise RuntimeError("not begun")
        if state.get("format") != STATE_FORMAT:
            raise InputError(f"nothing to resume: no {STATE_FORMAT}")
        if state.get("digest") != self.explorer.plan.digest:
            raise InputError(
                "the saved state belongs to another exploration: the scenario, an option or the"
                " server is not the same",
                advice=(
                    "Resume with the same scenario and options, or start again without --resume."
                ),
            )
        try:
            self.explorer.tally = tally_adapter().validate_python(state["tally"])
            self.explorer.shares = list(state["shares"])
            self.explorer.ran_ms = float(state["ran_ms"])
            self.explorer.plan.sampled = bool(state["sampled"])
            if (
                self.stage is not None
            ):  # a damaged file is found now rather than in the midst of the work
                for share in self.explorer.shares:
                    Worker(self.stage, self.options).take(share)
        except (KeyError, TypeError, ValueError) as error:
            raise InputError(f"nothing to resume: the saved state is damaged ({error})") from error
