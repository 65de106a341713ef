"""Whether a change keeps what transactions mean: one after another they must leave and see the same
as before.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import islice

from catenum.core.record.recording import TableRows
from catenum.core.space.oracle import PASSED_OVER, Observation
from catenum.core.space.run import Run
from catenum.core.space.schedule import merges
from catenum.lab.explore.serial import Oracle
from catenum.lab.explore.stage import Stage

#: Serial orders that are run for it.
MOST_ORDERS = 24
Order = tuple[str, ...]


@dataclass(frozen=True)
class Serial:
    """All (or the first) serial orders of a scenario, run."""

    runs: Mapping[Order, Run]

    @property
    def ended(self) -> list[Order]:
        """The orders in which every transaction came to its end: only those have a meaning to
        compare.
        """
        return [
            order
            for order, run in self.runs.items()
            if all(status in ("committed", "rolled back") for status in run.status.values())
        ]

    @property
    def failed(self) -> set[str]:
        """Who comes to no good end in some serial order."""
        return {
            name
            for run in self.runs.values()
            for name, status in run.status.items()
            if status == "failed"
        }

    @property
    def always_fails(self) -> bool:
        """Whether somebody fails in every serial order."""
        return bool(self.runs) and all(
            "failed" in run.status.values() for run in self.runs.values()
        )

    @property
    def broken(self) -> tuple[str, ...]:
        """Rules that some serial order breaks."""
        found = [
            title
            for run in self.runs.values()
            for title, value in run.holds.items()
            if value is not True
        ]
        return tuple(dict.fromkeys(found))


def serial(stage: Stage) -> Serial:
    """The transactions one after another, in every order."""
    orders = islice(merges(list(stage.scenario.connections.values())), MOST_ORDERS)
    return Serial({order: stage.serial_run(order) for order in orders})


def ends_badly(run: Run) -> bool:
    """Whether no change in which this schedule, judged, can happen is a cure."""
    if run.kind not in ("clean", "waited") and not run.ended_well:
        return True
    return run.data == "anomaly" or any(value is not True for value in run.holds.values())


def difference(
    before: Serial,
    after: Serial,
    *,
    decides: bool,
    dropped: Mapping[str, Sequence[int]] | None = None,
    by_count: bool = False,
) -> str | None:
    """In what the changed scenario means something else; None where nothing was found.

    ``decides``: it is meant to, since the scenario as it is breaks its rules in any order: then
    they must hold. ``dropped``: the numbers of statements that are left out, whose results nobody
    sees any more. ``by_count``: a rollback of nothing may have become a commit of nothing, since
    how many rows a write has changed says the same.
    """
    for order in after.runs if decides else before.ended:
        if order not in before.runs or order not in after.runs:
            return "its transactions are others"
        was, now = before.runs[order], after.runs[order]
        reported = ", then ".join(order)
        if decides:
            broken = [title for title, value in now.holds.items() if value is not True]
            if broken:
                return f"run one after another ({reported}) the rule '{broken[0]}' is false"
            continue
        other = next(
            (n for n in was.status if _ended(was, n, by_count) != _ended(now, n, by_count)), None
        )
        if other is not None:
            return (
                f"run one after another ({reported}) {other} is {now.status[other]}, and not"
                f" {was.status[other]}{_why(now, other)}"
            )
        if _rows(was.observed) != _rows(now.observed):
            return f"run one after another ({reported}) it leaves other rows"
        for name in order:
            mine = _seen(was.observed, name, (dropped or {}).get(name, ()))
            theirs = _seen(now.observed, name)
            if mine - theirs:
                return f"run one after another ({reported}) {name} sees other results"
    return None


def _why(run: Run, name: str) -> str:
    numbers = [n + 1 for other, n in run.rejected if other == name and n is not None]
    return f": the server rejects its statement {min(numbers)}" if numbers else ""


def _ended(run: Run, name: str, by_count: bool) -> str:
    status = run.status[name]
    return "committed" if by_count and status == "rolled back" else status


def _rows(observed: Observation) -> dict[str, tuple[object, ...]]:
    return {table: (rows.columns, rows.rows, rows.total) for table, rows in observed.rows.items()}


def _seen(observed: Observation, name: str, without: Sequence[int] = ()) -> Counter[object]:
    seen = enumerate(observed.seen.get(name, ()), 1)
    return Counter(
        (one.rows, one.content) for n, one in seen if one != PASSED_OVER and n not in without
    )


class Compared:
    """What a changed scenario is compared by: schedules that end badly as it is, run before it is
    explored, and the serial orders, run behind it.
    """

    def __init__(self, schedules: Sequence[tuple[str, ...]] = ()) -> None:
        self.schedules = schedules
        self.found = Serial({})
        self.loaded: Mapping[str, TableRows] = {}

    def before(self, stage: Stage) -> None:
        """Raises StillBad where such a schedule ends badly here as well."""
        self.loaded, oracle = stage.loaded, Oracle(stage)
        for order in self.schedules:
            run = oracle.judge(stage.run(order=order))
            if ends_badly(run):
                raise StillBad(run)

    def behind(self, stage: Stage) -> None:
        """Runs those serial orders that were not among the schedules."""
        self.found = serial(stage)

    def heard(self, run: Run) -> None:
        """Raises StillBad where another schedule ends badly, and that is to be known."""
        if self.schedules and ends_badly(run):
            raise StillBad(run)


class StillBad(Exception):
    """A candidate that cannot cure: exploring it tells no more than how bad it is. ``run``: the bad
    schedule.
    """

    def __init__(self, run: Run) -> None:
        super().__init__(run.kind)
        self.run = run

    def __reduce__(self) -> tuple[object, ...]:
        return StillBad, (self.run,)
