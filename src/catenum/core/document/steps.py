"""A recording move by move: who ran, who holds what, who waits for whom, the rows as they are
then.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from catenum.core.record.recording import (
    COUNTED_KINDS,
    Deadlock,
    LockEntry,
    Picture,
    Recording,
    TableRows,
    Wait,
)
from catenum.core.report.timeline import Row, timeline_rows
from catenum.core.text import one_line

#: A statement that is a move of the scenario: it ends the session of a transaction by its name.
_KILL = re.compile(r"kill (\S+)")
#: Locks of one transaction that are shown of a move, and tables.
MOST_LOCKS, MOST_TABLES = 12, 12
#: Kinds of a lock on one table are shown after those on its rows.
_ORDER = ("row", "gap", "key", "advisory", "predicate", "metadata", "other", "table", "transaction")


@dataclass(frozen=True, slots=True, kw_only=True)
class Held:
    """A lock that a transaction holds; ``since``: the statement during which it was first seen."""

    what: str
    mode: str
    since: str
    new: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class WaitsFor:
    """One wait of a transaction: for whom, over what, in which mode against which."""

    holder: str
    what: str
    wanted: str
    held: str
    queued: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Standing:
    """A transaction when a move was over. ``more``: locks beyond those that are listed."""

    name: str
    state: str
    statement: str
    holds: tuple[Held, ...]
    more: int
    waits: tuple[WaitsFor, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class GraphEdge:
    """An arrow of the wait graph."""

    waiter: str
    holder: str
    label: str
    closing: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class StepTable:
    """A table's committed rows; ``changed``: cells (row, column) that are other than before the
    move; ``gone``: rows that are no more.
    """

    name: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    total: int
    changed: tuple[tuple[int, int], ...]
    gone: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Step:
    """One move. ``happened``: sign, text and tone of each thing that was noted under it;
    ``cycle``: the deadlock cycle that it closed, for which ``edges`` then stand; ``locks_known``:
    every lock was listed, rather than those that somebody waits for; ``rows_known``: rows were
    read.
    """

    number: int
    transaction: str
    title: str
    sql: str
    happened: tuple[tuple[str, str, str], ...]
    standing: tuple[Standing, ...]
    edges: tuple[GraphEdge, ...]
    cycle: tuple[str, ...]
    victim: str | None
    tables: tuple[StepTable, ...]
    locks_known: bool
    rows_known: bool
    note: str


def steps_of(recording: Recording, most: int | None = None) -> list[Step]:
    """The moves of a recording, at most so many."""
    return list(_Steps(recording).all(most))


class _Steps:
    """Follows a recording from its first move to its last."""

    def __init__(self, recording: Recording) -> None:
        self.recording = recording
        self.pictures = {picture.move: picture for picture in recording.pictures}
        self._last: Picture | None = None
        self._since: dict[tuple[object, ...], str] = {}
        self._rows: dict[str, TableRows] = {}
        self._rows_known = False
        #: By transaction, the move with which another ended its session.
        self._killed_at = {
            found[1]: event.move
            for event in recording.events
            if event.what == "done" and (found := _KILL.fullmatch(event.sql.strip())) is not None
        }

    def all(self, most: int | None) -> Iterator[Step]:
        texts: dict[int, list[Row]] = {}
        number = 0
        for row in timeline_rows(self.recording):
            number = row.move or number
            texts.setdefault(number, []).append(row)
        numbers = list(dict.fromkeys(move.number for move in self.recording.schedule))
        for number in numbers[:most]:
            yield self._step(number, texts.get(number, []))

    def _step(self, number: int, rows: list[Row]) -> Step:
        moves = [m for m in self.recording.schedule if m.number == number]
        move = moves[0]
        picture = self.pictures.get(number)
        held = self._held(number, picture)
        names = [record.name for record in self.recording.transactions]
        deadlock = next((d for d in self.recording.deadlocks if d.move == number), None)
        edges = tuple(self._edges(number, move.transaction, deadlock))
        cycle = tuple(m.transaction for m in deadlock.members) if deadlock is not None else ()
        after = self._waiting(number, None)
        return Step(
            number=number,
            transaction=move.transaction,
            title=" and ".join(
                f"{one.transaction} {one.statement or one.ends or ''}".strip() for one in moves
            ),
            sql=one_line(self.recording.sql(move.transaction, move.statement) or move.ends or ""),
            happened=tuple(
                (row.sign, row.text if row.banner else f"{names[row.lane]}: {row.text}", row.tone)
                for row in rows
            ),
            standing=tuple(self._standing(name, number, held, after) for name in names),
            edges=edges,
            cycle=cycle,
            victim=deadlock.victim if deadlock is not None else None,
            tables=tuple(self._tables(picture)),
            locks_known=bool(self.recording.pictures),
            rows_known=self._rows_known,
            note=(picture.note or "") if picture is not None else "",
        )

    def _edges(self, number: int, ran: str, deadlock: Deadlock | None) -> Iterator[GraphEdge]:
        """The arrows when the move was over; where it closed a cycle, those of that moment: its
        members', of which some server answers before anybody can look, and who else waited.
        """
        members = deadlock.members if deadlock is not None else ()
        for member in members:
            yield GraphEdge(
                waiter=member.transaction,
                holder=member.waits_for,
                label=member.resource.text,
                closing=member.transaction == ran,
            )
        known = {member.transaction for member in members}
        for wait in self._waiting(number, deadlock):
            if wait.waiter not in known:
                yield GraphEdge(waiter=wait.waiter, holder=wait.holder, label=wait.resource.text)

    def _waiting(self, number: int, deadlock: Deadlock | None) -> list[Wait]:
        """The waits when the move was over, or when it had closed a cycle."""
        moment = deadlock.at_ms if deadlock is not None else self.recording.move_end(number)
        return [
            wait
            for wait in self.recording.waits
            if wait.move <= number
            and wait.since_ms <= moment
            and (wait.until_ms is None or wait.until_ms > moment)
        ]

    # -- locks -------------------------------------------------------------------------------------

    def _held(self, number: int, picture: Picture | None) -> dict[str, list[Held]]:
        """By transaction, what it holds; from the lock picture, or from what others wait for."""
        if picture is None:
            return {} if self.recording.pictures else self._held_by_waits(number)
        found: dict[str, list[tuple[LockEntry, Held]]] = {}
        since: dict[tuple[object, ...], str] = {}
        for lock in picture.locks:
            if not lock.granted or lock.resource.kind == "index":
                continue
            key = (lock.transaction, lock.resource.identity, str(lock.mode))
            known = self._since.get(key)
            since[key] = known or self._statement_at(lock.transaction, number)
            held = Held(
                what=lock.resource.text, mode=str(lock.mode), since=since[key], new=known is None
            )
            found.setdefault(lock.transaction, []).append((lock, held))
        self._since = since
        return {
            name: [held for _, held in sorted(locks, key=lambda pair: _rank(pair[0]))]
            for name, locks in found.items()
        }

    def _held_by_waits(self, number: int) -> dict[str, list[Held]]:
        found: dict[str, list[Held]] = {}
        for wait in self._waiting(number, None):
            if not wait.queued:
                held = Held(
                    what=wait.resource.text,
                    mode=str(wait.held) if wait.held is not None else "not reported",
                    since=f"its {wait.holder_numbers}" if wait.holder_numbers else "",
                    new=wait.move == number,
                )
                if held not in found.setdefault(wait.holder, []):
                    found[wait.holder].append(held)
        return found

    def _statement_at(self, name: str, number: int) -> str:
        """The statement that a transaction had sent last by then."""
        sent = [
            event.statement
            for event in self.recording.events
            if event.transaction == name and event.what == "sent" and event.move <= number
        ]
        return f"its {sent[-1]}" if sent and sent[-1] is not None else ""

    # -- transactions ------------------------------------------------------------------------------

    def _standing(
        self, name: str, number: int, held: Mapping[str, list[Held]], waits: list[Wait]
    ) -> Standing:
        own = [wait for wait in waits if wait.waiter == name]
        locks = held.get(name, [])
        state, statement = self._state(name, number, waiting=bool(own))
        return Standing(
            name=name,
            state=state,
            statement=statement,
            holds=tuple(locks[:MOST_LOCKS]),
            more=max(0, len(locks) - MOST_LOCKS),
            waits=tuple(
                WaitsFor(
                    holder=wait.holder,
                    what=wait.resource.text,
                    wanted=str(wait.wanted),
                    held=str(wait.held) if wait.held is not None else "",
                    queued=wait.queued,
                )
                for wait in own
            ),
        )

    def _state(self, name: str, number: int, *, waiting: bool) -> tuple[str, str]:
        """In words what a transaction is doing, and its latest statement."""
        record = self.recording.transaction(name)
        events = [
            event
            for event in self.recording.events
            if event.transaction == name and event.move <= number
        ]
        if not events:
            return "not begun", ""
        last = events[-1]
        sent = [event for event in events if event.what == "sent"]
        statement = one_line(sent[-1].sql) if sent else ""
        if waiting:
            return "waits for a lock", statement
        if self._killed_at.get(name, number + 1) <= number:
            return "session ended from outside: rolled back", statement
        if last.what == "failed" and last.then is None:
            return "rolled back", statement
        if last.what == "done" and last.statement is None:
            if last.rolled_back or last.sql == "rollback":
                return "rolled back", statement
            return ("committed" if last.sql == "commit" else last.sql), statement
        if last.what in ("sent", "waits", "resumed"):
            return "working", statement
        if record is not None and record.autocommit:
            return "between statements (autocommit)", statement
        if last.what == "failed":
            return "goes on after an error, idle", statement
        return "in a transaction, idle", statement

    # -- rows --------------------------------------------------------------------------------------

    def _tables(self, picture: Picture | None) -> Iterator[StepTable]:
        before, self._rows = self._rows, {**self._rows, **(picture.rows if picture else {})}
        first, self._rows_known = not self._rows_known, bool(self._rows)
        for name, table in list(self._rows.items())[:MOST_TABLES]:
            changed: tuple[tuple[int, int], ...] = ()
            gone = 0
            if not first and before.get(name) != table:
                changed, gone = self._changes(name, before.get(name), table)
            yield StepTable(
                name=name,
                columns=table.columns,
                rows=table.rows,
                total=table.total,
                changed=changed,
                gone=gone,
            )

    def _changes(
        self, name: str, before: TableRows | None, now: TableRows
    ) -> tuple[tuple[tuple[int, int], ...], int]:
        keys = self.recording.tables.get(name)
        primary = [now.columns.index(c) for c in (keys.primary if keys else ()) if c in now.columns]
        places = primary or range(len(now.columns))

        def key_of(row: tuple[str | None, ...]) -> tuple[str | None, ...]:
            return tuple(row[place] for place in places if place < len(row))

        known = {key_of(row): row for row in (before.rows if before is not None else ())}
        changed = [
            (number, column)
            for number, row in enumerate(now.rows)
            for column, value in enumerate(row)
            if (old := known.get(key_of(row))) is None or old[column] != value
        ]
        left = {key_of(row) for row in now.rows}
        return tuple(changed), sum(key not in left for key in known)


def _rank(lock: LockEntry) -> tuple[object, ...]:
    kind = lock.resource.kind
    counted = kind in COUNTED_KINDS and kind != "table"
    return (
        not counted,
        _ORDER.index(kind) if kind in _ORDER else len(_ORDER),
        lock.resource.sort_key,
    )
