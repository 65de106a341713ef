"""A recording: everything one run saw, as plain records that every renderer reads.

The JSON form (``"format": "catenum-recording/1"``) is made from these dataclasses and validated
against them.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from hashlib import sha1
from typing import Any, Literal

from catenum.core.display import Displayed
from catenum.core.record.modes import Mode
from catenum.core.record.values import Value, ValueKind
from catenum.core.record.waits import Edge, Resource, WaitGraph

Kind = Literal["clean", "waited", "timeout", "refused", "deadlock", "stuck", "error"]
Source = Literal["run", "loops", "sample", "log"]
DataVerdict = Literal["serial", "anomaly", "unchecked"]
AnomalyName = Literal[
    "circular information flow",
    "dirty read",
    "lost update",
    "partial commit",
    "non-repeatable read",
    "phantom",
    "read-only anomaly",
    "read skew",
    "write skew",
    "other anomaly",
]
#: Catenum's words for what an error means to a run.
ErrorKind = Literal["deadlock", "refused", "timeout", "limit", "lost", "rejected"]
#: ``passed``: the statement was not run, since its condition was not true.
What = Literal["sent", "done", "waits", "resumed", "failed", "passed"]
#: The last three are those of a running server: no transaction open, a statement under way, not
#: reported.
#: What the application does after an error, where the transaction is not rolled back: it sends the
#: next statement, the same again, or goes back to a savepoint first.
AfterFailure = Literal["continue", "retry", "back to savepoint"]
Status = Literal[
    "committed",
    "rolled back",
    "failed",
    "left open",
    "killed",
    "cut off",
    "not begun",
    "idle",
    "working",
    "not reported",
]
#: What counts as a lock that was taken: not what only describes another (a predicate, an index's
#: own lock).
COUNTED_KINDS = ("row", "gap", "table")
#: Of a transaction that has ended, well or not.
OVER: tuple[Status, ...] = ("committed", "rolled back", "failed", "killed", "idle")
#: What became of a wait: the lock came, the wait ended in an error, or the run ended while it
#: lasted.
#: ``caught``: without the lock, by an error that code of the scenario caught, so that its client
#: received none.
WaitEnd = Literal["went on", "failed", "caught", "lasted"]


@dataclass(frozen=True, slots=True, kw_only=True)
class ServerError:
    """An error as the server gave it; ``kind`` is Catenum's word for it.

    ``undone``: what the server itself rolled back with it. Catenum rolls the rest of the
    transaction back at once. ``syntax``: the server could not read the statement. ``position``
    counts characters of the statement from 1. ``key``: which key of the scenario's statement is at
    fault, where no server was asked: a condition that cannot be decided, a value that is missing.
    ``check``: by which a transaction was refused: a row changed since its snapshot, reads and
    writes that fit no serial order, or what the scenario itself requires of a statement (then no
    server refused it).
    """

    code: str
    kind: ErrorKind
    undone: Literal["transaction", "statement", "nothing"] = "transaction"
    message: str
    detail: str | None = None
    hint: str | None = None
    context: str | None = None
    position: int | None = None
    syntax: bool = False
    key: Literal["sql", "when", "keep", "require"] | None = None
    check: Literal["row version", "dependency", "required"] | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Result:
    """Rows a statement returned, as text; ``cut`` where there were more than are kept.

    ``digest`` then stands for all of them, whatever their order. ``kinds``: of the columns' values,
    where known.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    cut: bool = False
    digest: str | None = None
    kinds: tuple[ValueKind, ...] = ()


def digest_of(rows: Iterable[tuple[str | None, ...]]) -> str:
    """One short text for a set of rows, whatever their order."""
    return digest_of_rows(sha1(repr(row).encode(), usedforsecurity=False).digest() for row in rows)


def digest_of_rows(digests: Iterable[bytes]) -> str:
    """The same of the rows' own digests."""
    return sha1(b"".join(sorted(digests)), usedforsecurity=False).hexdigest()


