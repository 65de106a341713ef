"""Conflicts of one shape put together: the same statements without literals, the same relations, the same cycle."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field

from catenum.core.serverlog.conflicts import Conflict
from catenum.core.servers import rules_of

_ORDER = ("deadlock", "refused", "timeout", "ended", "wait")
#: Numbers of conflicts that one group lists.
MOST_NUMBERS = 1_000


@dataclass(slots=True)
class Group:
    """Conflicts of one shape; ``numbers`` count from 1 in the order in which they were read."""

    kind: str
    shapes: tuple[str, ...]
    relations: tuple[str, ...]
    first: str | None
    last: str | None
    count: int = 0
    numbers: list[int] = field(default_factory=list)
    victims: Counter[str] = field(default_factory=Counter)
    applications: Counter[str] = field(default_factory=Counter)


def shape_of(conflict: Conflict) -> tuple[object, ...]:
    """What conflicts of one kind share. A cycle reads the same wherever it begins."""
    rules = rules_of(conflict.server)
    shapes = [rules.shape(member.statement) if member.statement else "" for member in conflict.members]
    if conflict.kind == "deadlock":
        turns = [tuple(shapes[n:] + shapes[:n]) for n in range(len(shapes))]
        return conflict.kind, min(turns, default=()), tuple(sorted(conflict.relations))
    return conflict.kind, tuple(shapes[:1]), tuple(sorted(conflict.relations))


def grouped(conflicts: Iterable[Conflict]) -> list[Group]:
    """The groups: deadlocks, then what failed, then what only waited; the most frequent of each first."""
    found: dict[tuple[object, ...], Group] = {}
    for number, conflict in enumerate(conflicts, 1):
        key = shape_of(conflict)
        shapes: tuple[str, ...] = key[1]  # type: ignore[assignment]
        group = found.setdefault(
            key, Group(conflict.kind, shapes, tuple(sorted(conflict.relations)), conflict.at, conflict.at)
        )
        group.count += 1
        group.last = conflict.at
        if len(group.numbers) < MOST_NUMBERS:
            group.numbers.append(number)
        victim = conflict.member(conflict.victim) if conflict.victim else None
        if victim is not None:
            group.victims[victim.application or f"session {victim.session}"] += 1
        for member in conflict.members:
            if member.application:
                group.applications[member.application] += 1
    return sorted(found.values(), key=lambda group: (_ORDER.index(group.kind), -group.count, group.numbers[0]))
