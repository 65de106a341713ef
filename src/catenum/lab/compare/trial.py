"""Trial: the baseline and each remedy, side by side: on every schedule that can differ, or on given
ones.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial

from catenum.core.compare.trial import BASELINE, NOT_RUN, Trial, Variant, rank_of
from catenum.core.compare.verdict import Figures, Verdict, figures, figures_of, judge
from catenum.core.errors import InputError
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import ScenarioFile
from catenum.core.scenario.remedies import apply_remedies, describe, split_names
from catenum.core.space import schedule
from catenum.engines.ports import Engine
from catenum.lab.explore.jobs import Explores, Job
from catenum.lab.explore.walker import ExploreOptions, Explorer
from catenum.lab.run.play import PlayOptions, play


def orders_of(scenario: Scenario, order: Sequence[str] | None) -> list[tuple[str, ...]]:
    """The schedules of a trial: the given order, and its mirror images."""
    names = list(scenario.transactions)
    given = order or scenario.order or tuple(names)
    return schedule.mirror_images(given, names)


def trial(
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    *,
    file: ScenarioFile | None = None,
    only: Sequence[str] | None = None,
    progress: Callable[[int, int, str], None] | None = None,
) -> Trial:
    """Run the baseline and each remedy (or ``only`` those; "one + other" is both) on the same given
    schedules.
    """
    scenario = scenario.for_server(engine.info.server)
    orders = orders_of(scenario, options.order)
    chosen = _chosen(scenario, only)
    total, done = len(orders) * (1 + len(chosen)), 0
    variants: list[Variant] = []
    for name, changes, changed, ddl in _variants(scenario, chosen):
        runs = []
        for order in orders:
            if progress is not None:
                progress(done, total, name)
            try:
                runs.append(
                    play(engine, changed, replace(options, order=order), file=file, ddl=ddl)
                )
            except InputError as error:
                if not variants:
                    raise
                variants.append(_rejected(name, changes, error))
                break
            done += 1
        if len(runs) < len(orders):
            continue
        found = figures(runs)
        parted = _is_parted(changed, scenario)
        verdict = judge(variants[0].figures, found, parted=parted) if variants else None
        variants.append(Variant(name, changes, tuple(runs), found, verdict))
    if progress is not None:
        progress(total, total, "")
    return Trial(scenario.scenario, tuple(orders), tuple(variants), unchecked=not scenario.holds)


def trial_of_all(
    explores: Explores,
    engine: Engine,
    scenario: Scenario,
    options: PlayOptions,
    how: ExploreOptions,
    *,
    file: ScenarioFile | None = None,
    only: Sequence[str] | None = None,
    progress: Callable[[str, Explorer], None] | None = None,
) -> Trial:
    """Explore the baseline and each remedy. The scenario's own order is also played in full, for
    locks and times.
    """
    scenario = scenario.for_server(engine.info.server)
    explorer = _Explorer(explores, file, progress, scenario)
    quickly = replace(how, all_orders=0, thorough=False)
    variants: list[Variant] = []
    every = list(_variants(scenario, _chosen(scenario, only)))
    explores.expect(
        explorer.job(changed, ddl, quickly if number else how)
        for number, (_, _, changed, ddl) in enumerate(every)
    )
    for name, changes, changed, ddl in every:
        baseline = variants[0].figures if variants else None
        try:
            given = play(engine, changed, options, file=file, ddl=ddl)
            bare = Variant(name, changes, (given,), NOT_RUN)
            quick = explorer.job(changed, ddl, quickly if variants else how)
            made = explorer.explored(bare, quick, baseline)
            best = min((rank_of(one) for one in variants[1:] if one.wins), default=None)
            if made.wins and (best is None or rank_of(made) < best):
                # what is put first is checked whole
                made = explorer.explored(bare, explorer.job(changed, ddl, how), baseline)
        except InputError as error:
            if not variants:
                raise
            made = _rejected(name, changes, error)
        variants.append(made)
    return Trial(scenario.scenario, (), tuple(variants), unchecked=False)


@dataclass
class _Explorer:
    """Explores variants. ``as_it_is``: the scenario without remedies."""

    explores: Explores
    file: ScenarioFile | None
    progress: Callable[[str, Explorer], None] | None
    as_it_is: Scenario
    _failed: set[str] | None = None

    def job(self, changed: Scenario, ddl: Sequence[str], how: ExploreOptions) -> Job:
        """What explores a variant."""
        return Job(scenario=changed, options=how, ddl=tuple(ddl), file=self.file)

    def failed_serially(self) -> set[str]:
        """Who fails in some serial order of the scenario as it is; asked where anybody fails."""
        if self._failed is None:
            once = ExploreOptions(limit=1, all_orders=0, thorough=False)
            found = self.explores.explored(
                replace(self.job(self.as_it_is, (), once), serially=True)
            )
            self._failed = found.serial.failed
        return self._failed

    def explored(self, bare: Variant, job: Job, baseline: Figures | None) -> Variant:
        """The variant with what exploring it gave, judged by the baseline."""
        progress = partial(self.progress, bare.name) if self.progress is not None else None
        found = self.explores.explored(job, progress).exploration
        numbers = figures_of(
            found,
            job.scenario,
            bare.runs[0],
            failed_serially=self.failed_serially() if found.tally.met("error") else (),
        )
        parted = _is_parted(job.scenario, self.as_it_is)
        verdict = judge(baseline, numbers, parted=parted) if baseline is not None else None
        return replace(bare, figures=numbers, verdict=verdict, explored=found)


def _is_parted(changed: Scenario, as_it_is: Scenario) -> bool:
    """Whether one transaction has become several, of which no rule says who may see them apart."""
    return len(changed.transactions) > len(as_it_is.transactions) and not as_it_is.holds


def _rejected(name: str, changes: tuple[str, ...], error: InputError) -> Variant:
    """A remedy of which the server does not take some statement: the others are tried all the
    same.
    """
    reason = f"the server rejects what it adds: {error.problems[0].message}"
    return Variant(name, changes, (), NOT_RUN, Verdict(rank="loses", reason=reason))


def _chosen(scenario: Scenario, only: Sequence[str] | None) -> list[str]:
    return list(only) if only is not None else list(scenario.remedies)


def _variants(
    scenario: Scenario, chosen: Sequence[str]
) -> Iterator[tuple[str, tuple[str, ...], Scenario, tuple[str, ...]]]:
    yield BASELINE, (), scenario, ()
    for names in chosen:
        parts = [scenario.remedies[name] for name in split_names(names, scenario.remedies)]
        changed, ddl = apply_remedies(scenario, names)
        about = tuple(remedy.about for remedy in parts if remedy.about)
        yield (
            names,
            (*about, *(line for remedy in parts for line in describe(remedy))),
            changed,
            ddl,
        )
