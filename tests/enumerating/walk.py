"""Every order of moves, each made on data loaded anew, and every end judged against every serial
order.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from enumerating.sessions import Bench, Failed

#: From harmless to worst.
KINDS = ("clean", "waited", "timeout", "refused", "deadlock", "stuck", "error")


@dataclass(frozen=True)
class Part:
    """A transaction: its statements, its level, how it ends."""

    statements: tuple[str, ...]
    level: str | None = None
    ends: str = "commit"


@dataclass(frozen=True)
class Case:
    """Data, transactions by name, rules."""

    data: str
    parts: dict[str, Part]
    holds: dict[str, str] = field(default_factory=dict)
    made: dict[str, int] = field(
        default_factory=dict
    )  # tables, and the place of a column that the server numbers


@dataclass(frozen=True)
class End:
    """What one schedule came to. ``fell``: deadlock victims with the statement (None: the end) that
    was cut.

    ``late``: a victim was not the one that moved, so the cycle closed at another's move, and which
    member the server rolls back is a matter of timing (on PostgreSQL the one whose check comes
    first after that).
    """

    path: tuple[str, ...]
    kind: str
    status: tuple[tuple[str, str, str], ...]
    fell: frozenset[tuple[str, int | None]]
    seen: object
    serial: bool
    holds: tuple[tuple[str, bool], ...]
    late: bool = False

    @property
    def coarse(self) -> object:
        """What ``explore`` lists of an outcome."""
        return (self.kind, self.serial, self.status, self.holds)


@dataclass
class Account:
    """What all schedules of a case came to. ``races``: orders that did not go the same way twice."""

    ends: list[End] = field(default_factory=list)
    races: int = 0
    cut: bool = False


class Walk:
    """Depth first, each schedule from its beginning."""

    def __init__(self, bench: Bench, case: Case, most: int) -> None:
        self.bench, self.case, self.most = bench, case, most
        self.names = list(case.parts)
        self._serial: dict[frozenset[str], list[object]] = {}

    def account(self) -> Account:
        """All of them, or as many as allowed."""
        found = Account()
        stack: list[tuple[str, ...]] = [()]
        while stack:
            if len(found.ends) >= self.most:
                found.cut = True
                return found
            prefix = stack.pop()
            for _ in range(5):
                end, choices = self._run(prefix)
                if end.path[: len(prefix)] == prefix:
                    break
                found.races += 1
            else:
                continue
            for at in range(len(prefix), len(end.path)):
                stack += [(*end.path[:at], name) for name in choices[at] if name != end.path[at]]
            found.ends.append(self._judged(end))
        return found

    def _run(self, prefix: Sequence[str]) -> tuple[End, list[list[str]]]:
        case, bench = self.case, self.bench
        bench.fresh(case.data)
        at = dict.fromkeys(self.names, 0)
        status: dict[str, str] = {}
        failed: dict[str, str] = {}
        results: dict[str, list[object]] = {name: [] for name in self.names}
        waiting: set[str] = set()
        path: list[str] = []
        choices: list[list[str]] = []
        fell: set[tuple[str, int | None]] = set()
        worst, late = 0, False
        under_way: dict[str, int] = {}
        while len(status) < len(self.names):
            able = [name for name in self.names if name not in status and name not in waiting]
            if able:
                wished = prefix[len(path)] if len(path) < len(prefix) else None
                name = wished if wished in able else able[0]
                choices.append(able)
                path.append(name)
                part, hand = case.parts[name], bench.hands[self.names.index(name)]
                sql = part.statements[at[name]] if at[name] < len(part.statements) else part.ends
                hand.send(*((*bench.begin(part.level), sql) if at[name] == 0 else (sql,)))
                under_way[name] = at[name]
            # where all that are left wait, the server has yet to let one go on, or to give one up
            places = bench.settle(longer_s=0.0 if able else 5.0)
            if not able and len(places) == len(waiting):
                break
            waiting = {self.names[place] for place in places}
            worst = max(worst, 1 if waiting else 0)
            for other in [n for n in under_way if n not in waiting]:
                reply, number = bench.hands[self.names.index(other)].reply, under_way.pop(other)
                last = number >= len(case.parts[other].statements)
                if isinstance(reply, Failed):
                    status[other], failed[other] = "failed", reply.kind
                    kind = {"rejected": "error"}.get(reply.kind, reply.kind)
                    worst = max(worst, KINDS.index(kind))
                    if reply.kind == "deadlock":
                        fell.add((other, None if last else number + 1))
                        late = late or other != path[-1]
                elif last:
                    status[other] = {"commit": "committed", "rollback": "rolled back"}[
                        case.parts[other].ends
                    ]
                else:
                    results[other].append(_compared(case.parts[other].statements[number], reply))
                    at[other] += 1
        committed = frozenset(name for name in self.names if status.get(name) == "committed")
        seen = (
            bench.state(case.made),
            tuple((name, tuple(results[name])) for name in sorted(committed)),
        )
        end = End(
            path=tuple(path),
            kind=KINDS[worst],
            status=tuple(
                (name, status.get(name, "?"), failed.get(name, "")) for name in sorted(self.names)
            ),
            fell=frozenset(fell),
            seen=seen,
            serial=False,
            holds=tuple(sorted((title, bench.true(sql)) for title, sql in case.holds.items())),
            late=late,
        )
        return end, choices

    def _judged(self, end: End) -> End:
        committed = frozenset(name for name, status, _ in end.status if status == "committed")
        if committed not in self._serial:
            orders = itertools.permutations(sorted(committed))
            self._serial[committed] = [
                made for order in orders if (made := self._in_turn(order)) is not None
            ]
        serial = end.seen in self._serial[committed]
        return replace(end, serial=serial)

    def _in_turn(self, order: Sequence[str]) -> object | None:
        """What one serial order gives; None where not all of it can commit."""
        self.bench.fresh(self.case.data)
        results = {}
        for name in order:
            part, hand = self.case.parts[name], self.bench.hands[self.names.index(name)]
            results[name] = []
            for number, sql in enumerate((*part.statements, part.ends)):
                hand.send(*((*self.bench.begin(part.level), sql) if number == 0 else (sql,)))
                self.bench.settle()
                if isinstance(hand.reply, Failed):
                    return None
                results[name].append(_compared(sql, hand.reply))
        return (
            self.bench.state(self.case.made),
            tuple((name, tuple(results[name][:-1])) for name in sorted(order)),
        )


def _compared(sql: str, reply: object) -> object:
    """What counts of a reply: not the numbers that the server made."""
    numbers = ("returning id", "currval", "lastval", "nextval", "last_insert_id")
    return reply[0] if isinstance(reply, tuple) and any(word in sql for word in numbers) else reply
