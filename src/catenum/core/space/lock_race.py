"""Who goes on first where two wait and a third lets go: a choice that is the server's, and not the
schedule's.

On PostgreSQL the sessions that wait for a row queue for its tuple, but where the holder has changed
the row and commits, the first of the queue lets the tuple go and goes after the row's new version,
and so does the next: either may get there first (``heap_update`` and ``heap_lock_tuple`` in
heapam.c, "Locking tuples" in README.tuplock). Sessions that wait for the same transaction without a
queue (for a key that it inserted, for two rows of it) are all woken at once, on every server.

The walk takes the one that came first to go on first, and has a run made again in which it did not.
That loses nothing where the schedule in which the two came the other way round is walked too: see
``Walk.covers``. Where there is no such schedule, the other choice is an outcome that no schedule
stands for, and nothing may be called proven.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import combinations

from catenum.core.record.recording import TableKeys
from catenum.core.record.values import Binding
from catenum.core.servers.table_access import NAMED_LOCKS, SEQUENCES, AccessMode, TableAccess
from catenum.core.space.access_overlap import overlap
from catenum.core.space.dependence import Dependence
from catenum.core.space.moves import MoveResult
from catenum.core.space.state import Step
from catenum.core.sql.statements import Access

#: Who waits for whom.
Waits = frozenset[tuple[str, str]]


@dataclass(frozen=True, slots=True)
class Arrival:
    """A statement that was sent and waits: as which move of the run, and with which values."""

    place: int
    step: Step
    bound: Binding


@dataclass(frozen=True, slots=True)
class LockRace:
    """Two that waited when a third let go, in the order in which they came (as the moves ``came``).

    ``waiting``: the moves by which all came that waited then. ``overtaken``: the second went on
    first. ``two_ways``: that either goes on first is all that can differ, and what happened tells
    which did.
    """

    first: str
    second: str
    came: tuple[int, int]
    waiting: frozenset[int]
    overtaken: bool
    two_ways: bool


class Arrivals:
    """Those who wait in one run, and since which move."""

    def __init__(self, dependence: Dependence) -> None:
        self._dependence = dependence
        self._here: dict[str, Arrival] = {}
        self._place = 0

    def moved(self, moved: MoveResult, before: Waits) -> list[LockRace]:
        """A move is over (see ``MoveResult``): the contests that it decided. ``before``: the waits
        until then.
        """
        step: Step = (moved.transaction, None if moved.statement is None else moved.statement - 1)
        self._here[moved.transaction] = Arrival(self._place, step, moved.bound)
        self._place += 1
        freeing = sorted(self._letting_go(moved, before))
        found = [contest for free in freeing for contest in self._over(free, moved, before)]
        for name in (*(name for name, _ in moved.completed), *moved.undone, *moved.released):
            self._here.pop(name, None)
        return found

    def _letting_go(self, moved: MoveResult, before: Waits) -> set[str]:
        over = {name for name, statement in moved.completed if statement is None}.union(
            moved.undone, moved.released
        )
        freed = {holder for _, holder in before - moved.waits if holder == moved.transaction}
        return over | freed

    def _over(self, free: str, moved: MoveResult, before: Waits) -> Iterator[LockRace]:
        """The contests over what ``free`` let go of."""
        ended = (moved.transaction, None) in moved.completed
        waiting = {
            name: arrival
            for name, arrival in self._here.items()
            if name != free
            # a mover that is not over itself came upon the victim of its own move: its wait was not
            # seen
            and (
                reaches([name], free, before)
                or (name == moved.transaction and free in moved.undone and not ended)
            )
        }
        places = frozenset(arrival.place for arrival in waiting.values())
        for first, second in combinations(sorted(waiting, key=lambda name: waiting[name].place), 2):
            a, b = waiting[first], waiting[second]
            if (first, second) in before or not self._matters(free, a, b, moved):
                continue  # the first waits for the other, too; or it makes no difference
            two_ways = self._ways(free, a, b, moved, before)
            if two_ways is not None:
                passed = two_ways and _passed(first, second, moved, before)
                # the first may wait for what the second has held all along: then nothing tells who
                # came to it first
                clear = not passed or not self._held_up_anyway(a, b)
                yield LockRace(
                    first, second, (a.place, b.place), places, passed and clear, two_ways and clear
                )

    def _matters(self, free: str, a: Arrival, b: Arrival, moved: MoveResult) -> bool:
        """Whether it can make a difference who of two goes on first."""
        both = {a.step[0], b.step[0]}
        undone = both.intersection(moved.undone)
        late = any(
            self._dependence.rules.locks.refuses_what_changed(self._dependence.levels[name])
            for name in undone
        )
        if undone == both or (late and free in moved.committed):
            return False  # refused, whoever comes first
        if not self._dependence.depend(a.step, b.step, a.bound, b.bound):
            return False
        done = {(name, None if number is None else number - 1) for name, number in moved.completed}
        # where they have their locks beside each other, neither shows anything before its end
        beside = {a.step, b.step} <= done and not undone
        return not beside or any(map(_shows_at_once, (*self._touched(a), *self._touched(b))))

    def _ways(
        self, free: str, a: Arrival, b: Arrival, moved: MoveResult, before: Waits
    ) -> bool | None:
        """None where the server has a rule for who goes on first; otherwise whether there are just
        two ways.
        """
        rules = self._dependence.rules
        queued = (b.step[0], a.step[0]) in before
        if queued and any(
            touch.mode is AccessMode.SCHEMA and touch.table
            for x in (a, b)
            for touch in self._touched(x)
        ):
            return None  # locks of tables are given in the order of their queue
        simple = self._takes_one_lock(a) or self._takes_one_lock(b)
        if rules.locks.grants_at_release:
            # a lock on a row that is gone with its transaction's rollback is no lock to queue for
            gone = free not in moved.committed and self._made(free, a, b, AccessMode.INSERT)
            if queued:
                return False if gone else None
            if gone or self._made(free, a, b, AccessMode.SCHEMA):
                return False
            # both wait for a gap, and then for each other's key
            inserts = self._inserts_one_key(a) and self._inserts_one_key(b)
            if inserts and not {a.step[0], b.step[0]}.intersection(moved.undone):
                return True
            return None if simple else False
        if not queued:
            return simple
        levels = [self._dependence.levels[x.step[0]] for x in (a, b)]
        wrote = free in moved.committed and self._made(free, a, b, AccessMode.WRITE)
        return True if wrote and rules.locks.may_overtake(levels) else None

    def _held_up_anyway(self, a: Arrival, b: Arrival) -> bool:
        """Whether the first may want what the second has locked by earlier statements."""
        name, number = b.step
        earlier = range(len(self._dependence.statements[name]) if number is None else number)
        return any(self._dependence.depend(a.step, (name, n), a.bound) for n in earlier)

    def _made(self, free: str, a: Arrival, b: Arrival, least: AccessMode) -> bool:
        """Whether both may wait for what a transaction did in such a way at least, rather than only
        locked.
        """
        ours, theirs = self._touched(a), self._touched(b)
        return any(
            change.mode >= least
            and change.table != NAMED_LOCKS
            and not change.at_once
            and any(overlap(change, x) for x in ours)
            and any(overlap(change, x) for x in theirs)
            for change in self._dependence.all_touches(free)
        )

    def _touched(self, arrival: Arrival) -> Sequence[TableAccess]:
        name, number = arrival.step
        if number is None:
            return self._dependence.all_touches(name)
        return self._dependence.touched(arrival.step, arrival.bound)

    def _takes_one_lock(self, arrival: Arrival) -> bool:
        """Whether a statement that waits asks for no other lock, of those that others could want,
        after this one.
        """
        touch = self._only_lock(arrival)
        rules = self._dependence.rules
        if touch is None or not touch.keys:
            return False
        if not rules.locks.grants_at_release:
            return touch.mode is not AccessMode.INSERT or len(touch.keys) == 1
        found = self._dependence.read(arrival.step, arrival.bound).accesses
        if len(found) != 1 or [columns for columns, _ in touch.keys] != [
            self._keys(found[0]).primary
        ]:
            return False  # the row comes after an entry of another index, or beside another table's
        keys = self._keys(found[0])
        indexed = {
            "*",
            *(column for index in keys.indexes.values() for column in index),
            *keys.columns,
        }
        changed = {column.lower() for column in found[0].columns}
        return found[0].verb == "lock" or (
            found[0].verb == "update" and not changed & {c.lower() for c in indexed}
        )

    def _keys(self, access: Access) -> TableKeys:
        return self._dependence.tables[access.table.lower()]

    def _inserts_one_key(self, arrival: Arrival) -> bool:
        touch = self._only_lock(arrival)
        return touch is not None and touch.mode is AccessMode.INSERT and len(touch.keys or ()) == 1

    def _only_lock(self, arrival: Arrival) -> TableAccess | None:
        """What a statement locks, where that is one thing."""
        touched = self._touched(arrival)
        locked = [
            touch for touch in touched if touch.mode >= AccessMode.SHARE and not touch.at_once
        ]
        return locked[0] if len(locked) == 1 and arrival.step[1] is not None else None


def _passed(first: str, second: str, moved: MoveResult, before: Waits) -> bool:
    """Whether the second went on, and the first waits for it."""
    if {first, second} & set(moved.undone):
        return False
    went_on = any(name == second for name, _ in moved.completed)
    went_on = went_on or holders_of(second, before) != holders_of(second, moved.waits)
    return went_on and (first, second) in moved.waits and (second, first) not in moved.waits


def _shows_at_once(touch: TableAccess) -> bool:
    """Whether such a touch sees, or shows, what no lock keeps back until the end of a
    transaction.
    """
    return touch.mode is AccessMode.DIRTY or touch.table in (None, SEQUENCES)


def holders_of(name: str, waits: Waits) -> set[str]:
    """For whom a transaction waits itself."""
    return {holder for waiter, holder in waits if waiter == name}


def reaches(start: Iterable[str], goal: str, waits: Waits) -> bool:
    """Whether one of ``start`` is ``goal``, or waits for it, directly or through others."""
    seen: set[str] = set()
    stack = list(start)
    while stack:
        name = stack.pop()
        if name == goal:
            return True
        if name not in seen:
            seen.add(name)
            stack.extend(holder for waiter, holder in waits if waiter == name)
    return False