@dataclass(frozen=True, slots=True, kw_only=True)
class Event:
    """Something that happened to one transaction. ``at_ms`` counts from the first move; ``move``
    from 1. ``then``: what comes after an error, where the transaction was not rolled back for it.
    ``rolled_back``: the server answered the commit with a rollback.

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
    #: Values bound to the statement, or those that decided its condition; values that it left for
    #: later statements.
    values: dict[str, str | None] = field(default_factory=dict)
    kept: dict[str, str | None] = field(default_factory=dict)
    condition: str | None = None
    then: AfterFailure | None = None
    rolled_back: bool = False

    @property
    def swallowed(self) -> bool:
        """Whether it is an error after which the transaction went on without the statement."""
        return self.then in ("continue", "back to savepoint")

    @property
    def begins_anew(self) -> bool:
        """Whether it is an error with which the server rolled back what the transaction had done,
        so that what came after it, the same statement again for one, ran in another.
        """
        undone = self.error is not None and self.error.undone == "transaction"
        return undone and self.then in ("continue", "retry") and (self.statement or 1) > 1


@dataclass(frozen=True, slots=True, kw_only=True)
class Wait:
    """A wait from when it began to when it ended. ``holder_told_by`` says how the holder's
    statement is known.

    ``holder_candidates``: where that is not certain, the statements of which one took the lock;
    ``holder_statement`` is None then. ``taken_by``: the text of the statement with which
    the server has written it down, perhaps together with others of its page.
    """

    waiter: str
    attempt: int
    statement: int | None
    holder: str
    holder_statement: int | None
    resource: Resource
    wanted: Mode
    held: Mode | None
    queued: bool
    conflict: str | None = None
    holder_told_by: Literal["server", "statement"] | None = None
    holder_candidates: tuple[int, ...] = ()
    taken_by: str | None = None
    move: int
    since_ms: float
    until_ms: float | None = None
    ended: WaitEnd = "lasted"

    @property
    def length_ms(self) -> float:
        """How long it lasted, in ms; 0 for one that lasts still."""
        return (self.until_ms or self.since_ms) - self.since_ms

    @property
    def holder_numbers(self) -> str | None:
        """The holder's statement: ``1``, or ``1 or 2`` where that is not certain; None where
        nothing is known.
        """
        numbers = (
            self.holder_candidates if self.holder_statement is None else (self.holder_statement,)
        )
        return " or ".join(map(str, numbers)) or None


@dataclass(frozen=True, slots=True, kw_only=True)
class DeadlockMember:
    """One transaction of a deadlock: what it had run so far, what it held, what it waited for.

    ``queued``: the one it waits for does not hold the lock, but asked for it first.
    """

    transaction: str
    isolation: str
    statement: int | None
    waits_for: str
    resource: Resource
    wanted: Mode
    held: Mode | None
    holds: tuple[str, ...]
    statements: tuple[str, ...]
    queued: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Deadlock:
    """A closed cycle. ``at_ms`` is when Catenum saw it, ``verdict_ms`` when the server answered
    (None: it never did).

    ``agreed``: the server gave up one of the cycle's members. ``victim`` is None where the server
    let the cycle go by rearranging its queue. ``by_timeout``: a lock timeout ended it.
    """

    members: tuple[DeadlockMember, ...]
    victim: str | None
    rule: str
    move: int
    at_ms: float
    verdict_ms: float | None
    agreed: bool
    server_report: str | None
    by_timeout: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class LockEntry:
    """A lock in a picture: granted, or waited for."""

    transaction: str
    resource: Resource
    mode: Mode
    granted: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class TableRows:
    """A table's contents as text, ordered by its key; ``total`` may exceed the rows kept."""

    columns: tuple[str, ...]
    rows: tuple[tuple[str | None, ...], ...]
    total: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """The locks of all the run's sessions after a move.

    ``cost_ms`` is what taking it cost; ``note`` what it could not see. ``rows``: what others could
    read of the scenario's tables then (what was committed), of those tables where it differs from
    the picture before; the first has all, where rows were read.
    """

    move: int
    at_ms: float
    locks: tuple[LockEntry, ...]
    cost_ms: float
    note: str | None = None
    rows: dict[str, TableRows] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class TransactionRecord:
    """One transaction of the run. ``isolation`` is what the server reports; ``asked`` what the
    scenario says. ``connection``: whose it runs on, after others; ``autocommit``: each statement is
    a transaction of its own.
    """

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
    connection: str | None = None
    autocommit: bool = False

    @property
    def manner(self) -> str:
        """Its level, and what else is particular of it."""
        shared = f", on {self.connection}'s connection" if self.connection else ""
        return (
            self.isolation
            + (", read only" if self.read_only else "")
            + (", autocommit" if self.autocommit else "")
            + shared
        )

    @property
    def status_text(self) -> str:
        """The status in words: what was under way when the run ended is still running."""
        if self.autocommit and self.status == "failed":
            return "failed; the statements before that are committed"
        return "still running" if self.status == "cut off" else self.status


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
class TableKeys:
    """The columns of a table's primary key and of its other indexes, and the tables that its
    foreign keys refer to.

    ``triggers``: code of its own runs when the table is written. ``opaque``: reading or writing it
    does more than its definition as a plain table says (a view, a partition, a policy, a function
    of a user's own in a default or check); ``guarded``: constraints other than keys on plain
    columns keep rows apart; ``checked``: a check, a domain or a computed column may refuse a row
    before it is locked. ``kinds``: how values of a key's columns are compared, for columns where
    Catenum knows it: ``integer``, ``text N`` (bytes), ``folded N`` (by a collation), N the length
    kept; ``asked`` (the server tells which are the same). ``made``: columns whose values the server
    makes up (sequences, the clock, chance) where a statement gives none. ``unindexed``: foreign
    keys for which no index begins with their columns, each as the table that it refers to and those
    columns. ``filled``: columns that are never NULL; ``stamped``: columns that get the time
    whenever their row is changed.
    """

    primary: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...] = ()
    references: tuple[str, ...] = ()
    indexes: dict[str, tuple[str, ...]] = field(default_factory=dict)
    triggers: bool = False
    opaque: bool = False
    guarded: bool = False
    checked: bool = False
    kinds: dict[str, str] = field(default_factory=dict)
    made: tuple[str, ...] = ()
    unindexed: tuple[tuple[str, tuple[str, ...]], ...] = ()
    filled: tuple[str, ...] = ()
    stamped: tuple[str, ...] = ()

    @property
    def columns(self) -> frozenset[str]:
        """Every column that some unique index has."""
        return frozenset(column for index in (self.primary, *self.unique) for column in index)


