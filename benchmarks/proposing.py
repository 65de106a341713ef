"""Time to the first cure, as a ratio to exploring the sample as it is. ``make bench`` runs this
too.

python benchmarks/proposing.py [postgresql|mariadb|mysql]
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from statistics import median

from catenum import samples
from catenum.core.scenario.reader import read_scenario
from catenum.engines.clock import Clock
from catenum.engines.ports import Engine
from catenum.engines.targets import Settings, open_engine, resolve
from catenum.lab.explore.jobs import Here
from catenum.lab.explore.runner import ExplorationRunner
from catenum.lab.explore.walker import ExploreOptions
from catenum.lab.propose.propose import Proposer
from catenum.lab.run.play import PlayOptions

BOUND = 3.0
#: Where a pair of measurements takes less than this (ms) it is made so often, and the median
#: counts.
QUICK_MS, REPEATS = 8_000.0, 5
#: Samples in which a conflict can be cured move by move, where it happens.
SAMPLES = {
    "postgresql": (
        "berth-swap",
        "tug-upgrade",
        "crane-standby",
        "left-open",
        "crane-key",
        "call-cancel",
        "box-number",
        "manifest-total",
        "berth-count",
        "batch-order",
        "three-desks",
    ),
    "mariadb": (
        "berth-swap",
        "tug-upgrade",
        "crane-standby",
        "crane-key",
        "call-cancel",
        "gap-insert",
        "gate-queue",
        "box-number",
        "berth-count",
        "batch-order",
        "three-desks",
    ),
}
SAMPLES["mysql"] = SAMPLES["mariadb"]


def _measured(connect: Callable[[], Engine], name: str) -> tuple[float, float]:
    """How long exploring takes alone, and the first cure, in ms; without bound where none is
    found.
    """
    engine = connect()
    engine.make_scratch()
    try:
        scenario = read_scenario(samples.text(name).encode(), name).scenario
        how = ExploreOptions(limit=300)
        clock = Clock()
        ExplorationRunner(connect=connect, engine=engine, scenario=scenario, options=how).run()
        alone = clock.now_ms()
        found = Proposer(
            connect=connect,
            engine=engine,
            explores=Here(connect=connect, engine=engine),
            scenario=scenario,
            options=PlayOptions(locks="full"),
            how=how,
            first_only=True,
        ).run()
        return alone, found.first_cure_ms or float("inf")
    finally:
        engine.close()


def main() -> int:
    """Measure and print; 1 where a bound is passed."""
    good = True
    for server in sys.argv[1:] or list(SAMPLES):
        with open_engine(resolve(f"local:{server}", Settings()), print) as connect:
            for name in SAMPLES[server]:
                pairs = [_measured(connect, name)]
                while sum(pairs[0]) < QUICK_MS and len(pairs) < REPEATS:
                    pairs.append(_measured(connect, name))
                ratio = median(cure / alone for alone, cure in pairs)
                took = median(alone for alone, _ in pairs)
                good = good and ratio <= BOUND
                what = (
                    f"{server}: {name}, to the first cure / exploring it as it is ({took:.0f} ms)"
                )
                print(
                    f"{'ok  ' if ratio <= BOUND else 'SLOW'}  {what:<80} {ratio:6.2f}  (at most"
                    f" {BOUND:g})",
                    flush=True,
                )
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
