"""Every order that can be made, run after the reduced walk and compared with it, where they are
few.

The reduced walk leaves orders out by what is known of the statements. That knowledge can be wrong;
running every order needs none of it. So where all of them are soon run, they are, and the two
accounts must agree.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace

from catenum.core.space.run import Run
from catenum.core.space.tally import Tally
from catenum.lab.explore.audit import Exactly
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import Stage
from catenum.lab.explore.walker import ExploreOptions, Worker, left_of

#: Outcomes of which a schedule is remembered; and how often one that was missed is run again: two
#: waiters that are let go on at once may race for the next row, and one in two of such a race twice
#: looks like a rule.
MOST_PATHS, AGAIN = 1_000, 8
#: After so many orders their whole number is estimated, and given up where it is so many times too
#: large.
ESTIMATED_AFTER, TOO_MANY_TIMES = (12, 40, 100), 3


@dataclass
class Outcomes:
    """The outcomes of one account of a space, with all data in them. Told of each schedule as it is
    run.
    """

    fine: set[object] = field(default_factory=set)
    paths: dict[object, tuple[str, ...]] = field(
        default_factory=dict
    )  # to each of them, of no more than are compared

    def __call__(self, run: Run) -> None:
        """Take one schedule in."""
        key = run.fine_outcome
        if key not in self.fine:
            self.fine.add(key)
            if len(self.paths) <= MOST_PATHS:
                self.paths[key] = run.path

    def is_steady(self, stage: Stage, key: object) -> bool:
        """Whether its schedule has this outcome each time, so that it is not the server that chose
        it.
        """
        path = self.paths[key]
        oracle = Oracle(stage)
        again = (stage.run(Exactly(path, stage.dependence)) for _ in range(AGAIN))
        return all(not run.broken_off and oracle.judge(run).fine_outcome == key for run in again)


@dataclass(frozen=True)
class EveryOrder:
    """All orders that can be made, run: what they add up to, and whether the server decided nothing
    by itself.
    """

    tally: Tally
    outcomes: Outcomes
    steady: bool


def every_order(
    stage: Stage, options: ExploreOptions, orders: int, over: Callable[[], bool] = lambda: False
) -> EveryOrder | None:
    """Run every order, where no more than ``options.all_orders`` can be made; None where there are
    more (or where ``over`` says so first). ``orders``: their number if nobody ever waited. Raises
    Widened.
    """
    most = options.all_orders
    outcomes = Outcomes()
    worker = Worker(stage, replace(options, every=True, limit=None), outcomes)
    worker.take({"walk": {"more": True, "nodes": []}})
    while worker.busy:
        made = worker.tally.schedules
        if made > most or over():
            return None
        if orders > most and made in ESTIMATED_AFTER and worker.walk is not None:
            walked = 1.0 - left_of(worker.walk.to_plain())
            if walked <= 0 or made / walked > TOO_MANY_TIMES * most:
                return None
        worker.step()
    tally = worker.take_tally()
    steady = not (tally.given_up or tally.diverged or tally.races or tally.contests)
    return EveryOrder(tally, outcomes, steady)
