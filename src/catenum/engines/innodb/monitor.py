"""Looking at a running server with InnoDB: one connection, and what both servers answer alike."""

from __future__ import annotations

import contextlib
import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from hashlib import sha1
from typing import Any, ClassVar, Generic, NamedTuple, TypeVar

import pymysql

from catenum.core.errors import TargetError
from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge
from catenum.core.servers import Rules
from catenum.core.snapshot.sample import PILE, Sample, SessionInfo, State, Suspect, Timeout
from catenum.core.text import duration
from catenum.engines.clock import Clock
from catenum.engines.innodb import errors
from catenum.engines.innodb.metadata_queue import ANY_STATE, NAMED_STATE
from catenum.engines.innodb.metadata_waits import (
    SYSTEM_USERS,
    OtherWaits,
    SessionRow,
    other_waits,
    waiting,
)
from catenum.engines.innodb.session import AS_TEXT
from catenum.engines.innodb.transactions import DETACHED, Transaction
from catenum.engines.monitor import (
    APPLICATION,
    CHECK_MS,
    NO_ANSWER_MS,
    CheckFailed,
    CheckTimedOut,
    DeadlockReport,
    Link,
    StatementRate,
    no_answer,
)

_CLIENTS = """
select processlist_id, max(if(attr_name = 'program_name', attr_value, null)),
  max(if(attr_name = '_pid', attr_value, null))
from performance_schema.session_connect_attrs
where attr_name in ('program_name', '_pid') and processlist_id in ({ids}) group by 1
"""
_SCHEMAS = (
    "select count(*) from information_schema.schemata where schema_name not in"
    " ('information_schema', 'mysql', 'performance_schema', 'sys') and schema_name not like"
    " 'catenum\\_%'"
)
#: Of so many who wait their own timeouts are asked for.
MOST_TIMEOUTS = 100
#: How often schemas are counted again (ms).
SCHEMAS_AGAIN_MS = 10_000.0
#: Threads by their names (MySQL Reference Manual, 29.12.22.8 "The threads Table"; all_slave_threads
#: in rpl_replica.cc).
_THREADS = {
    "event_worker": "event of the event scheduler",
    "event_scheduler": "event scheduler",
    "replica_io": "replication receiver",
    "replica_sql": "replication applier",
    "replica_worker": "replication applier",
    "slave_io": "replication receiver",
    "slave_sql": "replication applier",
    "slave_worker": "replication applier",
    "compress_gtid_table": "system thread",
}
#: Commands of such threads (MariaDB documentation, "Thread Command Values"; MySQL Reference Manual,
#: 10.14.2).
_BACKGROUND = frozenset(
    ["Daemon", "Binlog Dump", "Binlog Dump GTID", "Slave_IO", "Slave_SQL", "Slave_worker"]
)


#: A lock as the server lists it.
Lock = TypeVar("Lock")


class Client(NamedTuple):
    """What a session's client told of itself: a name, and its process on its host."""

    application: str | None
    process: str | None


UNKNOWN = Client(None, None)


class Counts(NamedTuple):
    """What the server counts: connections without this one, deadlocks, and who waits for a row lock
    now.
    """

    connected: int
    deadlocks: int | None
    blocked: int = 0


@dataclass(frozen=True)
class Running:
    """The transactions by their sessions' numbers; ``edges`` where the same reading tells who waits
    for whom, else None. ``read``: rows read beside them.
    """

    transactions: Mapping[str, Transaction]
    edges: tuple[Edge, ...] | None = None
    read: int = 0


@dataclass(frozen=True)
class RowWaits(Generic[Lock]):
    """Who waits for whom over rows. ``held``: what each holder has in the way of others."""

    edges: Sequence[Edge] = ()
    suspects: tuple[Suspect, ...] = ()
    held: Mapping[str, Sequence[Lock]] = field(default_factory=dict)
    read: int = 0


