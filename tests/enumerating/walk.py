"""Every order of moves, each made on data loaded anew, and every end judged against every serial
order.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from enumerating.sessions import ROLLED_BACK, Bench, Failed

#: From harmless to worst.
KINDS = ("clean", "waited", "timeout", "refused", "deadlock", "stuck", "error")


@dataclass(frozen=True)
class Part:
    """A transaction: its statements, its level, how it ends; on whose connection it comes after that
    one; whether it goes on after an error, and whether each statement commits. ``kill NAME`` as a
    statement ends the session of another.
    """

    statements: tuple[str, ...]
    level: str | None = None
    ends: str = "commit"
    after: str | None = None
    goes_on: bool = False
    autocommit: bool = False

    @property
    def last(self) -> int:
        """The number of its last move, from 0."""
        return len(self.statements) - self.autocommit


def connection_of(parts: Mapping[str, Part], name: str) -> str:
    """The first part on the connection of a part."""
    before = parts[name].after
    return name if before is None else connection_of(parts, before)


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
    committed: tuple[str, ...] = ()

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


class _Run:
    """One schedule as it goes."""

    def __init__(self, case: Case) -> None:
        self.case = case
        self.at = dict.fromkeys(case.parts, 0)
        self.status: dict[str, str] = {}
        self.failed: dict[str, str] = {}
        self.results: dict[str, list[object]] = {name: [] for name in case.parts}
        self.units: list[str] = []
        self.path: list[str] = []
        self.fell: set[tuple[str, int | None]] = set()
        self.worst, self.late = 0, False

    def take(self, name: str, reply: object, number: int) -> None:
        """The answer to the move of this number, from 0."""
        part = self.case.parts[name]
        at_end = number >= len(part.statements)
        if isinstance(reply, Failed):
            self._take_error(name, part, reply, number, at_end=at_end)
        elif at_end:
            refused = part.ends == "commit" and reply == ROLLED_BACK
            self.worst = max(self.worst, KINDS.index("error")) if refused else self.worst
            kept = part.ends == "commit" and not refused
            self.status[name] = "committed" if kept else "rolled back"
            self.units += [name] * kept
        else:
            self._done(name, part, number, _compared(part.statements[number], reply))

    def _take_error(
        self, name: str, part: Part, error: Failed, number: int, *, at_end: bool
    ) -> None:
        if at_end and part.ends == "close":
            self.status[name] = "rolled back"
            return
        goes_on = part.goes_on and not at_end and error.kind != "lost"
        kind = error.kind if error.kind in KINDS else "clean" if goes_on else "error"
        self.worst = max(self.worst, KINDS.index(kind))
        if error.kind == "deadlock":
            self.fell.add((name, None if at_end else number + 1))
            self.late = self.late or name != self.path[-1]
        self.failed[name] = error.kind
        if goes_on:
            self._done(name, part, number, ("failed", error.kind, error.code))
        else:
            self.status[name] = "failed"

    def _done(self, name: str, part: Part, number: int, result: object) -> None:
        self.results[name].append(result)
        self.units.append(f"{name} {number + 1}")
        self.at[name] += 1
        if part.autocommit and number >= part.last:
            self.status[name] = "committed"


class Walk:
    """Depth first, each schedule from its beginning."""

    def __init__(self, bench: Bench, case: Case, most: int) -> None:
        self.bench, self.case, self.most = bench, case, most
        self.names = list(case.parts)
        self._serial: dict[tuple[str, ...], list[object]] = {}
        self._hand = {name: self._first(name) for name in self.names}

    def _first(self, name: str) -> int:
        """The place of the connection of a part."""
        return self.names.index(connection_of(self.case.parts, name))

    def _begin(self, name: str) -> tuple[str, ...]:
        part = self.case.parts[name]
        return self.bench.begin(part.level, going_on=part.goes_on, autocommit=part.autocommit)

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
        run = _Run(case)
        waiting: set[str] = set()
        choices: list[list[str]] = []
        under_way: dict[str, int] = {}
        while len(run.status) < len(self.names):
            able = [
                name
                for name in self.names
                if name not in run.status
                and name not in waiting
                and case.parts[name].after not in set(self.names) - set(run.status)
            ]
            if able:
                wished = prefix[len(run.path)] if len(run.path) < len(prefix) else None
                name = wished if wished in able else able[0]
                choices.append(able)
                run.path.append(name)
                under_way[name] = run.at[name]
                self._send(name, run.at[name])
            # where all that are left wait, the server has yet to let one go on, or to give one up
            places = bench.settle(longer_s=0.0 if able else 5.0)
            if not able and len(places) == len(waiting):
                break
            waiting = {name for name in under_way if self._hand[name] in places}
            run.worst = max(run.worst, 1 if waiting else 0)
            for other in [n for n in under_way if n not in waiting]:
                run.take(other, bench.hands[self._hand[other]].reply, under_way.pop(other))
        committed = [unit for unit in run.units if self._commits(unit)]
        end = End(
            path=tuple(run.path),
            kind=KINDS[run.worst],
            status=tuple(
                (name, run.status.get(name, "?"), run.failed.get(name, ""))
                for name in sorted(self.names)
            ),
            fell=frozenset(run.fell),
            seen=(bench.state(case.made), self._seen(committed, run.results)),
            serial=False,
            holds=tuple(sorted((title, bench.true(sql)) for title, sql in case.holds.items())),
            late=run.late,
            committed=tuple(committed),
        )
        return end, choices

    def _send(self, name: str, number: int) -> None:
        """The move of a part that has made so many."""
        part, bench = self.case.parts[name], self.bench
        sql = part.statements[number] if number < len(part.statements) else part.ends
        hand = bench.hands[self._hand[name]]
        if sql.startswith("kill "):
            if not hand.lost:
                bench.lose(self._hand[sql.removeprefix("kill ")])
            sql = ""
        elif sql == "close":
            bench.lose(self._hand[name])
        begins = self._begin(name) if number == 0 else ()
        hand.send(*_sent(begins, sql), undoes=not part.goes_on)

    def _commits(self, unit: str) -> bool:
        """Whether a unit is a transaction, or a statement that is one."""
        name, _, number = unit.partition(" ")
        return self.case.parts[name].autocommit == bool(number)

    def _seen(self, committed: Sequence[str], results: dict[str, list[object]]) -> object:
        found = []
        for unit in sorted(committed):
            name, _, number = unit.partition(" ")
            found.append((unit, results[name][int(number) - 1] if number else tuple(results[name])))
        return tuple(found)

    def _judged(self, end: End) -> End:
        committed = tuple(sorted(end.committed))
        if committed not in self._serial:
            orders = (o for o in itertools.permutations(committed) if self._is_possible(o))
            self._serial[committed] = [
                made for order in orders if (made := self._in_turn(order)) is not None
            ]
        serial = end.seen in self._serial[committed]
        return replace(end, serial=serial)

    def _is_possible(self, order: Sequence[str]) -> bool:
        """Whether the order is that of each connection."""
        place = {unit: n for n, unit in enumerate(order)}
        for one, other in itertools.combinations(order, 2):
            a, b = one.partition(" "), other.partition(" ")
            if a[0] == b[0] and int(a[2]) > int(b[2]):
                return False
            if self._comes_before(b[0], a[0]) and place[one] < place[other]:
                return False
        return True

    def _comes_before(self, first: str, second: str) -> bool:
        """Whether a part is to be over before another, on their connection."""
        before = self.case.parts[second].after
        return before is not None and (before == first or self._comes_before(first, before))

    def _in_turn(self, order: Sequence[str]) -> object | None:
        """What one serial order gives; None where not all of it can commit."""
        self.bench.fresh(self.case.data)
        results: dict[str, list[object]] = {}
        for unit in order:
            name, _, number = unit.partition(" ")
            part, hand = self.case.parts[name], self.bench.hands[self._hand[name]]
            texts = [*part.statements, *([] if part.autocommit else [part.ends])]
            made = results.setdefault(name, [])
            for place in [int(number) - 1] if number else range(len(texts)):
                sql = texts[place]
                if sql.startswith("kill "):
                    if not hand.lost:
                        self.bench.lose(self._hand[sql.removeprefix("kill ")])
                    sql = ""
                begins = self._begin(name) if place == 0 or (number and not made) else ()
                hand.send(*_sent(begins, sql), undoes=not part.goes_on)
                self.bench.settle()
                if isinstance(hand.reply, Failed) and (
                    not part.goes_on or place == len(part.statements) or hand.reply.kind == "lost"
                ):
                    return None
                if place == len(part.statements) and hand.reply == ROLLED_BACK:
                    return None
                reply = hand.reply
                if isinstance(reply, Failed):
                    made.append(("failed", reply.kind, reply.code))
                elif place < len(part.statements):
                    made += [None] * (place - len(made))
                    made.append(_compared(sql, reply))
        return (self.bench.state(self.case.made), self._seen(order, results))


def _compared(sql: str, reply: object) -> object:
    """What counts of a reply: not the numbers that the server made."""
    numbers = ("returning id", "currval", "lastval", "nextval", "last_insert_id")
    return reply[0] if isinstance(reply, tuple) and any(word in sql for word in numbers) else reply


def _sent(begins: Sequence[str], sql: str) -> Sequence[str]:
    """What a session is sent; of a kill, which another connection does, nothing that takes a
    snapshot.
    """
    return (*begins, sql) if sql else (begins or ("select 1",))