NO_KEYS = TableKeys(primary=())


@dataclass(frozen=True, slots=True, kw_only=True)
class PathStep:
    """How a statement gets at one table: through which index (None: none), about how many rows, and
    what that locks.

    ``kind``: ``scan`` (the whole table), ``index scan`` (a whole index), ``range`` or ``lookup``.
    ``covering``: the index holds all that is read, so the rows are not visited. ``locks``: what it
    locks, in words and in order; ``locks_rows_passed``: rows that do not match among it.
    """

    table: str
    kind: Literal["scan", "index scan", "range", "lookup"]
    index: str | None
    rows: float | None
    covering: bool = False
    locks: tuple[str, ...] = ()
    locks_rows_passed: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Plan:
    """The access path of one statement, as the server planned it on the data before the first
    move.
    """

    transaction: str
    statement: int
    steps: tuple[PathStep, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class TargetInfo:
    """Where the run took place. ``url`` has no secrets; ``standin`` is True where no real server
    was at work.
    """

    server: str
    version: str
    url: str
    private: bool = False
    standin: bool = False
    default_isolation: str = "read committed"


@dataclass(frozen=True, slots=True, kw_only=True)
class Outcome:
    """The outcome of the schedule. ``holds`` maps each rule to true, false, or None where its query
    failed.
    """

    kind: Kind
    data: DataVerdict = "unchecked"
    holds: dict[str, bool | None] = field(default_factory=dict)

    @property
    def broken_rules(self) -> tuple[str, ...]:
        """The rules that are false, or whose query failed."""
        return tuple(title for title, value in self.holds.items() if value is not True)


@dataclass(frozen=True, slots=True, kw_only=True)
class Move:
    """One made move: the transaction and its statement (None: its end, named by ``ends``).

    ``number`` counts the moves of the schedule from 1. The rollback that follows a failure is a
    move too; it happens within the move that brought the failure, and has its number.
    """

    number: int
    transaction: str
    statement: int | None
    ends: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Recording(Displayed):
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
    #: Where it comes from: a run of Catenum's own, its loops, a moment of a running server, a
    #: server's own log. What a log cannot know, the order of the moves for one, is empty there.
    source: Source = "run"
    #: The scenario that was run, as it was after all options, so that it can be run again.
    definition: dict[str, Any] | None = None
    #: Deadlocks that the server counted and no client received; routines that catch errors, and
    #: which.
    hidden_deadlocks: int = 0
    #: The server's settings that decide about locks and waits.
    settings: dict[str, str] = field(default_factory=dict)
    handlers: dict[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def made(self) -> bool:
        """Whether Catenum ran it, so that what is not in it did not happen."""
        return self.source in ("run", "loops")

    def transaction(self, name: str) -> TransactionRecord | None:
        """The transaction called ``name``; None for a session outside the run."""
        return next((t for t in self.transactions if t.name == name), None)

    def sql(self, transaction: str, statement: int | None) -> str | None:
        """The text of a statement, counted from 1."""
        record = self.transaction(transaction)
        if record is None or statement is None or not 1 <= statement <= len(record.statements):
            return None
        return record.statements[statement - 1]

    def bound(self, transaction: str, statement: int | None) -> dict[str, Value]:
        """The values that were bound to a statement when it was sent last, all as text."""
        sent = (
            e
            for e in reversed(self.events)
            if (e.transaction, e.statement, e.what) == (transaction, statement, "sent")
        )
        found = next(sent, None)
        return {name: Value(text) for name, text in found.values.items()} if found else {}

    def graph_at(self, move: int) -> WaitGraph:
        """The wait graph as it stood when ``move`` was over."""
        return WaitGraph(
            as_edge(wait)
            for wait in self.waits
            if wait.move <= move and (wait.until_ms is None or wait.until_ms > self.move_end(move))
        )

    def worst_graph(self) -> tuple[int, WaitGraph]:
        """The move and the wait graph at which most transactions waited, the longest chain counting
        first among equals.
        """
        moves = sorted({wait.move for wait in self.waits})
        graphs = [(move, WaitGraph(as_edge(w) for w in self.waits_during(move))) for move in moves]
        return max(
            graphs,
            key=lambda item: (item[1].longest_chain(), len(item[1].waiters)),
            default=(0, WaitGraph()),
        )

    def waits_during(self, move: int) -> list[Wait]:
        """The waits that lasted at the moment the last wait of ``move`` began."""
        moment = max((wait.since_ms for wait in self.waits if wait.move == move), default=0.0)
        return [
            wait
            for wait in self.waits
            if wait.move <= move and (wait.until_ms is None or wait.until_ms > moment)
        ]

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
        """See ``locks_taken``, over the whole run."""
        return locks_taken(self.pictures)


def locks_taken(pictures: Sequence[Picture]) -> int | None:
    """Distinct locks on rows, gaps and tables that were granted; None where no pictures were
    taken.
    """
    if not pictures:
        return None
    granted = (lock for picture in pictures for lock in picture.locks if lock.granted)
    counted = (lock for lock in granted if lock.resource.kind in COUNTED_KINDS)
    return len({(lock.transaction, lock.resource.identity, lock.mode) for lock in counted})


def as_edge(wait: Wait) -> Edge:
    return Edge(
        waiter=wait.waiter,
        holder=wait.holder,
        resource=wait.resource,
        wanted=wait.wanted,
        held=wait.held,
        queued=wait.queued,
        since_ms=wait.since_ms,
    )
