"""How much of the space of schedules is run: what all that explore take."""

from __future__ import annotations

from catenum.api.lengths import Duration, milliseconds
from catenum.api.scenarios import RunOptions
from catenum.lab.explore.stage import StageOptions
from catenum.lab.explore.walker import ALL_ORDERS, ExploreOptions

#: Classes of schedules that ``explore`` runs, and that each variant of a comparison does.
MOST_CLASSES, MOST_COMPARED = 10_000, 300


class SpaceOptions(RunOptions, total=False):
    """``every``: also the schedules that must have the same result as another; ``limit``: at most
    so many classes of schedules, of more a sample is drawn; ``check_orders``: where no more orders
    than this can be made, all of them are run as well; ``time_limit``: no schedule is begun later;
    ``seed``: of what is drawn by chance; ``workers``: processes, each with scratch space;
    ``cluster``: the address of a Dask scheduler whose workers do the work, or ``local:N`` for N
    processes of one that is started here; ``insecure_cluster``: also where its messages are neither
    encrypted nor signed and it is on another machine.
    """

    every: bool
    limit: int
    check_orders: int
    time_limit: Duration | None
    seed: int
    workers: int
    cluster: str | None
    insecure_cluster: bool


def explore_options(
    options: SpaceOptions, *, limit: int, pictures: bool = False, timed: bool = True
) -> ExploreOptions:
    """What the lab takes; ``limit`` where none is given. ``timed``: the time limit is that of each
    exploration, rather than of a whole series.
    """
    length = options.get("time_limit") if timed else None
    return ExploreOptions(
        every=options.get("every", False),
        limit=options.get("limit", limit),
        for_ms=milliseconds(length) if length is not None else None,
        seed=options.get("seed", 1),
        all_orders=options.get("check_orders", ALL_ORDERS),
        stage=StageOptions(
            pictures=pictures,
            victim=options.get("victim"),
            limit_ms=milliseconds(options.get("statement_limit", 60_000.0)),
        ),
    )
