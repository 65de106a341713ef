"""Looks at a running PostgreSQL: who waits for whom, by the activity view and ``pg_blocking_pids``.

The cheap check asks about sessions that wait or stand in a transaction. Only where somebody waits it reads the lock
table, and of it the rows of those who wait: what for, and since when (documentation, 54.12). ``locks`` reads all rows
of the sessions in a chain. Ages are taken on the server, by its own clock.
"""

from __future__ import annotations

import contextlib
import os
import socket
import threading
from collections.abc import Iterator, Sequence
from typing import Any, LiteralString

import psycopg
from psycopg.abc import Buffer
from psycopg.adapt import Loader
from psycopg.conninfo import make_conninfo

from catenum.core.errors import TargetError
from catenum.core.moment.sample import Held, Sample, SessionInfo, State
from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge
from catenum.core.words import duration
from catenum.engines.clock import Clock
from catenum.engines.lookout import (
    APPLICATION,
    LOOK_MS,
    NO_ANSWER_MS,
    Check,
    DeadlockReport,
    LookTimedOut,
    StatementRate,
    no_answer,
)
from catenum.engines.postgresql import capture, errors
from catenum.engines.postgresql.waited import lock_resource, past_queues, prepared_name, resource_of, waited_for

_SAMPLE: LiteralString = """
with s as materialized (
  select pid, usename, application_name, client_addr, client_port, datname, backend_type, state, wait_event_type,
         wait_event, backend_start, xact_start, query_start, state_change, query
  from pg_stat_activity where pid <> pg_backend_pid()
), b as materialized (
  select pid, pg_blocking_pids(pid) as by from s
  where (wait_event_type = 'Lock' or (usename is not null and state is null)) and (%s <= 0 or exists (
    select from s long where long.wait_event_type = 'Lock'
      and long.query_start < clock_timestamp() - make_interval(secs => %s / 1000.0)))
), clock as materialized (select clock_timestamp() as now,
  (select count(*) from s
   where coalesce(backend_type, 'client backend') = 'client backend' and usename is not null) as seen,
  (select sum(deadlocks) from pg_stat_database) as deadlocks)
select s.pid, usename, application_name, host(client_addr), client_port, datname, backend_type, state, wait_event_type,
       wait_event, to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'),
       extract(epoch from now - xact_start)::float8 * 1000, extract(epoch from now - query_start)::float8 * 1000,
       extract(epoch from now - state_change)::float8 * 1000, query, xact_start::text, by, seen, deadlocks
from clock left join (s left join b on b.pid = s.pid) on xact_start is not null or cardinality(by) > 0
  or s.pid in (select unnest(by) from b)
"""
_ONE: LiteralString = """
select pid, usename, application_name, host(client_addr), client_port, datname, backend_type, state, wait_event_type,
       wait_event, to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.MS"Z"'),
       extract(epoch from clock_timestamp() - xact_start)::float8 * 1000,
       extract(epoch from clock_timestamp() - query_start)::float8 * 1000,
       extract(epoch from clock_timestamp() - state_change)::float8 * 1000, query, xact_start::text
from pg_stat_activity where pid = %s
"""
_LOCKS: LiteralString = """
select l.pid, l.locktype, l.mode, l.granted, c.relname, l.page, l.tuple, l.transactionid::text,
       l.classid, l.objid, l.objsubid
from pg_locks l left join pg_class c on c.oid = l.relation
  and l.database in (0, (select oid from pg_database where datname = current_database()))
where l.pid = any(%s::int[]) and l.locktype <> 'virtualxid'
"""
#: Of those who wait: the lock that each waits for, with the time since when, and the lock on a row's place that it has.
_WAITED: LiteralString = """
select l.pid, l.locktype, l.mode, l.granted, c.relname, l.page, l.tuple, l.transactionid::text,
       l.classid, l.objid, l.objsubid, {since}
from pg_locks l left join pg_class c on c.oid = l.relation
  and l.database in (0, (select oid from pg_database where datname = current_database()))
where l.pid = any(%s::int[]) and (not l.granted or l.locktype = 'tuple')
"""
_SINCE: LiteralString = "extract(epoch from clock_timestamp() - l.waitstart)::float8 * 1000"
_EVENTS = {
    "Client": "its client",
    "Activity": "work to come",
    "IO": "input and output",
    "LWLock": "an inner latch of the server",
}


