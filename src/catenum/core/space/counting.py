"""How many schedules there are, how many classes of equivalent ones, and a fair sample of the
classes.

Counted before anything runs, so as if every transaction could always move: what waiting rules out
is only known when it is tried, and the number told is the most there can be. Each class is counted
by its lexicographic normal form, the first of its schedules in the order of the transactions' names
(Anisimov and Knuth 1979); sleep sets find just those. The count of what follows from a state is
kept, so that the n-th class can be had without those before it, and a sample without repetition is
a sample of numbers.
"""

from __future__ import annotations

import math
import random
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence

from catenum.core.space.dependence import Dependence
from catenum.core.space.state import Step

Places = tuple[int, ...]
_State = tuple[Places, frozenset[int]]
#: States kept while counting; beyond it the number is not reported.
MOST_STATES = 30_000


def schedules(moves: Mapping[str, int], connections: Iterable[Sequence[str]] = ()) -> int:
    """How many orders there are of so many moves of each transaction (the multinomial
    coefficient). ``connections``: those that come one after another, as one.
    """
    moves = dict(moves)
    for first, *later in connections:
        moves[first] += sum(moves.pop(name) for name in later)
    return math.factorial(sum(moves.values())) // math.prod(
        math.factorial(n) for n in moves.values()
    )


class TooMany(Exception):
    """More states than are kept."""


class Classes:
    """The classes of one scenario's schedules under a dependence relation.

    ``every``: as though all moves depended on each other, so that each schedule is a class of its
    own.
    """

    def __init__(
        self,
        dependence: Dependence,
        moves: Mapping[str, int],
        *,
        every: bool = False,
        previous: Mapping[str, str] | None = None,
    ) -> None:
        """``previous``: the transaction that must be over before another, on its connection."""
        self.names = tuple(moves)
        self._previous = {
            self.names.index(name): self.names.index(before)
            for name, before in (previous or {}).items()
        }
        self.moves = tuple(moves.values())
        self._steps = [
            [self._step(dependence, name, k) for k in range(n)] for name, n in moves.items()
        ]
        self._depend: Callable[[Step, Step], bool] = (
            (lambda one, other: True) if every else dependence.depend
        )
        self._counts: dict[_State, int] = {}

    @staticmethod
    def _step(dependence: Dependence, name: str, place: int) -> Step:
        return (name, place if place < len(dependence.statements[name]) else None)

    def _children(self, state: _State) -> Iterator[tuple[int, _State]]:
        """The moves that can follow, each with the state it leads to; who sleeps there is left
        out.
        """
        places, asleep = state
        sleeping = set(asleep)
        for mover, place in enumerate(places):
            before = self._previous.get(mover, mover)
            if place == self.moves[mover] or mover in asleep:
                continue
            if before != mover and places[before] < self.moves[before]:
                continue
            step = self._steps[mover][place]
            left = frozenset(
                z for z in sleeping if not self._depend(self._steps[z][places[z]], step)
            )
            yield mover, ((*places[:mover], place + 1, *places[mover + 1 :]), left)
            sleeping.add(mover)

    @property
    def start(self) -> _State:
        """Nothing moved, no transaction sleeps."""
        return ((0,) * len(self.moves), frozenset())

    def count(self) -> int:
        """The number of classes. Raises TooMany where that takes more states than are kept."""
        order: list[tuple[_State, list[_State]]] = []
        seen: set[_State] = set()
        stack = [self.start]
        while stack:
            state = stack.pop()
            if state in seen:
                continue
            seen.add(state)
            if len(seen) > MOST_STATES:
                raise TooMany
            children = [child for _, child in self._children(state)]
            order.append((state, children))
            stack.extend(children)
        # deeper states first: every move goes one deeper
        for state, children in sorted(order, key=lambda item: -sum(item[0][0])):
            over = state[0] == self.moves
            self._counts[state] = 1 if over else sum(self._counts[child] for child in children)
        return self._counts[self.start]

    def nth(self, number: int) -> tuple[str, ...]:
        """The schedule that stands for class ``number``, from 0. ``count`` must have succeeded
        before.
        """
        state, path = self.start, []
        while state[0] != self.moves:
            for mover, child in self._children(state):
                below = self._counts[child]
                if number < below:
                    path.append(self.names[mover])
                    state = child
                    break
                number -= below
            else:
                raise IndexError("there are not so many classes")
        return tuple(path)

    def sample(self, size: int, total: int | None, seed: int) -> Iterator[tuple[str, ...]]:
        """Schedules of different classes by chance, without repetition, until ``size`` were taken.

        ``total`` is the count; None where it is not known: then orders are drawn, and those of a
        class that was drawn before are left out, so that large classes come more readily than small
        ones.
        """
        chance = random.Random(seed)
        if total is not None:
            for number in chance.sample(range(total), min(size, total)):
                yield self.nth(number)
            return
        drawn: set[int] = set()
        names = [name for name, n in zip(self.names, self.moves, strict=True) for _ in range(n)]
        for _ in range(20 * size):
            if len(drawn) >= size:
                return
            chance.shuffle(names)
            normal = self.normal_form(self._in_connection_order(names))
            if hash(normal) not in drawn:
                drawn.add(hash(normal))
                yield normal

    def _in_connection_order(self, order: list[str]) -> list[str]:
        """The order with the moves of each connection dealt out again, its first transaction
        first.
        """
        first = {name: name for name in self.names}
        for name in self.names:
            index = self.names.index(name)
            if index in self._previous:
                first[name] = first[self.names[self._previous[index]]]
        turns = {
            lane: iter([n for n in self.names if first[n] == lane for _ in range(order.count(n))])
            for lane in set(first.values())
        }
        return [next(turns[first[name]]) for name in order]

    def normal_form(self, order: list[str] | tuple[str, ...]) -> tuple[str, ...]:
        """The first, in the order of the names, of the schedules equivalent to ``order``."""
        index = {name: i for i, name in enumerate(self.names)}
        left: list[tuple[int, Step]] = []
        places = [0] * len(self.names)
        for name in order:
            mover = index[name]
            if places[mover] < self.moves[mover]:
                left.append((mover, self._steps[mover][places[mover]]))
                places[mover] += 1
        result = []
        while left:
            first: dict[int, int] = {}
            for place, (mover, step) in enumerate(left):
                if mover not in first and not any(
                    self._depend(step, earlier) for _, earlier in left[:place]
                ):
                    first[mover] = place
            mover, _ = left.pop(first[min(first)])
            result.append(self.names[mover])
        return tuple(result)
