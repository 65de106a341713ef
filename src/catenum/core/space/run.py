"""The outcome of one schedule of many: little enough to make thousands of a second's share, enough
to compare them.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any, Literal

from catenum.core.record.recording import DataVerdict, Event, Kind, Status
from catenum.core.space.anomaly import Anomaly
from catenum.core.space.oracle import Observation

#: Where data is no serial order's: in the rows at the end, or only in what was read on the way.
Wrong = Literal["rows", "reads"]


@dataclass(frozen=True, slots=True, order=True)
class WaitPair:
    """A statement that waited for another's transaction: numbers count from 1, None is an end (or
    is not known).

    ``holder_candidates``: where it is not certain which statement of the holder took the lock,
    those that may have.
    """

    waiter: str
    statement: int | None
    holder: str
    holder_statement: int | None
    resource: str
    wanted: str
    holder_candidates: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class DeadlockOutline:
    """A deadlock: its members with their statements, in cycle order from the first by name, and the
    victim.

    ``unended``: the server did not end it, and Catenum did. ``named``: every resource is known down
    to its row.
    """

    members: tuple[tuple[str, int | None], ...]
    resources: tuple[str, ...]
    victim: str | None
    unended: bool = False
    named: bool = True


@dataclass(frozen=True, slots=True)
class LostWork:
    """A statement (from 1) that failed in a transaction that went on: without it, where it was
    ``left_out``, or without what came before it, which the server rolled back with it.
    """

    transaction: str
    statement: int
    kind: str
    left_out: bool

    def __str__(self) -> str:
        if self.left_out:
            without = f"its statement {self.statement}, which failed ({self.kind})"
        else:
            without = f"what it had done before its statement {self.statement} ({self.kind})"
        return f"{self.transaction} committed without {without}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Run:
    """One schedule, run. ``path`` names the transaction of each move made.

    ``went_on``: see ``went_on``. ``chosen``: the server went on otherwise than it does as a rule,
    so ``path`` does not lead there by itself.
    """

    path: tuple[str, ...]
    kind: Kind
    status: dict[str, Status]
    failed_by: dict[str, tuple[str, ...]]
    attempts: dict[str, int]
    wait_pairs: tuple[WaitPair, ...]
    cycles: tuple[DeadlockOutline, ...]
    chain: int
    locks: int | None
    holds: dict[str, bool | None]
    observed: Observation
    ended_well: bool
    broken_off: bool = False
    data: DataVerdict = "unchecked"
    anomaly: Anomaly | None = None
    wrong: Wrong | None = None
    went_on: tuple[str, ...] = ()
    chosen: bool = False
    hidden: int = 0  # deadlocks that the server counted and no client received
    lost: tuple[LostWork, ...] = ()
    rejected: frozenset[tuple[str, int | None]] = frozenset()  # steps that the server rejected

    @property
    def outcome(self) -> tuple[Any, ...]:
        """What makes it another outcome than another run's: kind, data, rules, and what became of
        each transaction.
        """
        return (
            self.kind,
            self.data,
            self.anomaly.name if self.anomaly else None,
            self.wrong,
            bool(self.hidden),
            tuple(sorted(self.holds.items())),
            tuple(
                (name, self.status[name], self.failed_by.get(name, ()))
                for name in sorted(self.status)
            ),
        )

    @property
    def fine_outcome(self) -> tuple[Any, ...]:
        """The same with all data in it: what reduction must not lose."""
        return (*self.outcome, self.observed.key, tuple(sorted(self.attempts.items())))


def went_on(events: Iterable[Event]) -> tuple[str, ...]:
    """Which statements that had waited went on or failed, in the order of the moves: what a
    schedule leaves open.
    """
    found = [
        (event.move, event.transaction, event.statement)
        for event in events
        if event.what in ("resumed", "failed")
    ]
    ordered = sorted(
        found, key=lambda one: (one[0], one[1])
    )  # what one move let go on, went on together
    return tuple(
        f"{name} {'end' if statement is None else statement}" for _, name, statement in ordered
    )