def look_at(conninfo: str, shown_url: str, *, private: bool = False) -> PostgresqlLookout:
    """Connect for looking. Raises TargetError."""
    return PostgresqlLookout(conninfo, shown_url, private=private)


_UNKNOWN = 705  # the type of a literal that says none (pg_type.dat)


class _AnyText(Loader):
    """Text in whatever encoding it is: what is no UTF-8 keeps its bytes in sight, as ``\\xe9``."""

    def load(self, data: Buffer) -> str:
        return bytes(data).decode("utf-8", "backslashreplace")


class PostgresqlLookout:
    """One watching connection. See ``engines.lookout.Lookout`` for what each method promises."""

    def __init__(self, conninfo: str, shown_url: str, *, private: bool) -> None:
        self._shown = shown_url
        # Statements come as bytes in the encoding of the session's own database, or of none: SQL_ASCII keeps the server
        # from converting them, and from failing over one that it cannot convert.
        options = (
            f"-c default_transaction_read_only=on -c statement_timeout={LOOK_MS} -c lock_timeout=500 -c jit=off "
            "-c client_encoding=SQL_ASCII"
        )
        try:
            self.connection = psycopg.connect(
                make_conninfo(conninfo, application_name=APPLICATION, connect_timeout=5, options=options),
                autocommit=True,
                prepare_threshold=1,
            )
        except psycopg.OperationalError as error:
            raise errors.unreachable(error, shown_url) from error
        for kind in ("text", "name", "varchar", "bpchar", _UNKNOWN):
            self.connection.adapters.register_loader(kind, _AnyText)
        try:
            with self._told():
                self._learn(private)
        except BaseException:
            self.connection.close()
            raise

    def _learn(self, private: bool) -> None:
        row = self._rows(
            "select current_setting('server_version'), current_setting('default_transaction_isolation'), current_user, "
            "pg_has_role('pg_read_all_stats', 'member') or current_setting('is_superuser') = 'on', "
            "current_setting('track_activity_query_size'), current_setting('track_activities')"
        )[0]
        self._tells_since = int(str(row[0]).split(".")[0].split()[0]) >= 14
        self.info = TargetInfo(
            server="postgresql",
            version=str(row[0]).split()[0],
            url=self._shown,
            private=private,
            default_isolation=row[1],
        )
        self.login, self.sees_all, self._kept_text = str(row[2]), bool(row[3]), _bytes(str(row[4]))
        self._tracks = row[5] == "on"

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        """Turn a driver's error into one sentence; cut the line to a server that does not even end its own looks.

        The server's time limit does not help where the server itself, or the network, stands still.
        """
        overdue = threading.Event()
        timer = threading.Timer(NO_ANSWER_MS / 1000, self._cut, [overdue])
        timer.daemon = True
        timer.start()
        try:
            yield
        except (psycopg.errors.QueryCanceled, psycopg.errors.LockNotAvailable) as error:
            raise LookTimedOut(
                f"{self._shown}: the check took longer than {LOOK_MS / 1000:g} s and was abandoned"
            ) from error
        except psycopg.OperationalError as error:
            if overdue.is_set():
                raise no_answer(self._shown) from error
            raise errors.went_away(error, self._shown) from error
        except psycopg.Error as error:
            raise TargetError(f"{self._shown}: {error}") from error
        finally:
            timer.cancel()

    def _cut(self, overdue: threading.Event) -> None:
        overdue.set()
        with (
            contextlib.suppress(OSError, psycopg.Error),
            socket.socket(fileno=os.dup(self.connection.fileno())) as line,
        ):
            line.shutdown(socket.SHUT_RDWR)

    def _rows(self, query: LiteralString, values: Sequence[object] | None = None) -> list[tuple[Any, ...]]:
        return self.connection.execute(query, values).fetchall()

    # -- looking -----------------------------------------------------------------------------------------------------

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """By the activity view; with ``locks`` also the lock table's rows of the sessions in a chain."""
        clock = Clock()
        with self._told():
            rows = self._rows(_SAMPLE, [at_least_ms, at_least_ms])
            read = len(rows)
            sessions = {row[0]: self._session(row) for row in rows if row[0] is not None}
            blockers = past_queues({row[0]: (row[9], row[16]) for row in rows if row[16]})
            waiting = self._waiting([row[0] for row in rows if row[16]])
            read += len(waiting)
            prepared = self._prepared() if any(0 in listed for listed in blockers.values()) else []
            edges = [
                edge
                for row in rows
                if row[16]
                for edge in self._edges(row, blockers[row[0]], sessions, waiting.get(row[0], []), prepared)
            ]
            entries: list[LockEntry] = []
            if locks and edges:
                members = {int(name) for edge in edges for name in (edge.waiter, edge.holder) if name.isdigit()}
                found = self._rows(_LOCKS, [list(members)])
                read += len(found)
                entries, edges = self._with_locks(found, edges)
        return Sample(
            at=clock.wall(),
            target=self.info,
            sessions=tuple(sessions.values()),
            edges=tuple(edges),
            connected=int(rows[0][17]) if rows else 0,
            deadlocks=int(rows[0][18]) if rows and rows[0][18] is not None else None,
            cost_ms=round(clock.now_ms(), 2),
            rows_read=read,
            locks=tuple(entries),
            notes=(*self._notes(), *(note for _, _, note in prepared)),
            partial=not self.sees_all,
            held=tuple(_held(edges, waiting)),
        )

    def _notes(self) -> Iterator[str]:
        if not self.sees_all:
            yield (
                f'the login {self.login} sees its own sessions only: others are "not reported", their waits may be '
                f'missing; an administrator may allow it: grant pg_read_all_stats to "{self.login}";'
            )
        if not self._tracks:
            yield "track_activities is off: the server does not say what its sessions do"

    def _session(self, row: tuple[Any, ...]) -> SessionInfo:
        pid, user, application, host, port, database, kind, state, event_type, event, started, *ages, query, trx = row[
            :16
        ]
        transaction, statement, since = ages
        hidden = state is None and kind == "client backend"
        return SessionInfo(
            id=str(pid),
            started=started,
            user=user,
            application=application or None,
            host=host or ("local" if port == -1 else None),
            database=database,
            state=_state(state, event_type, hidden=hidden),
            waits_on=_waits_on(event_type, event, state),
            transaction=trx,
            transaction_ms=transaction,
            statement_ms=statement,
            state_ms=since,
            statement=None if hidden else query or None,
            cut=bool(query) and len(str(query).encode()) >= self._kept_text - 1,
            background=kind not in ("client backend", None),
        )

    def _prepared(self) -> list[tuple[str, str, str]]:
        """Prepared transactions: the number, the identifier, and who, since when, how it is undone."""
        query: LiteralString = (
            "select transaction::text, gid, owner, database, quote_literal(gid), "
            "extract(epoch from clock_timestamp() - prepared)::float8 * 1000 from pg_prepared_xacts order by prepared"
        )
        return [
            (
                number,
                gid,
                f"prepared transaction {gid}: of {owner}, in {database}, prepared for {duration(age)}; "
                f"to undo it: rollback prepared {quoted};",
            )
            for number, gid, owner, database, quoted, age in self._rows(query)
        ]

    def _waiting(self, pids: list[int]) -> dict[int, list[tuple[Any, ...]]]:
        """The lock table's rows of those who wait, and theirs alone: what each waits for, and since when."""
        found: dict[int, list[tuple[Any, ...]]] = {}
        if pids:
            query = _WAITED.format(since=_SINCE if self._tells_since else "null::float8")
            for row in self._rows(query, [pids]):
                found.setdefault(row[0], []).append(row)
        return found

    def _edges(
        self,
        row: tuple[Any, ...],
        blockers: Sequence[int],
        sessions: dict[int, SessionInfo],
        locks: Sequence[tuple[Any, ...]],
        prepared: Sequence[tuple[str, str, str]],
    ) -> Iterator[Edge]:
        session = sessions[row[0]]
        resource, wanted = waited_for(locks, session) or resource_of(session, str(row[9] or ""))
        since = next((-lock[11] for lock in locks if not lock[3] and lock[11] is not None), None)
        if since is None and not self._tells_since and session.statement_ms is not None:
            since = -session.statement_ms
        for holder in blockers:
            name = str(holder) if holder else prepared_name(locks, prepared)
            yield Edge(
                waiter=session.id,
                holder=name,
                resource=resource,
                wanted=wanted,
                held=None,
                queued=False,
                since_ms=since if since is not None else 0.0,
            )

    def _with_locks(self, rows: list[tuple[Any, ...]], edges: list[Edge]) -> tuple[list[LockEntry], list[Edge]]:
        """The locks as entries, and the edges with what the lock table says of them."""
        entries, wanted = [], {}
        for pid, kind, mode, granted, relation, page, slot, xid, *key in rows:
            resource = lock_resource(kind, relation, page, slot, xid, key)
            named = Mode("table", mode)
            entries.append(LockEntry(transaction=str(pid), resource=resource, mode=named, granted=granted))
            if not granted:
                wanted[str(pid)] = (resource, named)
        held = {(e.transaction, e.resource.identity): e.mode for e in entries if e.granted}
        told = []
        for edge in edges:
            resource, mode = wanted.get(edge.waiter, (edge.resource, edge.wanted))
            if resource.kind in ("row", "transaction"):
                resource, mode = edge.resource, edge.wanted  # the statement says more than a transaction's number
            known = held.get((edge.holder, resource.identity))
            told.append(
                Edge(
                    waiter=edge.waiter,
                    holder=edge.holder,
                    resource=resource,
                    wanted=mode,
                    held=known,
                    queued=edge.queued,
                    since_ms=edge.since_ms,
                )
            )
        return sorted(entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key)), told

    def session(self, number: str) -> SessionInfo | None:
        """One row of the activity view."""
        if not number.isdigit():
            return None
        with self._told():
            rows = self._rows(_ONE, [int(number)])
        return self._session(rows[0]) if rows else None

    def deadlock_report(self) -> DeadlockReport | None:
        """PostgreSQL writes its reports to the log only."""
        return None

    # -- ending ------------------------------------------------------------------------------------------------------

    def cancel(self, session: SessionInfo) -> bool:
        """``pg_cancel_backend``."""
        return self._signal("pg_cancel_backend", session)

    def end(self, session: SessionInfo) -> bool:
        """``pg_terminate_backend``."""
        return self._signal("pg_terminate_backend", session)

    def _signal(self, how: LiteralString, session: SessionInfo) -> bool:
        """The look and the order in one statement, so that nothing comes between: the session must have begun when it
        was shown to have, and still be in the transaction that was shown, or in none where none was.
        """
        query: LiteralString = (
            f"select {how}(pid) from pg_stat_activity "
            "where pid = %s and xact_start is not distinct from %s::timestamptz "
            "and to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.MS\"Z\"') "
            "is not distinct from %s"
        )
        with self._told():
            rows = self._rows(query, [int(session.id), session.transaction, session.started])
        return bool(rows and rows[0][0])

    # -- what is on --------------------------------------------------------------------------------------------------

    def checks(self) -> list[Check]:
        """Settings and rights."""
        with self._told():
            return capture.checks(self._rows, self.login, sees_all=self.sees_all)

    def rates(self) -> list[StatementRate] | None:
        """From pg_stat_statements, the most executed first."""
        query: LiteralString = (
            "select query, sum(calls)::bigint, sum(total_exec_time)::float8 from pg_stat_statements "
            "where dbid = (select oid from pg_database where datname = current_database()) "
            "group by 1 order by 2 desc limit 500"
        )
        try:
            with self.connection.transaction():
                rows = self._rows(query)
        except psycopg.Error:
            return None
        return [StatementRate(text=row[0] or "", calls=int(row[1]), total_ms=float(row[2])) for row in rows]

    def close(self) -> None:
        """Disconnect."""
        with contextlib.suppress(psycopg.Error):
            self.connection.close()


