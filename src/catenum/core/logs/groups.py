"""Conflicts of one shape put together: the same statements without literals, the same relations,
the same cycle.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from catenum.core.logs.conflicts import Conflict
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
    shapes = [
        rules.sql.shape(member.statement) if member.statement else "" for member in conflict.members
    ]
    if conflict.kind == "deadlock":
        turns = [tuple(shapes[n:] + shapes[:n]) for n in range(len(shapes))]
        return conflict.kind, min(turns, default=()), tuple(sorted(conflict.relations))
    return conflict.kind, tuple(shapes[:1]), tuple(sorted(conflict.relations))


def grouped(conflicts: Iterable[Conflict]) -> list[Group]:
    """The groups: deadlocks, then what failed, then what only waited; the most frequent of each
    first.
    """
    found: dict[tuple[object, ...], Group] = {}
    for number, conflict in enumerate(conflicts, 1):
        key = shape_of(conflict)
        shapes: tuple[str, ...] = key[1]  # type: ignore[assignment]
        group = found.setdefault(
            key,
            Group(
                conflict.kind, shapes, tuple(sorted(conflict.relations)), conflict.at, conflict.at
            ),
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
    return sorted(
        found.values(), key=lambda group: (_ORDER.index(group.kind), -group.count, group.numbers[0])
    )


Side = Literal["hour", "day", "application", "pair"]
SIDES: tuple[Side, ...] = ("hour", "day", "application", "pair")


def over_time(conflicts: Iterable[Conflict], by: Side) -> list[dict[str, object]]:
    """How many conflicts there were by one of their sides, by kind, with the first and the last
    time; an hour or a day is that of the log's own times.
    """
    found: dict[tuple[str, str], dict[str, object]] = {}
    for conflict in conflicts:
        for name in sorted(_sides(conflict, by)):
            row = found.setdefault(
                (name, conflict.kind),
                {
                    by: name,
                    "kind": conflict.kind,
                    "count": 0,
                    "first": conflict.at,
                    "last": conflict.at,
                },
            )
            row["count"] = int(str(row["count"])) + 1
            row["last"] = conflict.at
    if by in ("hour", "day"):
        return [found[key] for key in sorted(found)]
    return sorted(found.values(), key=lambda row: -int(str(row["count"])))


def _sides(conflict: Conflict, by: Side) -> set[str]:
    if by == "application":
        return {member.application or "(not reported)" for member in conflict.members} or {
            "(not reported)"
        }
    if by == "pair":
        shape = rules_of(conflict.server).sql.shape
        shapes = sorted(
            {shape(member.statement) for member in conflict.members if member.statement}
        )
        return {" / ".join(shapes) or "(not reported)"}
    at = conflict.at or ""
    return {at[: 13 if by == "hour" else 10].replace("T", " ") or "(no time)"}


def new_since(groups: Iterable[Group], baseline: Mapping[str, Any]) -> list[Group]:
    """The groups of which an earlier reading has none. ``baseline``: what ``intake --json`` wrote
    then.
    """
    known = {
        (group.get("kind"), tuple(group.get("statements", ())), tuple(group.get("relations", ())))
        for group in baseline.get("groups", ())
    }
    return [group for group in groups if (group.kind, group.shapes, group.relations) not in known]