class InnodbMonitor(ABC, Generic[Lock]):
    """One watching connection. See ``engines.monitor.Monitor`` for what each method promises."""

    rules: ClassVar[Rules]
    #: Errors by which the server ends a look that takes too long.
    timed_out: ClassVar[Collection[int]]
    #: Of a longer statement the server keeps the beginning only.
    text_bytes: ClassVar[int]
    #: Flags of the connection beside the driver's own.
    client_flag: ClassVar[int] = 0

    info: TargetInfo
    login: str
    sees_all: bool
    tells_applications: bool
    #: Whether the performance schema lists who has locks on tables' definitions, and who waits for
    #: them.
    tells_metadata: bool
    #: The mode in which the server lists a lock of GET_LOCK.
    named_mode: ClassVar[Mode]
    #: What asks a plugin who has locks on tables' definitions, where there is one.
    metadata_plugin: str | None = None
    #: When the server was started: numbers of sessions are not used again before the next time.
    server_start: str

    def __init__(self, where: dict[str, object], shown_url: str, *, private: bool) -> None:
        self._shown = shown_url
        self._clients: dict[str, Client] = {}
        self._link = Link(lambda: self.rows("select 1"))
        self._home, self._schemas, self._counted = where.get("database"), 2, Clock()
        options: dict[str, Any] = {
            **where,
            "autocommit": True,
            "charset": "utf8mb4",
            "conv": AS_TEXT,
            "use_unicode": False,  # a statement is in its client's encoding, whatever that is
            "connect_timeout": 5,
            "read_timeout": NO_ANSWER_MS // 1000,
            "program_name": APPLICATION,
            "ssl_disabled": "unix_socket" in where,
            "client_flag": self.client_flag,
        }
        options.pop("database", None)
        try:
            self.connection = pymysql.connect(**options)
        except (pymysql.Error, OSError) as error:
            raise errors.unreachable(error, shown_url) from error
        try:
            self._count_schemas()
            self.learn(private)
        except BaseException:
            self.connection.close()
            raise

    @abstractmethod
    def learn(self, private: bool) -> None:
        """What the server is and has, and what this login may see. Raises TargetError."""

    @abstractmethod
    def kill(self, what: str, session: SessionInfo) -> bool:
        """End a session or its statement, if it is still at the statement that was shown, and in
        its transaction, or in none where none was. Returns whether the order was given.
        """

    def rows(self, query: str, values: tuple[object, ...] = ()) -> list[tuple[Any, ...]]:
        """Rows of one query, values as text. Raises LookTimedOut, TargetError."""
        try:
            cursor = self.connection.cursor()
            cursor.execute(query, values or None)
            self._link.asked()
            return [tuple(_any_text(value) for value in row) for row in cursor.fetchall()]
        except (pymysql.Error, OSError) as error:
            number, message = errors.number_and_text(error)
            if number in self.timed_out:
                reported = (
                    f"{self._shown}: the check took longer than {CHECK_MS / 1000:g} s and was"
                    " abandoned"
                )
                raise CheckTimedOut(reported) from error
            if isinstance(
                error.__context__, TimeoutError
            ):  # the driver's own limit, in its own wording
                raise no_answer(self._shown) from error
            if errors.kind_of(number, self.rules) == "lost" or number == 0:
                raise errors.went_away(error, self._shown) from error
            raise CheckFailed(f"{self._shown}: {message}", number=number) from error

    def clients(self, ids: Collection[str]) -> dict[str, Client]:
        """What the sessions' clients told of themselves when they connected; asked for once."""
        fresh = [number for number in ids if number not in self._clients]
        if fresh and self.tells_applications:
            reported = {
                number: Client(*said)
                for number, *said in self.rows(_CLIENTS.format(ids=", ".join(fresh)))
            }
            self._clients = {
                number: self._clients.get(number, UNKNOWN) for number in ids
            }  # no more than those
            self._clients.update((name, reported.get(name, UNKNOWN)) for name in fresh)
        return self._clients

    def sessions(self, rows: Sequence[SessionRow]) -> list[SessionInfo]:
        """As they are listed, each with what its client told when it connected."""
        clients = self.clients([row.id for row in rows])
        return [self._session(row, clients.get(row.id, UNKNOWN)) for row in rows]

    def _session(self, row: SessionRow, client: Client) -> SessionInfo:
        background = row.command in _BACKGROUND or row.user in SYSTEM_USERS
        host, _, port = str(row.host or "").rpartition(":")
        return SessionInfo(
            id=row.id,
            started=f"server start {self.server_start}",
            user=row.user,
            application=client.application,
            process=client.process,
            host=host or row.host or None,
            port=int(port) if host and port.isdigit() else None,
            database=row.db,
            state=state_of(row.command, row.state, row.trx_state),
            waits_on=(
                row.state
                if row.state and row.command != "Sleep" and "lock" not in row.state.lower()
                else None
            ),
            transaction=row.transaction,
            statement_id=row.statement_id,
            transaction_ms=row.trx_ms,
            statement_ms=row.time_ms if row.command != "Sleep" else None,
            state_ms=row.time_ms,
            isolation=row.isolation.lower().replace("-", " ") if row.isolation else "not reported",
            statement=row.statement,
            cut=len((row.statement or "").encode()) >= self.text_bytes,
            rows_changed=row.changed,
            background=background,
            kind=_kind(row) if background else None,
            undoing=row.trx_state == "ROLLING BACK",
            killed=row.command == "Killed",
        )

    def called(self, schema: str, table: str) -> str:
        """How a table is called: with its schema, unless that is the URL's, or the only one."""
        return table if not schema or self.says_itself(schema) else f"{schema}.{table}"

    def says_itself(self, schema: str) -> bool:
        """Whether a schema goes without saying."""
        if self._counted.now_ms() > SCHEMAS_AGAIN_MS:
            self._count_schemas()
        return schema == self._home if self._home else self._schemas < 2

    def _count_schemas(self) -> None:
        self._schemas, self._counted = int(self.rows(_SCHEMAS)[0][0]), Clock()

    # -- looking -----------------------------------------------------------------------------------

    @abstractmethod
    def counts(self) -> Counts:
        """What the server counts."""

    @abstractmethod
    def running(self, blocked: int) -> Running:
        """The transactions; ``blocked``: how many wait for a row lock."""

    @abstractmethod
    def listed(
        self, running: Mapping[str, Transaction], *, everybody: bool = False
    ) -> list[SessionRow]:
        """The sessions that wait, or stand in a transaction; with ``everybody`` all. The views are
        read apart and put together here: the server joins them row by row.
        """

    @abstractmethod
    def row_waits(
        self, running: Mapping[str, Transaction], waited_ms: Callable[[str], float]
    ) -> RowWaits[Lock]:
        """Who waits for whom over rows, and for how long."""

    @abstractmethod
    def with_history(
        self, heads: Sequence[SessionInfo], waits: RowWaits[Lock]
    ) -> dict[str, SessionInfo]:
        """Sessions that hold up others, with their earlier statements."""

    @abstractmethod
    def notes(self, edges: Sequence[Edge]) -> Iterator[str]:
        """What the server does not tell, and how it would."""

    @abstractmethod
    def prepared(self) -> str:
        """The prepared transactions, as statements that undo them."""

    @abstractmethod
    def session(self, number: str) -> SessionInfo | None:
        """One session."""

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """By the sessions, InnoDB's transactions, and the locks that somebody waits for."""
        clock = Clock()
        counts = self.counts()
        running = self.running(counts.blocked)
        transactions = running.transactions
        rows = self.listed(transactions)
        sessions = {session.id: session for session in self.sessions(rows)}
        waited = {
            name: trx.waited_ms for name, trx in transactions.items() if trx.waited_ms is not None
        }
        stuck = waiting(rows)
        longest = max([*waited.values(), *(row.time_ms for row in stuck)], default=0.0)
        asks = self.sees_all and (longest >= at_least_ms or len(waited) + len(stuck) >= PILE)
        waits: RowWaits[Lock] = RowWaits(running.edges or ())
        if asks and waited and running.edges is None:
            waits = self.row_waits(
                transactions, lambda name: most_waited(waited.get(name), sessions.get(name))
            )
        others = self._other_waits(rows, transactions) if asks and stuck else OtherWaits(())
        sessions |= {session.id: session for session in self.sessions(others.suspected)}
        edges = [*(waits.edges if asks else ()), *others.edges]
        suspects = (*waits.suspects, *others.suspects)
        behind = {edge.holder for edge in edges} | {suspect.session for suspect in suspects}
        unlisted = {name: self.session(name) for name in behind - sessions.keys()}
        sessions |= {name: found for name, found in unlisted.items() if found is not None}
        heads = {edge.holder for edge in edges} - {edge.waiter for edge in edges}
        sessions |= self.with_history([sessions[name] for name in heads if name in sessions], waits)
        return Sample(
            at=clock.wall(),
            target=self.info,
            sessions=tuple(sessions.values()),
            edges=tuple(edges),
            connected=counts.connected,
            deadlocks=counts.deadlocks,
            cost_ms=round(clock.now_ms(), 2),
            rows_read=len(rows) + len(transactions) + running.read + waits.read + others.read,
            locks=locks_of(edges) if locks else (),
            notes=(
                *self.notes(edges),
                *self._detached({edge.holder for edge in edges}, transactions),
            ),
            blind=self.blind,
            suspects=suspects,
            inexact=frozenset(waited) if running.edges is None else frozenset(),
        )

    def _other_waits(
        self, rows: Sequence[SessionRow], running: Mapping[str, Transaction]
    ) -> OtherWaits:
        """Over tables, named locks and the whole server."""
        return other_waits(
            self.rows,
            rows,
            self.rules,
            self.named_mode,
            reported=self.tells_metadata,
            anybody=lambda: self.listed(running, everybody=True),
            plugin=self.metadata_plugin,
        )

    def _detached(self, holders: set[str], running: Mapping[str, Transaction]) -> Iterator[str]:
        """Prepared transactions in the way, and how they are undone: no session is to be ended for
        that.
        """
        names = sorted(name for name in holders if name.startswith(DETACHED))
        for name in names:
            age = running[name].age_ms
            opened = f", open for {duration(age)}" if age is not None else ""
            yield f"{name}{opened}, holds locks: it ends by 'xa commit' or 'xa rollback'"
        if names:
            yield self.prepared()

    @property
    def blind(self) -> str | None:
        """Where the login may not see others' sessions."""
        return (
            None
            if self.sees_all
            else f"the login {self.login} sees its own sessions only, and no lock waits"
        )

    def link_ms(self, cost_ms: float) -> float:
        """By the queries of the check before."""
        return self._link.spent_ms(cost_ms)

    def timeouts(self, sample: Sample) -> tuple[Timeout, ...]:
        """By ``innodb_lock_wait_timeout`` of those who wait for rows, ``lock_wait_timeout`` of
        those for tables.
        """
        kinds = {
            edge.waiter: (
                "lock_wait_timeout"
                if edge.resource.kind in ("table", "other")
                else "innodb_lock_wait_timeout"
            )
            for edge in sample.edges
            if edge.resource.kind != "advisory"
        }
        if not kinds:
            return ()
        names = ("innodb_lock_wait_timeout", "lock_wait_timeout")
        (values,) = self.rows(f"select {', '.join(f'@@global.{name}' for name in names)}")
        usual = dict(zip(names, values, strict=True))
        own = self.own_timeouts(list(kinds)[:MOST_TIMEOUTS])
        return tuple(
            Timeout(
                session=name,
                ms=float(own.get((name, kind), usual[kind])) * 1000,
                own=(name, kind) in own,
            )
            for name, kind in kinds.items()
        )

    def own_timeouts(self, ids: Collection[str]) -> dict[tuple[str, str], str]:
        """The settings of sessions, by session and name, where the server tells them."""
        return {}

    def deadlock_report(self) -> DeadlockReport | None:
        """The section LATEST DETECTED DEADLOCK of InnoDB's status."""
        if not self.sees_all:
            return None
        text = str(self.rows("show engine innodb status")[0][2])
        found = re.search(r"LATEST DETECTED DEADLOCK\n-+\n(.*?)\n-{6,}\n[A-Z]", text, re.DOTALL)
        if found is None:
            return None
        report = found[1].strip()
        return DeadlockReport(
            key=sha1(report.encode(), usedforsecurity=False).hexdigest(), text=report
        )

    def cancel(self, session: SessionInfo) -> bool:
        """``KILL QUERY``."""
        return self.kill("query", session)

    def end(self, session: SessionInfo) -> bool:
        """``KILL CONNECTION``."""
        return self.kill("connection", session)

    def rates(self) -> list[StatementRate] | None:
        """From the performance schema's digests, where it is on."""
        query = (
            "select digest_text, sum(count_star), sum(sum_timer_wait) / 1000000000,"
            " sum(sum_lock_time) / 1000000000 from"
            " performance_schema.events_statements_summary_by_digest where digest_text is not null"
            " group by 1 order by 2 desc limit 500"
        )
        try:
            rows = self.rows(query)
        except TargetError:
            return None
        found = [
            StatementRate(
                text=str(text), calls=int(float(calls)), total_ms=float(total), lock_ms=float(lock)
            )
            for text, calls, total, lock in rows
        ]
        return found or None

    def close(self) -> None:
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()


