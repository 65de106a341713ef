"""Trial: the baseline and each remedy, on the same schedules, side by side."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from catenum.core import schedule
from catenum.core.recording import Recording
from catenum.core.remedies import apply_remedy, describe
from catenum.core.scenario import Remedy, Scenario
from catenum.core.scenario_file import ScenarioFile
from catenum.core.verdict import Figures, Verdict, figures, judge
from catenum.engines.protocol import Engine
from catenum.lab.play import PlayOptions, play

BASELINE = "as it is"


@dataclass(frozen=True)
class Variant:
    """The baseline, or one remedy: what it changes, its runs, and what they came to."""

    name: str
    changes: tuple[str, ...]
    runs: tuple[Recording, ...]
    figures: Figures
    verdict: Verdict | None = None


@dataclass(frozen=True)
class Trial:
    """All variants, the baseline first, and the schedules that each was run on."""

    scenario: str
    orders: tuple[tuple[str, ...], ...]
    variants: tuple[Variant, ...]
    unchecked: bool

    @property
    def baseline(self) -> Variant:
        """The scenario as it is."""
        return self.variants[0]

    @property
    def winners(self) -> list[Variant]:
        """Remedies that can be recommended, those with the least waiting first."""
        won = [variant for variant in self.variants[1:] if variant.verdict and variant.verdict.wins]
        return sorted(won, key=lambda v: (v.figures.conflicts, v.figures.waits, v.figures.longest_chain))


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
    """Run the baseline and each remedy (or ``only`` those) on the same schedules."""
    scenario = scenario.for_server(engine.info.server)
    orders = orders_of(scenario, options.order)
    remedies = {name: r for name, r in scenario.remedies.items() if only is None or name in only}
    total, done = len(orders) * (1 + len(remedies)), 0
    variants: list[Variant] = []
    for name, changes, changed, ddl in _variants(scenario, remedies):
        runs = []
        for order in orders:
            if progress is not None:
                progress(done, total, name)
            runs.append(play(engine, changed, replace(options, order=order), file=file, ddl=ddl))
            done += 1
        found = figures(runs)
        verdict = judge(variants[0].figures, found) if variants else None
        variants.append(Variant(name, changes, tuple(runs), found, verdict))
    if progress is not None:
        progress(total, total, "")
    return Trial(scenario.scenario, tuple(orders), tuple(variants), unchecked=not scenario.holds)


def _variants(
    scenario: Scenario, remedies: dict[str, Remedy]
) -> Iterator[tuple[str, tuple[str, ...], Scenario, tuple[str, ...]]]:
    yield BASELINE, (), scenario, ()
    for name, remedy in remedies.items():
        changed, ddl = apply_remedy(scenario, remedy)
        about = (remedy.about,) if remedy.about else ()
        yield name, (*about, *describe(remedy)), changed, ddl
