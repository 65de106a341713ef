"""The wait graph: who waits for whom, over which resource, in which modes.

Plain adjacency and iterative walks, so that it serves five transactions of a scenario as well as
ten thousand sessions of a busy server.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

from catenum.core.record.modes import Mode

#: A row's key: columns and values as the server's text, None for NULL.
Key = tuple[tuple[str, str | None], ...]
ResourceKind = Literal[
    "row",
    "gap",
    "key",
    "table",
    "index",
    "predicate",
    "metadata",
    "transaction",
    "advisory",
    "other",
]


def key_text(key: Key) -> str:
    """A key as people read it: ``quay=East, no=2``."""
    return ", ".join(f"{column}={'NULL' if value is None else value}" for column, value in key)


def natural(text: str) -> tuple[tuple[int, int, str], ...]:
    """Sorts texts with numbers in them as people do: 2 before 10."""
    parts = re.split(r"(\d+)", text)
    return tuple((0, int(part), "") if part.isdecimal() else (1, 0, part) for part in parts if part)


@dataclass(frozen=True, slots=True, kw_only=True)
class Resource:
    """What a lock is on, as the server's ids translate; ``text`` is how people read it, such as
    ``berth(id=7)``.
    """

    kind: ResourceKind
    text: str
    database: str | None = None
    table: str | None = None
    index: str | None = None
    key: Key | None = None

    @property
    def identity(self) -> tuple[object, ...]:
        """What makes two resources the same one; how they are worded counts only where nothing else
        tells them.
        """
        known = self.key is not None or (self.kind == "table" and self.table is not None)
        return (self.kind, self.database, self.table, self.index, self.key if known else self.text)

    def may_be(self, other: Resource) -> bool:
        """Whether both can be the same thing, for all that is known: something of a table of which
        no more is known can be any row of it.
        """
        vague = (
            "other" in (self.kind, other.kind)
            and self.table is not None
            and self.table == other.table
        )
        return vague or self.identity == other.identity

    @property
    def sort_key(self) -> tuple[object, ...]:
        """By kind, then by table, index and key, numbers by their value."""
        values = tuple(natural(f"{column}={value}") for column, value in self.key or ())
        return (
            self.kind,
            natural(self.table or ""),
            natural(self.index or ""),
            values,
            natural(self.text),
        )

    def masked(self) -> Resource:
        """The same without the values of its key."""
        if self.key is None:
            return self
        blank = ", ".join(f"{column}=?" for column, _ in self.key)
        text = self.text.replace(key_text(self.key), blank)
        if self.kind == "advisory":
            text = "named lock ?" if self.key[0][0] == "name" else "advisory lock ?"
        return replace(self, text=text, key=None)

    @property
    def named(self) -> bool:
        """Whether it is known down to the row (or gap, or key) rather than by its table."""
        return self.key is not None


@dataclass(frozen=True, slots=True, kw_only=True)
class Edge:
    """``waiter`` cannot continue until ``holder`` releases the lock.

    ``queued``: the holder does not hold the lock yet but stands ahead in its queue. ``since_ms`` is
    on the run's clock. ``taken_by``: the text of the holder's statement with which the server
    has written the lock down, perhaps together with others of its page.
    """

    waiter: str
    holder: str
    resource: Resource
    wanted: Mode
    held: Mode | None
    queued: bool = False
    since_ms: float | None = None
    taken_by: str | None = None

    @property
    def identity(self) -> tuple[object, ...]:
        """What makes it the same wait when seen again."""
        return (self.waiter, self.holder, self.resource.identity, self.queued)


@dataclass(frozen=True, slots=True)
class Branch:
    """A session in a wait tree: who it is, how it waits for its parent, and who waits for it."""

    name: str
    edge: Edge | None
    children: tuple[Branch, ...]

    @property
    def depth(self) -> int:
        """The longest chain of waits below (0: nobody waits for it)."""
        levels, here = 0, [self]
        while here := [child for branch in here for child in branch.children]:
            levels += 1
        return levels

    def walk(self) -> Iterator[Branch]:
        """All branches below, nearest first."""
        queue = list(self.children)
        while queue:
            branch = queue.pop(0)
            yield branch
            queue.extend(branch.children)


class WaitGraph:
    """A set of edges, and what follows from them."""

    def __init__(self, edges: Iterable[Edge] = ()) -> None:
        self.edges: tuple[Edge, ...] = tuple(edges)

    @cached_property
    def _out(self) -> dict[str, list[Edge]]:
        out: dict[str, list[Edge]] = defaultdict(list)
        for edge in self.edges:
            out[edge.waiter].append(edge)
        return dict(out)

    @cached_property
    def _in(self) -> dict[str, list[Edge]]:
        into: dict[str, list[Edge]] = defaultdict(list)
        for edge in self.edges:
            into[edge.holder].append(edge)
        return dict(into)

    @property
    def waiters(self) -> set[str]:
        """Everybody who waits."""
        return set(self._out)

    def waits_of(self, name: str) -> list[Edge]:
        """The waits of ``name``; empty where it does not wait."""
        return self._out.get(name, [])

    def held_up_by(self, name: str) -> set[str]:
        """Everybody who waits for ``name``, directly or through others."""
        found: set[str] = set()
        stack = [name]
        while stack:
            for edge in self._in.get(stack.pop(), []):
                if edge.waiter not in found:
                    found.add(edge.waiter)
                    stack.append(edge.waiter)
        return found - {name}

    def heads(self) -> list[str]:
        """Head blockers: somebody waits for them, they wait for nobody. Those who hold up most come
        first.
        """
        heads = [name for name in self._in if name not in self._out]
        return sorted(heads, key=lambda name: (-len(self.held_up_by(name)), name))

    def tree(self, head: str, *, oldest_first: bool = False) -> Branch:
        """Who waits under ``head``, by name, or the one that has waited longest first.

        A session that waits for several appears once, under the last of them in the queue.
        """
        members = self.held_up_by(head) | {head}
        open_waits = {
            name: sum(e.holder in members for e in self.waits_of(name)) for name in members
        }
        level: dict[str, int] = {head: 0}
        parent: dict[str, Edge] = {}
        ready = [head]
        while len(level) < len(members):
            if (
                not ready
            ):  # the rest hangs in a cycle: take the first that waits for somebody placed already
                ready = [next(name for name in sorted(members - level.keys()) if name in parent)]
                level[ready[0]] = level[parent[ready[0]].holder] + 1
            name = ready.pop(0)
            for edge in self._in.get(name, []):
                waiter = edge.waiter
                if waiter in level or waiter == name:
                    continue
                if waiter not in parent or level[name] >= level[parent[waiter].holder]:
                    parent[waiter] = edge
                open_waits[waiter] -= 1
                if open_waits[waiter] == 0:
                    level[waiter] = level[parent[waiter].holder] + 1
                    ready.append(waiter)
        below: dict[str, list[Edge]] = defaultdict(list)
        for edge in parent.values():
            below[edge.holder].append(edge)
        branches: dict[str, Branch] = {}

        def order(edge: Edge) -> tuple[float, str]:
            return ((edge.since_ms or 0.0) if oldest_first else 0.0, edge.waiter)

        for name in sorted(level, key=lambda name: -level[name]):
            children = tuple(branches[edge.waiter] for edge in sorted(below[name], key=order))
            branches[name] = Branch(name, parent.get(name), children)
        return branches[head]

    def longest_chain(self) -> int:
        """The number of waits in the longest chain under any head, or round the longest cycle
        found.
        """
        chains = [self.tree(head).depth for head in self.heads()]
        return max([*chains, *(len(cycle) for cycle in self.cycles())], default=0)

    def cycles(self) -> list[tuple[Edge, ...]]:
        """One shortest cycle from each knot of sessions that all wait for each other: a deadlock,
        if all hold on.

        Each starts at its alphabetically first member, so that the same cycle always reads the
        same.
        """
        found = []
        for knot in self._knots():
            cycle = self._shortest_cycle(knot)
            start = min(range(len(cycle)), key=lambda i: cycle[i].waiter)
            found.append((*cycle[start:], *cycle[:start]))
        return sorted(found, key=lambda cycle: cycle[0].waiter)

    def _knots(self) -> list[set[str]]:
        """Strongly connected components of more than one session, or of one that waits for itself
        (Tarjan 1972, made iterative).
        """
        index: dict[str, int] = {}
        low: dict[str, int] = {}
        stack: list[str] = []
        on_stack: set[str] = set()
        knots: list[set[str]] = []
        for root in sorted(self._out):
            if root in index:
                continue
            work = [(root, iter(self._out.get(root, [])))]
            index[root] = low[root] = len(index)
            stack.append(root)
            on_stack.add(root)
            while work:
                name, edges = work[-1]
                for edge in edges:
                    holder = edge.holder
                    if holder not in index:
                        index[holder] = low[holder] = len(index)
                        stack.append(holder)
                        on_stack.add(holder)
                        work.append((holder, iter(self._out.get(holder, []))))
                        break
                    if holder in on_stack:
                        low[name] = min(low[name], index[holder])
                else:
                    work.pop()
                    if work:
                        low[work[-1][0]] = min(low[work[-1][0]], low[name])
                    if low[name] == index[name]:
                        knot = set()
                        while True:
                            member = stack.pop()
                            on_stack.discard(member)
                            knot.add(member)
                            if member == name:
                                break
                        if len(knot) > 1 or any(
                            edge.holder == name for edge in self._out.get(name, [])
                        ):
                            knots.append(knot)
        return knots

    def _shortest_cycle(self, knot: set[str]) -> list[Edge]:
        start = min(knot)
        came: dict[str, Edge] = {}
        queue = [start]
        for name in queue:
            for edge in self._out.get(name, []):
                if edge.holder == start:
                    path = [edge]
                    while path[0].waiter != start:
                        path.insert(0, came[path[0].waiter])
                    return path
                if edge.holder in knot and edge.holder not in came:
                    came[edge.holder] = edge
                    queue.append(edge.holder)
        raise AssertionError("a knot without a cycle")  # unreachable: a knot is strongly connected