def _kind(row: SessionRow) -> str:
    """What a thread of the server is: by its name, else by its user, its command and, where several
    have that, its state.
    """
    if row.thread in _THREADS:
        return _THREADS[row.thread]
    if row.user == "event_scheduler":
        return "event scheduler"
    if row.command.startswith("Slave"):
        return "replication receiver" if row.command == "Slave_IO" else "replication applier"
    if row.command in ("Connect", "Query", "Sleep"):
        return (
            "replication receiver"
            if "source" in row.state or "master" in row.state
            else "replication applier"
        )
    return "replication sender" if row.command.startswith("Binlog Dump") else "system thread"


def locks_of(edges: Iterable[Edge]) -> tuple[LockEntry, ...]:
    """The locks that edges tell of: waited for, and held in the way."""
    edges = tuple(edges)
    waited = [
        LockEntry(transaction=e.waiter, resource=e.resource, mode=e.wanted, granted=False)
        for e in edges
    ]
    held = [
        LockEntry(transaction=e.holder, resource=e.resource, mode=e.held, granted=True)
        for e in edges
        if e.held
    ]
    return tuple(dict.fromkeys([*waited, *held]))


def state_of(command: str, state: str | None, trx_state: str | None) -> State:
    """A session's state by the server's words for it."""
    if trx_state == "ROLLING BACK":
        return "working"
    if trx_state == "LOCK WAIT" or state == NAMED_STATE:
        return "waits for a lock"
    if state and ANY_STATE.match(state):
        return "waits for a lock"
    if command == "Sleep":
        return "idle in a transaction" if trx_state else "idle"
    return "working"


def most_waited(told_ms: float | None, session: SessionInfo | None) -> float:
    """The most that a wait can have lasted: InnoDB tells its beginning in whole seconds, rounded
    down, and a statement waits no longer than it runs.
    """
    runs_ms = session.statement_ms if session is not None else None
    return min((bound for bound in (told_ms, runs_ms) if bound is not None), default=0.0)


def _any_text(value: object) -> str | None:
    """A value as text; what is no UTF-8 keeps its bytes in sight, as ``\\xe9``."""
    if value is None:
        return None
    return value.decode("utf-8", "backslashreplace") if isinstance(value, bytes) else str(value)


def plain(moment: str) -> str:
    """A time as the server told it, as it can stand in a statement."""
    if not re.fullmatch(r"[0-9 :.T-]+", moment):
        raise TargetError(f"the server reported an invalid time: {moment!r}")
    return moment
