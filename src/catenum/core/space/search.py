"""Walks the space of schedules: every class of equivalent ones once, by running each from its
beginning.

A schedule is a path of choices among the transactions that can move. Two that differ only in the
order of neighbouring independent moves come out the same, so one of each class is enough. What is
not walked again is known by *sleep sets* (Godefroid 1996, chapter 5): when all that follows from
moving A has been walked, A sleeps below its later siblings until a move is made that depends on it.
Which moves depend is looked at as they are made, as in dynamic partial-order reduction (Flanagan
and Godefroid 2005): a move may bring more than its own statement (others go on, a victim is
undone), and two moves that wait depend on each other where both together close a cycle, since the
last to wait may be the victim. Nodes below which every transaction that could move sleeps for ever
are not entered (the concern of Abdulla, Aronis, Jonsson and Sagonas 2014, met here by asking which
moves could still wake a sleeper).

A walk is a plain value: a stack of nodes, one for each move of the schedule at hand. So it can be
kept, gone on with, and split; what is run does not depend on how it was split.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import TYPE_CHECKING, Any

from catenum.core.record.values import NOTHING, Binding
from catenum.core.space.dependence import PASSED, Dependence
from catenum.core.space.lock_race import Arrivals, LockRace, Waits, holders_of, reaches
from catenum.core.space.locking import Locked
from catenum.core.space.moves import MoveResult
from catenum.core.space.state import Step

if TYPE_CHECKING:
    from pydantic import TypeAdapter


@dataclass(frozen=True, slots=True)
class Effect:
    """What a move did: the steps that took effect with it (undone transactions as their end), and
    whom it waits for.

    ``bound``: the values of the mover's statement, or that it was passed over; ``held``: that
    statement, where it changes a row that its transaction had locked before.
    """

    mover: str
    steps: frozenset[Step]
    holders: frozenset[str] = frozenset()
    bound: Binding = NOTHING
    held: frozenset[Step] = frozenset()

    def values_of(self, step: Step) -> Binding:
        """The values that a step's statement was sent with, where they are known."""
        return self.bound if step[0] == self.mover and step[1] is not None else NOTHING


@dataclass(frozen=True, slots=True)
class Progress:
    """Where each transaction stands: its next statement (their number: its end; beyond: over), and
    how often it may still begin again.
    """

    next: Mapping[str, int]
    again: Mapping[str, int]


@dataclass(slots=True)
class Node:
    """A state on the path: who can move, who sleeps, who waits, and which moves have been walked
    from here.

    ``walked`` is in order; the last is the one at hand. ``handed_over``: what is left here belongs
    to another walk. ``blocked_at``: the place of a transaction's next statement that certainly
    waits, and for whom; none behind it is made before that one is over.
    """

    ready: tuple[str, ...]
    waits: Waits
    sleep: dict[str, Effect]
    progress: Progress
    walked: dict[str, Effect | None] = field(default_factory=dict)
    handed_over: bool = False
    blocked_at: Mapping[str, tuple[int, str]] = field(default_factory=dict)

    @property
    def at_hand(self) -> str:
        """The move being walked."""
        return next(reversed(self.walked))


