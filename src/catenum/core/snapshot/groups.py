"""Who hangs together in a sample: sessions that wait for each other, whatever the number of heads
above them.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

from catenum.core.record.waits import Edge, Resource
from catenum.core.snapshot.sample import Sample


@dataclass(frozen=True, slots=True)
class Group:
    """One connected part of a wait graph.

    ``heads``: head blockers, those who hold up most first; the first member of each cycle after
    them. ``waiting``: everybody who waits. ``roots``: the waits at the top, for a head or within a
    cycle.
    """

    heads: tuple[str, ...]
    waiting: frozenset[str]
    roots: tuple[Edge, ...]
    cycle: bool
    longest_ms: float

    @property
    def members(self) -> frozenset[str]:
        """Heads and waiters."""
        return self.waiting | set(self.heads)

    @property
    def objects(self) -> tuple[Resource, ...]:
        """What is waited for at the top, each once."""
        return tuple({edge.resource.identity: edge.resource for edge in self.roots}.values())


@dataclass(slots=True)
class _Parts:
    """Sets that are joined (Tarjan 1975, union by path halving)."""

    above: dict[str, str] = field(default_factory=dict)

    def top(self, name: str) -> str:
        above = self.above
        above.setdefault(name, name)
        while above[name] != name:
            above[name] = above[above[name]]
            name = above[name]
        return name

    def join(self, one: str, other: str) -> None:
        self.above[self.top(one)] = self.top(other)


def groups_of(sample: Sample) -> list[Group]:
    """The groups of a sample, the largest first."""
    graph = sample.graph
    parts = _Parts()
    for edge in sample.edges:
        parts.join(edge.waiter, edge.holder)
    edges: dict[str, list[Edge]] = defaultdict(list)
    for edge in sample.edges:
        edges[parts.top(edge.waiter)].append(edge)
    heads: dict[str, list[str]] = defaultdict(list)
    for head in graph.heads():
        heads[parts.top(head)].append(head)
    cycles: dict[str, list[Edge]] = defaultdict(list)
    for cycle in graph.cycles():
        top = parts.top(cycle[0].waiter)
        cycles[top] += cycle
        heads[top].append(min(edge.waiter for edge in cycle))
    found = []
    for top, within in edges.items():
        waiting = frozenset(edge.waiter for edge in within)
        roots = (
            [edge for edge in within if edge.holder in heads[top]]
            if not cycles[top]
            else cycles[top]
        )
        longest = max((-(edge.since_ms or 0.0) for edge in within), default=0.0)
        found.append(Group(tuple(heads[top]), waiting, tuple(roots), bool(cycles[top]), longest))
    return sorted(found, key=lambda group: (-len(group.waiting), group.heads))


def part_of(sample: Sample, names: frozenset[str]) -> Sample:
    """What of a sample concerns some sessions: the rest of a busy server is no part of an
    incident.
    """
    return Sample(
        at=sample.at,
        target=sample.target,
        sessions=tuple(session for session in sample.sessions if session.id in names),
        edges=tuple(edge for edge in sample.edges if edge.waiter in names),
        connected=sample.connected,
        cost_ms=sample.cost_ms,
        rows_read=sample.rows_read,
        deadlocks=sample.deadlocks,
        notes=sample.notes,
        held=tuple(held for held in sample.held if held.session in names),
        inexact=sample.inexact & names,
        timeouts=tuple(one for one in sample.timeouts if one.session in names),
    )
