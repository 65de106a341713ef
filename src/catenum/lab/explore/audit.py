"""The second net under an exploration: what was assumed of statements is compared with what the
server did.

The walk leaves schedules out that differ from others only in the order of neighbouring independent
moves. So some such neighbours are exchanged and run: the outcome must be the same. A statement must
never wait for a transaction of which all moves were taken for independent of it, nor lock a table
that it was not known to touch. Where one of these is met, the assumption is dropped (``Widened``)
and the space is walked again without it.

Where the server itself decides who goes on first, one schedule can have two outcomes. Such
schedules are run again.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import combinations
from typing import Any

from catenum.core.servers.table_access import SEQUENCES
from catenum.core.space.dependence import Dependence
from catenum.core.space.lock_race import Arrivals, Waits
from catenum.core.space.moves import MoveResult
from catenum.core.space.run import Run
from catenum.core.space.search import Space, Walk
from catenum.core.space.state import Step
from catenum.lab.explore.stage import Stage

#: Of the runs, one in so many may be spent on exchanges, and one in so many on schedules that the
#: server may decide.
ONE_IN = 10
#: How often a schedule that the server may decide is run again.
REPEATS = 2
#: How many runs may be spent in any case on seeing the server's other choice where no schedule
#: stands for it.
SEEKS = 40
#: How often a schedule is made again that came out otherwise than it should.
MOST_TRIES = 20

Pair = tuple[Step, Step]


class Widened(Exception):
    """What was assumed is not so; everything is to be walked again with that known: ``pairs`` of
    moves that are not independent, statements (``passing``) that do not wait. ``expected``: that is
    no fault in what is known of the server.
    """

    def __init__(
        self, pairs: Sequence[Pair], why: str, passing: Sequence[Step] = (), expected: bool = False
    ) -> None:
        super().__init__(why)
        self.pairs, self.why, self.passing = tuple(pairs), why, tuple(passing)
        self.expected = expected

    def __reduce__(self) -> tuple[object, ...]:
        return Widened, (self.pairs, self.why, self.passing, self.expected)


@dataclass(frozen=True, slots=True)
class Exchange:
    """A schedule, and the place in it of the first of two neighbours that may change places.

    ``special``: it took more than their tables to call the two independent.
    """

    path: tuple[str, ...]
    place: int
    pair: Pair
    special: bool = False

    @property
    def exchanged(self) -> tuple[str, ...]:
        """The schedule with the two in the other order."""
        at, path = self.place, self.path
        return (*path[:at], path[at + 1], path[at], *path[at + 2 :])


class Exactly:
    """Guides a run along one path; where that cannot be followed, or is over too soon, the run is
    broken off.

    So it is where a transaction is overtaken by one that came later, unless the run is to go on
    ``past`` that, to some end.
    """

    def __init__(self, path: Sequence[str], dependence: Dependence, *, past: bool = False) -> None:
        self.path, self.depth, self.past = path, 0, past
        self.overtaken = False
        self._arrivals = Arrivals(dependence)
        self._waits: Waits = frozenset()

    def choose(self, ready: Sequence[str], waits: Waits) -> str | None:
        """The next of the path."""
        self._waits = waits
        if self.overtaken:
            return ready[0] if self.past else None
        name = self.path[self.depth] if self.depth < len(self.path) else None
        return name if name in ready else None

    def moved(self, moved: MoveResult) -> None:
        self.depth += 1
        contests = self._arrivals.moved(moved, self._waits)
        self.overtaken = self.overtaken or any(contest.overtaken for contest in contests)


def exchanges(walk: Walk, path: tuple[str, ...]) -> Iterator[Exchange]:
    """The neighbours on the walk's schedule at hand that were taken for independent, and could both
    move first.
    """
    for place, (node, following) in enumerate(zip(walk.nodes, walk.nodes[1:], strict=False)):
        one, other = node.walked[node.at_hand], following.walked[following.at_hand]
        if (
            one is None
            or other is None
            or one.mover == other.mover
            or other.mover not in node.ready
        ):
            continue
        if walk.space.independent(one, other, node.waits):
            steps = (_step(walk.space, node, one.mover), _step(walk.space, node, other.mover))
            special = any(
                walk.space.dependence.special(x, y) for x in one.steps for y in other.steps
            )
            yield Exchange(path, place, steps, special)


def _step(space: Space, node: Any, name: str) -> Step:
    return space.step(name, node.progress.next[name])


class Audit:
    """Which exchanges to make, and what comes of them."""

    def __init__(
        self, stage: Stage, space: Space, one_in: int = ONE_IN, *, thorough: bool = True
    ) -> None:
        """``one_in``: of so many runs one may be spent on exchanges, one on schedules that the
        server may decide. ``thorough``: each pair that is independent for a special reason is
        exchanged, however many there are.
        """
        self.stage, self.space, self.one_in, self.thorough = stage, space, one_in, thorough
        self.runs = self.tried = self.swaps = self.repeated = self.races = self.overtaken = (
            self.sought
        ) = 0
        self.race: tuple[str, ...] | None = None
        self.fresh: list[Run] = []  # other outcomes of schedules that were run already
        self._waiting: dict[Pair, tuple[Exchange, Run]] = {}
        self._made: dict[Pair, int] = {}
        self.special: dict[
            Pair, bool
        ] = {}  # pairs independent for a special reason: whether they were exchanged
        self._bars: dict[
            tuple[Step, str], tuple[str, ...]
        ] = {}  # certain waits, and moves that lead to each

    def saw(self, run: Run, possible: Sequence[Exchange], *, contested: bool = False) -> None:
        """A schedule was run. Raises Widened where it contradicts what was assumed.

        ``contested``: the server could have let another go on first, for which no schedule stands,
        and one would know.
        """
        self.runs += 1
        contradiction(self.space.dependence, run)
        for exchange in possible:
            known = self._waiting.get(exchange.pair)
            if known is None or _lot(exchange) < _lot(known[0]):
                self._waiting[exchange.pair] = (exchange, run)
            if exchange.special:
                self.special.setdefault(exchange.pair, False)
        if self.tried < self.runs // self.one_in:
            self.exchange()
        if may_differ(run) and self.repeated < max(REPEATS, self.runs // self.one_in):
            self._repeat(run)
        if contested:
            self._seek(run)

    def bar(self, step: Step, holder: str, path: tuple[str, ...]) -> None:
        """A statement is taken for certain to wait after these moves, the last of which sends
        it.
        """
        known = self._bars.get((step, holder))
        if known is None or (len(path), path) < (len(known), known):
            self._bars[step, holder] = path

    def finish(self) -> None:
        """The share is worked off: whatever rests on a special reason is tried, and at least one
        exchange is made. Raises Widened.
        """
        if self.thorough:
            for bar, path in sorted(self._bars.items()):
                self._try_bar(*bar, path)
            self._bars.clear()
            while any(not done and pair in self._waiting for pair, done in self.special.items()):
                self.exchange()
        if not self.tried:
            self.exchange()

    def _try_bar(self, step: Step, holder: str, path: tuple[str, ...]) -> None:
        guide = Exactly(path, self.space.dependence)
        run = self.stage.run(guide)
        name, number = step
        waited = any((m.waiter, m.statement) == (name, (number or 0) + 1) for m in run.wait_pairs)
        if guide.depth == len(path) and not waited:
            why = (
                f"{step_name(step)} was certain to wait for {holder} after '{' '.join(path[:-1])}',"
                " but did not"
            )
            raise Widened([], why, [step])

    def exchange(self) -> None:
        """Make the exchange of the pair of statements that was exchanged least, those with a
        special reason first. Raises Widened.
        """
        if not self._waiting:
            return
        pair = min(
            self._waiting,
            key=lambda p: (self._made.get(p, 0), p not in self.special, _lot(self._waiting[p][0])),
        )
        exchange, run = self._waiting.pop(pair)
        self._made[pair] = self._made.get(pair, 0) + 1
        if pair in self.special:
            self.special[pair] = True
        self.tried += 1
        if self._again(exchange.exchanged) == _essence(run):
            self.swaps += 1
            return
        if not self._steady(exchange.path, run):
            return
        if self._again(exchange.exchanged) == _essence(
            run
        ):  # it ended in two ways: no exchange can be judged by it
            self._raced(exchange.exchanged)
            return
        a, b = pair
        raise Widened(
            [pair],
            f"{step_name(a)} and {step_name(b)} were taken for independent, but "
            f"'{' '.join(exchange.exchanged)}' ends otherwise than '{' '.join(exchange.path)}'",
        )

    def _raced(self, path: tuple[str, ...]) -> None:
        self.races, self.race = self.races + 1, self.race or path

    def _seek(self, run: Run) -> None:
        """See whether the server makes its other choice, too."""
        for _ in range(MOST_TRIES):
            if self.sought >= max(SEEKS, self.runs // self.one_in):
                return
            self.sought, self.repeated = self.sought + 1, self.repeated + 1
            guide = Exactly(run.path, self.space.dependence, past=True)
            again = self.stage.run(guide)
            if guide.overtaken:
                self.overtaken += 1
                self.fresh.append(replace(again, chosen=True))
                return

    def _repeat(self, run: Run) -> None:
        for _ in range(REPEATS):
            self.repeated += 1
            if not self._steady(run.path, run, times=1):
                return

    def _steady(self, path: tuple[str, ...], run: Run, times: int = 2) -> bool:
        """Whether a schedule ends as before; if not, the server has decided something by itself."""
        for _ in range(times):
            again = self._exactly(path)
            if again.broken_off or _essence(again) != _essence(run):
                self._raced(path)
                if not again.broken_off:
                    self.fresh.append(again)
                return False
        return True

    def _exactly(self, path: Sequence[str]) -> Run:
        """Run a schedule in which nobody is overtaken: that is another one's outcome, or known to
        be the server's.
        """
        for _ in range(MOST_TRIES):
            guide = Exactly(path, self.space.dependence)
            run = self.stage.run(guide)
            if not guide.overtaken:
                break
            self.overtaken += 1
        return run

    def _again(self, path: Sequence[str]) -> object:
        run = self._exactly(path)
        return None if run.broken_off else _essence(run)


def _lot(exchange: Exchange) -> int:
    """An order that has nothing to do with how the space is walked, and is the same each time."""
    return zlib.crc32(f"{exchange.place} {' '.join(exchange.path)}".encode())


def _essence(run: Run) -> object:
    return (run.kind, run.status, run.failed_by, run.holds, run.attempts, run.observed.key)


def may_differ(run: Run) -> bool:
    """Whether the server may let the same schedule end in two ways: two waited for one thing at
    some time, or one was refused, which depends on what the server remembers of transactions that
    are over.
    """
    waiters: dict[tuple[str, str], set[str]] = {}
    for wait_pair in run.wait_pairs:
        waiters.setdefault((wait_pair.holder, wait_pair.resource), set()).add(wait_pair.waiter)
    refused = any("refused" in kinds for kinds in run.failed_by.values())
    return refused or any(len(names) > 1 for names in waiters.values())


def _ages_count(dependence: Dependence, run: Run) -> None:
    """Raises Widened where a deadlock's victim may be chosen by who began first, which was taken to
    be all the same.
    """
    if not any("deadlock" in kinds for kinds in run.failed_by.values()):
        return
    met = {name for pair in run.wait_pairs for name in (pair.waiter, pair.holder)}
    members = sorted((met | set(run.failed_by)) & dependence.statements.keys())
    pairs = [
        (one, other)
        for a, b in combinations(members, 2)
        for one in dependence.first_steps(a)
        for other in dependence.first_steps(b)
        if not dependence.depend(one, other)
    ]
    if pairs:
        why = (
            "which transaction is the victim of a deadlock may depend on who began first, so the"
            " order of their first statements counts"
        )
        raise Widened(pairs, why, expected=True)


def contradiction(dependence: Dependence, run: Run) -> None:
    """Raises Widened where a statement waited for a transaction with which it was taken to have
    nothing to do, or where a transaction failed that was taken to have nothing to do with any
    other.
    """
    if dependence.rules.locks.victim_by_age:
        _ages_count(dependence, run)
    passing = [step for step in sorted(run.rejected, key=repr) if step[1] is not None]
    passing = [step for step in passing if step not in dependence.may_pass]
    if passing:
        raise Widened([], f"{step_name(passing[0])} can be rejected, so it need not wait", passing)
    for wait_pair in run.wait_pairs:
        if wait_pair.holder not in dependence.statements:
            continue
        step: Step = (
            wait_pair.waiter,
            None if wait_pair.statement is None else wait_pair.statement - 1,
        )
        theirs = _steps(dependence, wait_pair.holder)
        if not any(dependence.depend(step, other) for other in theirs):
            why = (
                f"{step_name(step)} waited for {wait_pair.holder}, with which it was taken to have"
                " nothing to do"
            )
            raise Widened([(step, other) for other in theirs], why)
    for name, kinds in run.failed_by.items():
        others = [
            step
            for other in dependence.statements
            if other != name
            for step in _steps(dependence, other)
        ]
        own = _steps(dependence, name)
        met = any(dependence.depend(one, other) for one in own for other in others)
        if not met and {"deadlock", "refused", "timeout"} & set(kinds):
            why = (
                f"{name} failed ({', '.join(kinds)}), although it was taken to have nothing to do"
                " with any other"
            )
            raise Widened([(one, other) for one in own for other in others], why)


def untold(stage: Stage) -> list[tuple[Step, str]]:
    """Statements that were seen to lock a table which they were not known to touch, in one serial
    order.
    """
    conductor = stage.pictured(list(stage.scenario.transactions))
    made = {
        move.number: (move.transaction, move.statement) for move in reversed(conductor.log.schedule)
    }
    known = stage.dependence
    found: list[tuple[Step, str]] = []
    names = {table.lower() for table in stage.tables}
    for picture in conductor.log.taken:
        name, statement = made.get(picture.move, ("", None))
        if statement is None:
            continue
        steps = [(name, number) for number in range(statement)]
        touched = {touch.table for step in steps for touch in known.touches[step]}
        locked = {
            (e.resource.table or "").lower()
            for e in picture.locks
            if e.transaction == name and e.granted
        }
        beyond = sorted(t for t in (locked & names) - touched if not _is_sequence(stage, t, steps))
        if beyond and None not in touched:
            found.append(((name, statement - 1), beyond[0]))
    return found


def _is_sequence(stage: Stage, table: str, steps: Sequence[Step]) -> bool:
    """Whether a table is a sequence that these statements name, as MariaDB has them; one that is
    also read as a table is more than that.
    """
    known = stage.dependence
    if any(touch.table == table for touches in known.touches.values() for touch in touches):
        return False
    word = re.compile(rf"\b{re.escape(table)}\b", re.IGNORECASE)
    return any(
        touch.table == SEQUENCES and word.search(known.statements[name][number or 0])
        for name, number in steps
        for touch in known.touches[name, number]
    )


def _steps(dependence: Dependence, name: str) -> list[Step]:
    return [*((name, number) for number in range(len(dependence.statements[name]))), (name, None)]


def step_name(step: Step) -> str:
    name, number = step
    return f"the end of {name}" if number is None else f"{name} statement {number + 1}"
