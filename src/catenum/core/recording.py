"""A recording: everything one run saw, as plain records that every renderer reads.

The JSON form (``"format": "catenum-recording/1"``) is made from these dataclasses and validated against them.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass, field, fields, is_dataclass, replace
from functools import cache
from hashlib import sha1
from typing import Any, Literal

from pydantic import TypeAdapter, ValidationError

from catenum.core.errors import InputError, Place
from catenum.core.waits import Edge, Resource, WaitGraph

FORMAT = "catenum-recording/1"

Kind = Literal["clean", "waited", "timeout", "refused", "deadlock", "stuck", "error"]
DataVerdict = Literal["serial", "anomaly", "unchecked"]
What = Literal["sent", "done", "waits", "resumed", "failed"]
#: The last three are those of a running server: no transaction open, a statement under way, not told.
Status = Literal[
    "committed", "rolled back", "failed", "left open", "cut off", "not begun", "idle", "working", "not told"
]
#: Of a transaction that has ended, well or not.
OVER: tuple[Status, ...] = ("committed", "rolled back", "failed", "idle")
#: What became of a wait: the lock came, the wait ended in an error, or the run ended while it lasted.
WaitEnd = Literal["went on", "failed", "lasted"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerError:
    """An error as the server gave it; ``kind`` is Catenum's word for it.

    ``undone``: what the server itself rolled back with it. Catenum rolls the rest of the transaction back at once.
    ``position`` counts characters of the statement from 1.
    """

    code: str
    kind: Literal["deadlock", "refused", "timeout", "limit", "lost", "rejected"]
    undone: Literal["transaction", "statement"] = "transaction"
    message: str
    detail: str | None = None
    hint: str | None = None
    context: str | None = None
    position: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Result:
    """Rows a statement returned, as text; ``cut`` where there were more than are kept.

    ``digest`` then stands for all of them, whatever their order.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    cut: bool = False
    digest: str | None = None


def digest_of(rows: Iterable[tuple[str | None, ...]]) -> str:
    """One short text for a set of rows, whatever their order."""
    return sha1(repr(sorted(map(repr, rows))).encode(), usedforsecurity=False).hexdigest()


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """Something that happened to one transaction. ``at_ms`` counts from the first move; ``move`` from 1.

    ``statement`` counts from 1 and is None for the end of a transaction (``sql`` says which).
    """

    at_ms: float
    move: int
    transaction: str
    attempt: int
    statement: int | None
    sql: str
    what: What
    rows: int | None = None
    result: Result | None = None
    error: ServerError | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Wait:
    """A wait from when it began to when it ended. ``holder_told_by`` says how the holder's statement is known."""

    waiter: str
    attempt: int
    statement: int | None
    holder: str
    holder_statement: int | None
    resource: Resource
    wanted: str
    held: str | None
    queued: bool
    conflict: str | None = None
    holder_told_by: Literal["server", "statement"] | None = None
    move: int
    since_ms: float
    until_ms: float | None = None
    ended: WaitEnd = "lasted"