def _held(edges: Sequence[Edge], waiting: dict[int, list[tuple[Any, ...]]]) -> Iterator[Held]:
    """Since when each transaction has been waited for by its number: a waiter begins anew with each that comes to hold
    the row, so that no other's time is in it (lmgr.c, ``XactLockTableWait``).
    """
    for edge in edges:
        told = edge.waiter.isdigit() and next((row for row in waiting.get(int(edge.waiter), ()) if not row[3]), None)
        if told and told[1] == "transactionid" and told[11] is not None:
            yield Held(session=edge.holder, ms=told[11], exact=True)


def _bytes(setting: str) -> int:
    number = "".join(c for c in setting if c.isdigit())
    return int(number or 1024) * (1024 if "kB" in setting else 1)


def _state(state: str | None, event_type: str | None, *, hidden: bool) -> State:
    if hidden:
        return "not reported"
    if state == "active":
        return "waits for a lock" if event_type == "Lock" else "working" if event_type is None else "waits"
    if state in ("idle in transaction", "idle in transaction (aborted)"):
        return "idle in a transaction"
    return "idle" if state == "idle" else "working"


def _waits_on(event_type: str | None, event: str | None, state: str | None) -> str | None:
    if event_type in (None, "Lock") or state != "active":
        return None
    return f"{_EVENTS.get(event_type, event_type)} ({event})"