class Space:
    """What the walks of one scenario share: its dependence relation, and how long its transactions
    are.
    """

    def __init__(
        self,
        dependence: Dependence,
        moves: Mapping[str, int],
        attempts: Mapping[str, int],
        *,
        reduce: bool = True,
        previous: Mapping[str, str] | None = None,
    ) -> None:
        """``moves``: how many each transaction makes, its end included; ``attempts``: how often it
        may begin again; ``previous``: the one that must be over before it, on its connection.
        """
        self.previous = dict(previous or {})
        self.dependence, self.reduce = dependence, reduce
        self.moves, self.attempts = dict(moves), dict(attempts)
        self.lengths = {name: len(texts) for name, texts in dependence.statements.items()}

    def step(self, name: str, place: int) -> Step:
        """The step at a place: a statement, or the end."""
        return (name, place if place < self.lengths[name] else None)

    def independent(self, a: Effect, b: Effect, waits: Waits) -> bool:
        """Whether two effects, both possible in a state with these waits, come to the same in
        either order.
        """
        depend = self.dependence.depend
        held = a.held | b.held
        if any(
            depend(x, y, a.values_of(x), b.values_of(y), held & {x, y} if held else held)
            for x in a.steps
            for y in b.steps
        ):
            return False
        if _lets_go_on(a, b, waits) or _lets_go_on(b, a, waits):
            return False
        return not (a.holders and b.holders and self._cycle(a, b, waits))

    def _cycle(self, a: Effect, b: Effect, waits: Waits) -> bool:
        """Whether the two waits together close a cycle that neither closes alone."""
        return reaches(a.holders, b.mover, waits) and reaches(b.holders, a.mover, waits)

    def is_redundant(self, node: Node) -> bool:
        """Whether some sleeper can never be woken, so that all below was walked elsewhere."""
        return bool(node.sleep) and not self._all_wake(node, node.sleep)

    def is_redundant_move(self, node: Node, name: str) -> bool:
        """Whether all that follows from moving ``name`` was walked elsewhere, as far as is known
        beforehand.
        """
        asleep = {
            **node.sleep,
            **{n: effect for n, effect in node.walked.items() if effect is not None},
        }
        place = node.progress.next[name]
        left = {
            n: effect
            for n, effect in asleep.items()
            if not self._wakes(name, place, effect, node, now=True)
        }
        return bool(left) and not self._all_wake(node, left)

    def _done(self, node: Node) -> set[Step]:
        """What has been done by those who are not over, and so may hold others up."""
        going_on = (
            (n, upto)
            for n, upto in node.progress.next.items()
            if upto < self.moves[n] or self._stays_open(n)
        )
        return {(n, k) for n, upto in going_on for k in range(min(upto, self.lengths[n]))}

    def _stays_open(self, name: str) -> bool:
        return self.moves[name] == self.lengths[name]

    def _all_wake(self, node: Node, sleep: Mapping[str, Effect]) -> bool:
        """Whether every sleeper may be woken by moves of those who are awake; waiting ones go on
        after their holders.
        """
        ready, waits, progress = node.ready, node.waits, node.progress
        waiting = {waiter: {h for w, h in waits if w == waiter} for waiter, _ in waits}
        awake = {name for name in ready if name not in sleep}
        grown = True
        while grown:
            grown = False
            for name, before in self.previous.items():
                later = progress.next[name] < self.moves[name] and name not in ready
                over = progress.next[before] >= self.moves[before]
                if later and name not in awake and (over or before in awake):
                    awake.add(name)
                    grown = True
            for name, holders in waiting.items():
                if name not in awake and all(h in awake or h not in progress.next for h in holders):
                    awake.add(name)
                    grown = True
            for name, effect in sleep.items():
                if name not in awake and any(self._may_wake(n, effect, node, awake) for n in awake):
                    awake.add(name)
                    grown = True
        return all(name in awake for name in sleep)

    def _may_wait(self, name: str, node: Node) -> bool:
        """Whether a transaction, which may be another than the scenario's, has a statement left
        that may wait.
        """
        known = node.progress.next.get(name, 0)
        return (
            name not in self.lengths
            or known < self.lengths[name]
            or bool(node.progress.again[name])
        )

    @staticmethod
    def _blocked_at(mover: str, node: Node) -> int | None:
        """The place where a transaction certainly waits, for one that can move and so waits for
        nobody.
        """
        place, holder = node.blocked_at.get(mover, (None, ""))
        return place if holder in node.ready else None

    def _may_wake(self, mover: str, sleeper: Effect, node: Node, awake: set[str]) -> bool:
        start = 0 if node.progress.again[mover] else node.progress.next[mover]
        place, holder = self._blocked_at(mover, node), node.blocked_at.get(mover, (0, ""))[1]
        end = self.moves[mover] if place is None or holder in awake else place + 1
        return any(self._wakes(mover, place, sleeper, node) for place in range(start, end))

    def _wakes(
        self, mover: str, place: int, sleeper: Effect, node: Node, *, now: bool = False
    ) -> bool:
        """Whether a move may depend on a sleeper's: by what it does, by being undone, by closing a
        cycle with its wait, or since one of the two lets somebody go on for whom the other waits.
        ``now``: it is the next that is made.
        """
        step, end = self.step(mover, place), (mover, None)
        others = [other for other in sleeper.steps if other[0] != mover]
        depend = self.dependence.depend
        waits = place == self._blocked_at(mover, node)  # so it is not over with this move
        for other in others:
            known = sleeper.values_of(other)
            if depend(step, other, NOTHING, known, sleeper.held) or (
                not waits and depend(end, other, NOTHING, known)
            ):
                return True
        resumed = any(name != sleeper.mover for name, _ in sleeper.steps)
        if not sleeper.holders and not resumed:
            return False
        if any(waiter in sleeper.holders for waiter, _ in node.waits):
            return True
        if not resumed and not any(
            self._may_wait(holder, node) for holder in (() if now else sleeper.holders)
        ):
            return False  # the chain ends with those for whom the sleeper waits
        return step[1] is not None and any(
            self.dependence.depend(step, held) for held in self._done(node) if held[0] != mover
        )


