"""Explores a scenario at isolation levels, from the least strict, until one is enough."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from catenum.core.levels.need import (
    MOST_ASSIGNMENTS,
    LevelsTried,
    Need,
    assignments,
    is_wrong,
    lower,
    tried_of,
)
from catenum.core.scenario.model import Retry, Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.servers import rules_of
from catenum.core.space.run import Run
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.walker import ExploreOptions, Explorer

#: Of schedules with retries, so many are run to see what a level costs.
MOST_FOR_COST = 300
#: Called while one assignment is explored: its levels, and the explorer.
Progress = Callable[[Mapping[str, str], Explorer], None]


class _Wrong(Exception):
    """A schedule was wrong, so the assignment is not enough whatever the others give."""


@dataclass(kw_only=True)
class NeedFinder:
    """Finds the levels that a scenario needs. ``retries``: for each transaction that has none of
    its own, so that a refusal is not the end.
    """

    connect: Callable[[], Engine]
    engine: Engine
    scenario: Scenario
    options: ExploreOptions
    retries: int
    workers: int = 1
    file: ScenarioFile | None = None
    progress: Progress | None = None
    _known: dict[tuple[str, ...], LevelsTried] = field(default_factory=dict, init=False)
    _notes: dict[str, None] = field(default_factory=dict, init=False)
    _breaks_serially: dict[str, tuple[str, ...]] = field(default_factory=dict, init=False)
    _looked: bool = field(default=False, init=False)

    def __post_init__(self) -> None:
        self.scenario = self.scenario.for_server(self.engine.info.server)
        self._clock = Clock()

    def find(self) -> Need:
        """Try the levels of the server. Raises what an exploration raises."""
        rules = rules_of(self.engine.info.server).locks
        names, levels = list(self.scenario.transactions), rules.distinct_levels
        tried = [self._explored(dict.fromkeys(names, level)) for level in levels]
        uniform = next(
            (level for level, one in zip(levels, tried, strict=True) if one.enough), None
        )
        chosen: dict[str, str] | None = None
        all_tried = len(levels) ** len(names) <= MOST_ASSIGNMENTS
        if not self._breaks_serially and all_tried:
            every = assignments(names, levels)
            chosen = next((one for one in every if self._is_enough(one)), None)
        elif not self._breaks_serially and uniform is not None:
            chosen = self._lowered(dict.fromkeys(names, uniform))
        assignment = self._explored(chosen) if chosen is not None else None
        tried = [
            self._with_retries(one) if next(iter(one.levels.values())) == uniform else one
            for one in tried
        ]
        if assignment is not None:
            assignment = self._with_retries(assignment)
        return Need(
            scenario=self.scenario.scenario,
            server=self.engine.info.server,
            version=self.engine.info.version,
            default_level=self.engine.info.default_isolation,
            rules=len(self.scenario.holds),
            retries=self.retries,
            uniform=uniform,
            each={name: chosen[name] if chosen is not None else None for name in names},
            levels=tuple(tried),
            assignment=assignment,
            tried=len(self._known),
            all_tried=all_tried,
            why_not=() if chosen is not None else tuple(self._why_not(tried)),
            notes=tuple(self._notes),
        )

    def _is_enough(self, levels: dict[str, str]) -> bool:
        found = self._known.get(tuple(levels.values()))
        return (found or self._explored(levels, stop=True)).enough

    def _lowered(self, chosen: dict[str, str]) -> dict[str, str]:
        """Lower one transaction after another until none can be lowered by itself."""
        levels = rules_of(self.engine.info.server).locks.distinct_levels
        while True:
            less = next((one for one in lower(levels, chosen) if self._is_enough(one)), None)
            if less is None:
                return chosen
            chosen = less

    def _explored(self, levels: dict[str, str], *, stop: bool = False) -> LevelsTried:
        """``stop``: at the first wrong schedule."""
        key = tuple(levels.values())
        known = self._known.get(key)
        if known is not None and not (known.stopped and not stop):
            return known
        found = self._run(self.scenario.at_levels(levels), levels, stop=stop)
        if found.right and found.unfinished:
            found = self._with_retries(found)
        self._known[key] = found
        return found

    def _with_retries(self, tried: LevelsTried) -> LevelsTried:
        """The same with what retries make of it, where somebody is given up."""
        if not self.retries or not tried.gives_up or tried.retried is not None:
            return tried
        scenario = self.scenario.at_levels(tried.levels)
        transactions = {
            name: one
            if one.retry is not None or one.autocommit or one.goes_on
            else one.model_copy(update={"retry": Retry(times=self.retries)})
            for name, one in scenario.transactions.items()
        }
        scenario = scenario.model_copy(update={"transactions": transactions})
        # where no rule hangs on them, they only show what the level costs: a sample will do
        most = None if tried.unfinished else MOST_FOR_COST
        return replace(tried, retried=self._run(scenario, tried.levels, stop=False, most=most))

    def _run(
        self, scenario: Scenario, levels: Mapping[str, str], *, stop: bool, most: int | None = None
    ) -> LevelsTried:
        options = self._options()
        if most is not None:
            options = replace(options, limit=min(most, options.limit or most))
        runner = ExplorationRunner(
            connect=self.connect,
            engine=self.engine,
            scenario=scenario,
            options=options,
            workers=1 if stop else self.workers,
            file=self.file,
        )
        if stop:
            runner.heard = _stop_at_wrong
        progress = self.progress
        heard = None if progress is None else lambda explorer: progress(levels, explorer)
        stopped = False
        try:
            found = runner.run(progress=heard)
        except _Wrong:
            stopped, found = True, runner.result
        for note in found.notes:
            self._notes.setdefault(note)
        self._breaks_serially.update(found.tally.broken_serially)
        return tried_of(levels, found, stopped=stopped)

    def _options(self) -> ExploreOptions:
        if self.options.for_ms is None:
            return self.options
        return replace(self.options, for_ms=max(1.0, self.options.for_ms - self._clock.now_ms()))

    def _why_not(self, tried: list[LevelsTried]) -> list[str]:
        found = [
            f"the rule '{title}' is also false where they run one after another"
            f" ({', then '.join(order)}): the statements themselves do not keep it"
            for title, order in self._breaks_serially.items()
        ]
        strictest = tried[-1]
        level = next(iter(strictest.levels.values()))
        if found:
            return found
        if not strictest.proven:
            found.append(f"at {level} only a part of the schedules was run, so nothing is proven")
        for title, count in strictest.broken.items():
            text = (
                f"the rule '{title}' is false after {count:,} of {strictest.schedules:,} schedules"
            )
            if strictest.right and strictest.unfinished:
                text += ", in each of which a transaction is given up"
                text += "" if strictest.retried is None else "; with retry it can be false, too"
            found.append(f"{text} at {level}")
        for name, count in strictest.anomalies.items():
            found.append(f"{name} in {count:,} of {strictest.schedules:,} schedules at {level}")
        return found


def _stop_at_wrong(run: Run) -> None:
    """Raises _Wrong where a schedule is wrong."""
    if not run.broken_off and is_wrong(run):
        raise _Wrong
