"""What a case of a sweep costs, as a ratio to what its schedules take on a stage that stands; and
what a proposal for all values costs, as a ratio to the sweep. ``make bench`` runs this too.

python benchmarks/sweeping.py [postgresql|mariadb|mysql]
"""

from __future__ import annotations

import sys

from catenum import samples
from catenum.core.scenario.reader import read_scenario
from catenum.core.servers import NAMES
from catenum.core.space.exploration import Exploration
from catenum.engines.clock import Clock
from catenum.engines.targets import Settings, open_engine, resolve
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.propose.propose import Proposer
from catenum.lab.run.play import PlayOptions
from catenum.lab.sweep.sweep import MOST_SCHEDULES, Sweeper

SAMPLE = "line-by-line"
A_CASE, A_PROPOSAL = 1.3, 3.0


class Measured(Sweeper):
    """A sweep that adds up what the schedules of its cases take."""

    walked_ms: float = 0.0

    def explore(self, *words: object, **more: object) -> Exploration:
        found = super().explore(*words, **more)  # type: ignore[arg-type] # whatever it takes
        self.walked_ms += found.reach.ran_ms
        return found


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True
    for server in sys.argv[1:] or list(NAMES):
        scenario = read_scenario(samples.text(SAMPLE).encode(), SAMPLE).scenario
        with open_engine(resolve(f"local:{server}", Settings()), print) as connect:
            engine = connect()
            engine.make_scratch()
            try:
                sweep = Measured(
                    connect=connect,
                    engine=engine,
                    scenario=scenario,
                    options=ExploreOptions(limit=MOST_SCHEDULES),
                )
                swept = sweep.run()
                clock = Clock()
                Proposer(
                    connect=connect,
                    engine=engine,
                    scenario=scenario,
                    options=PlayOptions(locks="full"),
                    how=ExploreOptions(limit=300),
                ).run()
                proposed = clock.now_ms()
            finally:
                engine.close()
        for what, ratio, bound in (
            ("a case / its schedules alone", swept.ran_ms / sweep.walked_ms, A_CASE),
            ("propose for all values / the sweep", proposed / swept.ran_ms, A_PROPOSAL),
        ):
            good = good and ratio <= bound
            line = f"{server}: {SAMPLE}, {what} ({swept.run} cases)"
            print(
                f"{'ok  ' if ratio <= bound else 'SLOW'}  {line:<80} {ratio:6.2f}  (at most"
                f" {bound:g})",
                flush=True,
            )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
