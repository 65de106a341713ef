"""What a case of a sweep costs, as a ratio to what its schedules take on a stage that stands; and
what a proposal for all values costs, as a ratio to the sweep. ``make bench`` runs this too.

python benchmarks/sweeping.py [postgresql|mariadb|mysql]
"""

from __future__ import annotations

import statistics
import sys

from catenum import samples
from catenum.core.scenario.model import Scenario
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import NATIVE
from catenum.core.sweep.result import Sweep
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.engines.targets import Connector, Settings, open_engine, resolve
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.propose.propose import Proposer
from catenum.lab.run.play import PlayOptions
from catenum.lab.sweep.sweep import MOST_SCHEDULES, Sweeper

SAMPLE = "line-by-line"
A_CASE, A_PROPOSAL = 1.3, 3.0
ROUNDS = 5


def alone_ms(connect: Connector, sweep: Sweeper, swept: Sweep) -> float:
    """What the schedules of all cases take, each explored by itself, without what it takes to set
    the stage.
    """
    runs = (
        ExplorationRunner(
            connect=connect, engine=sweep.engine, scenario=case.scenario, options=sweep.quick
        ).run()
        for case in swept.cases
        if case.scenario is not None
    )
    return sum(found.ran_ms for found in runs)


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True
    for server in sys.argv[1:] or list(NATIVE):
        scenario = read_scenario(samples.text(SAMPLE).encode(), SAMPLE).scenario
        with open_engine(resolve(f"local:{server}", Settings()), print) as connect:
            engine = connect()
            engine.make_scratch()
            try:
                # the first one reads modules and texts that are known behind it
                rounds = [one_round(connect, engine, scenario) for _ in range(ROUNDS + 1)][1:]
            finally:
                engine.close()
        cases, proposals = zip(*rounds, strict=True)
        for what, ratios, bound in (
            ("a case / its schedules alone", cases, A_CASE),
            ("propose for all values / the sweep", proposals, A_PROPOSAL),
        ):
            ratio = statistics.median(ratios)
            good = good and ratio <= bound
            line = f"{server}: {SAMPLE}, {what} ({min(ratios):.2f} to {max(ratios):.2f})"
            print(
                f"{'ok  ' if ratio <= bound else 'SLOW'}  {line:<90} {ratio:6.2f}  (at most"
                f" {bound:g})",
                flush=True,
            )
    return 0 if good else 1


def one_round(connect: Connector, engine: Engine, scenario: Scenario) -> tuple[float, float]:
    """Both ratios, one after the other."""
    here = Here(connect=connect, engine=engine)
    sweep = Sweeper(
        explores=here,
        engine=engine,
        scenario=scenario,
        options=ExploreOptions(limit=MOST_SCHEDULES),
    )
    swept = sweep.run()
    here.close()
    alone = alone_ms(connect, sweep, swept)
    clock = Clock()
    Proposer(
        connect=connect,
        engine=engine,
        explores=here,
        scenario=scenario,
        options=PlayOptions(locks="full"),
        how=ExploreOptions(limit=300),
    ).run()
    proposed = clock.now_ms()
    here.close()
    # what is run to check the sweep is a case as well
    a_case = swept.ran_ms / (swept.run + swept.audited)
    return a_case / (alone / swept.run), proposed / swept.ran_ms


if __name__ == "__main__":
    sys.exit(main())