class Walk:
    """One walk through (a part of) the space, schedule by schedule. It guides a run as the
    conductor asks.

    ``while walk.more: run(guide=walk); walk.turn()``
    """

    #: Of the schedule at hand.
    locked: Locked
    arrivals: Arrivals
    open_contests: list[LockRace]
    overtaken: LockRace | None
    _waits: Waits

    def __init__(self, space: Space, nodes: Sequence[Node] = (), *, more: bool = True) -> None:
        self.space = space
        self.nodes = list(nodes)
        self.more = more
        self.depth = 0
        self.diverged = False
        self.did_not_wait: Step | None = (
            None  # a statement that was taken for certain to wait, and did not
        )
        self.progress = self._start()

    def _start(self) -> Progress:
        """Before a run: nothing is done, nothing locked."""
        self.locked = Locked(self.space.dependence)
        self.arrivals = Arrivals(self.space.dependence)
        self.open_contests: list[LockRace] = []
        self.overtaken: LockRace | None = None
        self._waits: Waits = frozenset()
        names = self.space.lengths
        return Progress(dict.fromkeys(names, 0), self.space.attempts)

    # -- guiding a run -----------------------------------------------------------------------------

    def choose(self, ready: Sequence[str], waits: Waits) -> str | None:
        """The next move of the schedule at hand; None where all below has been walked elsewhere.

        None too where others can move than when the same moves were made before: then ``diverged``
        is set. After a transaction was overtaken (``overtaken``) it is None where another schedule
        covers that; otherwise the run goes on to some end, which is one more outcome.
        """
        if self.overtaken is not None:
            return ready[0] if self.overtaken in self.open_contests else None
        self._waits = waits
        if self.depth < len(self.nodes):
            node = self.nodes[self.depth]
            self.diverged = node.ready != tuple(ready)
            return None if self.diverged else node.at_hand
        node = Node(
            tuple(ready),
            waits,
            self._sleepers(ready),
            self.progress,
            blocked_at=self._barred(ready),
        )
        if self.space.is_redundant(node):
            return None
        first = self._next_of(node)
        if first is None:
            return None
        node.walked[first] = None
        self.nodes.append(node)
        return first

    def moved(self, moved: MoveResult) -> None:
        """The move at hand is over; ``moved`` tells what it brought (``completed``, ``undone``,
        ``holders``).
        """
        if self.overtaken is not None:
            return
        contests = self.arrivals.moved(moved, self._waits)
        self.open_contests += [contest for contest in contests if not self.covers(contest)]
        self.overtaken = next((contest for contest in contests if contest.overtaken), None)
        if self.overtaken is not None:
            return  # what this move does is what it does where nobody is overtaken
        node = self.nodes[self.depth]
        step: Step = (moved.transaction, None if moved.statement is None else moved.statement - 1)
        steps = {step}
        place, holder = node.blocked_at.get(moved.transaction, (-1, ""))
        if (
            (step[1] == place and holder in node.ready and holder not in moved.undone)
            and not (moved.holders or moved.passed)
            and (moved.transaction, moved.statement) in moved.completed
        ):
            self.did_not_wait = step
        following, again = dict(self.progress.next), dict(self.progress.again)
        covered = not moved.passed and not moved.holders and self.locked.covers(step, moved.bound)
        held = frozenset((step,) if covered else ())
        self.locked.sent(moved.transaction, moved.bound)
        for name, statement in moved.completed:
            done: Step = (name, None if statement is None else statement - 1)
            steps.add(done)
            following[name] = self.space.moves[name] if statement is None else following[name] + 1
            self.locked.done(done, moved.rows.get((name, statement)))
        for name in moved.released:
            self.locked.undone(name)
            steps.add((name, None))
        for name in moved.undone:
            self.locked.undone(name)
            steps.add((name, None))
            following[name] = 0 if again[name] else self.space.moves[name]
            again[name] = max(0, again[name] - 1)
        steps |= self._went_on(moved)
        self.progress = Progress(following, again)
        bound = PASSED if moved.passed else moved.bound
        node.walked[node.at_hand] = Effect(
            moved.transaction, frozenset(steps), moved.holders, bound, held
        )
        self.depth += 1

    def _went_on(self, moved: MoveResult) -> set[Step]:
        """Statements that got what they waited for, and now wait for another: some of what they do
        is done.
        """
        before = {name: holders_of(name, self._waits) for name, _ in self._waits}
        after = {name: holders_of(name, moved.waits) for name, _ in moved.waits}
        on = [
            name for name, holders in before.items() if name in after and not holders & after[name]
        ]
        return {
            self.space.step(name, self.progress.next[name])
            for name in on
            if name in self.progress.next
        }

    def bars(self) -> Iterator[tuple[Step, str, tuple[str, ...]]]:
        """Of the schedule at hand: statements taken for certain to wait, for whom, and the moves
        that lead there.
        """
        for depth, node in enumerate(self.nodes):
            for name, (place, holder) in node.blocked_at.items():
                if holder in node.ready:
                    again = place - node.progress.next[name] + 1
                    yield (name, place), holder, (*self.path[:depth], *[name] * again)

    def covers(self, contest: LockRace) -> bool:
        """Whether the outcome in which the second goes on first is that of another schedule of the
        space.

        It is, where the second could as well have come before the first: where nothing that it
        depends on, of the moves between the two, depends in turn on the first. That schedule is
        walked, and in it the second is the first.
        """
        first, second = contest.came
        if not contest.two_ways:
            return False
        made = [
            (self._effect(place), self.nodes[place].waits) for place in range(first, second + 1)
        ]
        needed = [made[-1][0]]
        for place, (effect, waits) in reversed(list(enumerate(made[1:-1], first + 1))):
            if place in contest.waiting or all(
                self.space.independent(effect, other, waits) for other in needed
            ):
                continue
            if not self.space.independent(made[0][0], effect, waits):
                return False
            needed.append(effect)
        return True

    def _effect(self, place: int) -> Effect:
        node = self.nodes[place]
        effect = node.walked[node.at_hand]
        return effect if effect is not None else Effect(node.at_hand, frozenset())

    def _barred(self, ready: Sequence[str]) -> dict[str, tuple[int, str]]:
        found = {}
        for name in ready if self.space.reduce else ():
            for place in range(self.progress.next[name], self.space.lengths[name]):
                holder = self.locked.holder((name, place))
                if holder is not None:
                    found[name] = (place, holder)
                    break
        return found

    def _sleepers(self, ready: Sequence[str]) -> dict[str, Effect]:
        if not self.nodes or not self.space.reduce:
            return {}
        return self._below(self.nodes[-1], ready)

    def _below(self, parent: Node, ready: Sequence[str]) -> dict[str, Effect]:
        made = parent.walked[parent.at_hand]
        if made is None:
            raise RuntimeError("the move at hand is not over")
        asleep = dict(parent.sleep)
        asleep.update(
            {
                name: effect
                for name, effect in list(parent.walked.items())[:-1]
                if effect is not None
            }
        )
        return {
            name: effect
            for name, effect in asleep.items()
            if name in ready and self.space.independent(effect, made, parent.waits)
        }

    def _next_of(self, node: Node) -> str | None:
        """The next move to walk from a node: one that neither was walked nor sleeps."""
        if node.handed_over:
            return None
        left = (name for name in node.ready if name not in node.walked and name not in node.sleep)
        return next(
            (
                name
                for name in left
                if not (self.space.reduce and self.space.is_redundant_move(node, name))
            ),
            None,
        )

    # -- from one schedule to the next -------------------------------------------------------------

    @property
    def path(self) -> tuple[str, ...]:
        """The moves of the schedule at hand."""
        return tuple(node.at_hand for node in self.nodes)

    def turn(self) -> None:
        """The run of the schedule at hand is over: go back to where another move is left."""
        while self.nodes:
            node = self.nodes[-1]
            following = self._next_of(node)
            if following is not None:
                node.walked[following] = None
                break
            self.nodes.pop()
        self.more = bool(self.nodes)
        self.depth = 0
        self.progress = self._start()

    def again(self) -> None:
        """The run diverged: the same schedule is to be run once more."""
        self.depth, self.diverged, self.progress = 0, False, self._start()

    def give_up(self) -> None:
        """The schedule at hand cannot be repeated: leave what lies below where it diverged, and go
        on elsewhere.
        """
        del self.nodes[self.depth + (self.overtaken is not None) :]
        self.diverged = False
        self.turn()

    def split(self) -> Walk | None:
        """Give away what is left at the shallowest node that has something left; None where nothing
        can be given.
        """
        for place, node in enumerate(self.nodes):
            if node.walked[node.at_hand] is None:
                continue  # not run yet: what it does must be known to whoever walks its siblings
            if self._next_of(node) is not None:
                theirs = [
                    Node(
                        n.ready,
                        n.waits,
                        n.sleep,
                        n.progress,
                        dict(n.walked),
                        handed_over=True,
                        blocked_at=n.blocked_at,
                    )
                    for n in self.nodes[: place + 1]
                ]
                theirs[-1].handed_over = False
                node.handed_over = True
                given = Walk(self.space, theirs)
                given.turn()
                return given
        return None

    # -- as a plain value --------------------------------------------------------------------------

    def to_plain(self) -> dict[str, Any]:
        """For a file or another process."""
        return {"more": self.more, "nodes": _nodes().dump_python(self.nodes, mode="json")}

    @classmethod
    def from_plain(cls, space: Space, plain: Mapping[str, Any]) -> Walk:
        return cls(space, _nodes().validate_python(plain["nodes"]), more=plain["more"])


def _lets_go_on(a: Effect, b: Effect, waits: Waits) -> bool:
    """Whether ``a`` lets somebody go on for whom ``b`` waits, directly or through others: made
    before it, ``b`` waits in a longer chain.
    """
    others = {name for name, _ in a.steps} - {a.mover}
    return bool(b.holders) and any(reaches(b.holders, name, waits) for name in others)


@cache
def _nodes() -> TypeAdapter[list[Node]]:
    """Their form in files and for other processes; a walk that nobody stores needs none."""
    from pydantic import TypeAdapter

    return TypeAdapter(list[Node])