@dataclass(frozen=True, slots=True, kw_only=True)
class Member:
    """One transaction of a deadlock: what it had run so far, what it held, what it waited for.

    ``queued``: the one it waits for does not hold the lock, but asked for it first.
    """

    transaction: str
    isolation: str
    statement: int | None
    waits_for: str
    resource: Resource
    wanted: str
    held: str | None
    holds: tuple[str, ...]
    statements: tuple[str, ...]
    queued: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Deadlock:
    """A closed cycle. ``at_ms`` is when Catenum saw it, ``verdict_ms`` when the server answered (None: it never did).

    ``agreed``: the server gave up one of the cycle's members. ``victim`` is None where the server let the cycle go by
    rearranging its queue.
    """

    members: tuple[Member, ...]
    victim: str | None
    rule: str
    move: int
    at_ms: float
    verdict_ms: float | None
    agreed: bool
    server_report: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class LockEntry:
    """A lock in a picture: granted, or waited for."""

    transaction: str
    resource: Resource
    mode: str
    granted: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """The locks of all the run's sessions after a move.

    ``cost_ms`` is what taking it cost; ``note`` what it could not see.
    """

    move: int
    at_ms: float
    locks: tuple[LockEntry, ...]
    cost_ms: float
    note: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class TransactionRecord:
    """One transaction of the run. ``isolation`` is what the server reports; ``asked`` what the scenario says."""

    name: str
    session: str
    isolation: str
    asked: str | None
    read_only: bool
    ends: str
    status: Status
    attempts: int
    statements: tuple[str, ...]
    labels: tuple[str | None, ...]
    timeout_ms: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Statement:
    """A reference to a statement of a transaction, counted from 1."""

    transaction: str
    statement: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """A diagnosed cause, with the evidence it rests on and what could be done."""

    id: str
    title: str
    transactions: tuple[str, ...]
    statements: tuple[Statement, ...]
    evidence: tuple[str, ...]
    advice: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TableRows:
    """A table's final contents as text, ordered by its key; ``total`` may exceed the rows kept."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    total: int


@dataclass(frozen=True, slots=True, kw_only=True)
class TableKeys:
    """The columns of a table's primary key and of its other indexes, and the tables that its foreign keys refer to.

    ``triggers``: code of its own runs when the table is written. ``made``: columns whose values the server makes up
    (sequences, the clock, chance) where a statement gives none.
    """

    primary: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...] = ()
    references: tuple[str, ...] = ()
    indexes: dict[str, tuple[str, ...]] = field(default_factory=dict)
    triggers: bool = False
    made: tuple[str, ...] = ()

    @property
    def columns(self) -> frozenset[str]:
        """Every column that some unique index has."""
        return frozenset(column for index in (self.primary, *self.unique) for column in index)


@dataclass(frozen=True, slots=True, kw_only=True)
class PathStep:
    """How a statement gets at one table: through which index (None: none), about how many rows, and what that locks.

    ``kind``: ``scan`` (the whole table), ``index scan`` (a whole index), ``range`` or ``lookup``. ``covering``: the
    index holds all that is read, so the rows are not visited.
    """

    table: str
    kind: Literal["scan", "index scan", "range", "lookup"]
    index: str | None
    rows: float | None
    covering: bool = False
    locks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """The access path of one statement, as the server planned it on the data before the first move."""

    transaction: str
    statement: int
    steps: tuple[PathStep, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetInfo:
    """Where the run took place. ``url`` has no secrets; ``standin`` is True where no real server was at work."""

    server: str
    version: str
    url: str
    private: bool = False
    standin: bool = False
    default_isolation: str = "read committed"


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """What the schedule came to. ``holds`` maps each rule to true, false, or None where its query failed."""

    kind: Kind
    data: DataVerdict = "unchecked"
    holds: dict[str, bool | None] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """One made move: the transaction and its statement (None: its end, named by ``ends``).

    ``number`` counts the moves of the schedule from 1. The rollback that follows a failure is a move too; it happens
    within the move that brought the failure, and has its number.
    """

    number: int
    transaction: str
    statement: int | None
    ends: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording:
    """Everything one run saw."""

    format: Literal["catenum-recording/1"] = "catenum-recording/1"
    scenario: str
    about: str | None
    target: TargetInfo
    started: str
    duration_ms: float
    order: tuple[str, ...]
    schedule: tuple[Move, ...]
    outcome: Outcome
    transactions: tuple[TransactionRecord, ...]
    events: tuple[Event, ...]
    waits: tuple[Wait, ...]
    deadlocks: tuple[Deadlock, ...] = ()
    pictures: tuple[Picture, ...] = ()
    findings: tuple[Finding, ...] = ()
    rows: dict[str, TableRows] = field(default_factory=dict)
    tables: dict[str, TableKeys] = field(default_factory=dict)
    holds_sql: dict[str, str] = field(default_factory=dict)
    plans: tuple[Plan, ...] = ()
    notes: tuple[str, ...] = ()
    #: A moment of a running server rather than a run of Catenum's own.
    live: bool = False

    def transaction(self, name: str) -> TransactionRecord | None:
        """The transaction called ``name``; None for a session outside the run."""
        return next((t for t in self.transactions if t.name == name), None)

    def sql(self, transaction: str, statement: int | None) -> str | None:
        """The text of a statement, counted from 1."""
        record = self.transaction(transaction)
        if record is None or statement is None or not 1 <= statement <= len(record.statements):
            return None
        return record.statements[statement - 1]

    def graph_at(self, move: int) -> WaitGraph:
        """The wait graph as it stood when ``move`` was over."""
        return WaitGraph(
            as_edge(wait)
            for wait in self.waits
            if wait.move <= move and (wait.until_ms is None or wait.until_ms > self.move_end(move))
        )

    def worst_graph(self) -> tuple[int, WaitGraph]:
        """The move and the wait graph at which most transactions waited, the longest chain counting first among
        equals.
        """
        moves = sorted({wait.move for wait in self.waits})
        graphs = [(move, WaitGraph(as_edge(w) for w in self.waits_during(move))) for move in moves]
        return max(graphs, key=lambda item: (item[1].longest_chain(), len(item[1].waiters)), default=(0, WaitGraph()))

    def waits_during(self, move: int) -> list[Wait]:
        """The waits that lasted at the moment the last wait of ``move`` began."""
        moment = max((wait.since_ms for wait in self.waits if wait.move == move), default=0.0)
        return [wait for wait in self.waits if wait.move <= move and (wait.until_ms is None or wait.until_ms > moment)]

    def move_end(self, move: int) -> float:
        """When ``move`` was over: the last thing noted under it, in ms."""
        return max((event.at_ms for event in self.events if event.move <= move), default=0.0)

    def plan(self, transaction: str, statement: int | None) -> Plan | None:
        """The access path of a statement, where it was asked for."""
        found = (p for p in self.plans if (p.transaction, p.statement) == (transaction, statement))
        return next(found, None)

    def longest_chain(self) -> int:
        """The most waits in a row (or round a cycle) at any moment."""
        return self.worst_graph()[1].longest_chain()

    def locks_taken(self) -> int | None:
        """Distinct row and table locks granted over the run; None where no pictures were taken."""
        if not self.pictures:
            return None
        return len(
            {
                (lock.transaction, lock.resource.text, lock.mode)
                for picture in self.pictures
                for lock in picture.locks
                if lock.granted and lock.resource.kind in ("row", "table")
            }
        )


def as_edge(wait: Wait) -> Edge:
    """The wait as an edge of a wait graph."""
    return Edge(
        waiter=wait.waiter,
        holder=wait.holder,
        resource=wait.resource,
        wanted=wait.wanted,
        held=wait.held,
        queued=wait.queued,
        since_ms=wait.since_ms,
    )


@cache
def _adapter() -> TypeAdapter[Recording]:
    return TypeAdapter(Recording)


def to_json(recording: Recording, *, indent: int | None = 2) -> str:
    """The recording as JSON text."""
    return _adapter().dump_json(recording, indent=indent).decode()


def to_plain(recording: Recording) -> dict[str, Any]:
    """The recording as plain lists and mappings."""
    return _adapter().dump_python(recording, mode="json")  # type: ignore[no-any-return]


def from_json(data: bytes, file: str) -> Recording:
    """Reads a recording back. Raises InputError where it is not one, or not whole."""
    where = Place(file)
    try:
        plain = json.loads(data)
    except (UnicodeDecodeError, RecursionError) as error:
        raise InputError("not a recording: no JSON text", place=where, advice=_SAVE_ADVICE) from error
    except json.JSONDecodeError as error:
        place = Place(file, error.lineno, error.colno)
        raise InputError(f"not a recording: no JSON ({error.msg})", place=place, advice=_SAVE_ADVICE) from error
    found = plain.get("format") if isinstance(plain, dict) else None
    if found != FORMAT:
        raise InputError(
            f"not a recording of the format {FORMAT} (found: {found or 'no format'})",
            place=where,
            advice=_SAVE_ADVICE,
        )
    try:
        return _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(str(part) for part in first["loc"])
        raise InputError(f"a damaged recording: {path}: {first['msg']}", place=where) from error


_SAVE_ADVICE = "'catenum play SCENARIO --save FILE' writes a recording."


def json_schema() -> dict[str, Any]:
    """The JSON Schema of a recording."""
    return _adapter().json_schema()


def without_times_and_ids(recording: Recording) -> dict[str, Any]:
    """What two runs of one schedule must share to the letter: all but times, process numbers and scratch names."""
    blank = _blank(recording)
    return to_plain(replace(blank, started="", target=replace(recording.target, url="")))


def _blank(value: Any) -> Any:
    if is_dataclass(value) and not isinstance(value, type):
        changes: dict[str, Any] = {}
        for item in fields(value):
            old = getattr(value, item.name)
            if item.name.endswith("_ms"):
                changes[item.name] = 0.0 if old is not None else None
            elif item.name in ("session", "server_report", "detail"):
                changes[item.name] = "" if old is not None else None
            else:
                changes[item.name] = _blank(old)
        return replace(value, **changes)
    if isinstance(value, tuple):
        return tuple(_blank(item) for item in value)
    if isinstance(value, dict):
        return {key: _blank(item) for key, item in value.items()}
    return value
