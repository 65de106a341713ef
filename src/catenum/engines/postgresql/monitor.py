"""Looks at a running PostgreSQL: who waits for whom, by the activity view and ``pg_blocking_pids``.

The cheap check asks about sessions that wait or stand in a transaction. Only where somebody waits
it reads the lock table, and of it the rows of those who wait: what for, and since when
(documentation, 54.12). ``locks`` reads all rows of the sessions in a chain. Ages are taken on the
server, by its own clock.
"""

from __future__ import annotations

import contextlib
import os
import socket
import threading
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, LiteralString

import psycopg
from psycopg import sql
from psycopg.abc import Buffer
from psycopg.adapt import Loader

from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TargetInfo
from catenum.core.record.waits import Edge
from catenum.core.snapshot.sample import PILE, Held, Sample, SessionInfo, Suspect, Timeout
from catenum.core.text import duration
from catenum.engines.clock import Clock
from catenum.engines.monitor import (
    APPLICATION,
    CHECK_MS,
    NO_ANSWER_MS,
    Check,
    CheckFailed,
    CheckTimedOut,
    DeadlockReport,
    Link,
    StatementRate,
    no_answer,
)
from catenum.engines.postgresql import errors, requirements
from catenum.engines.postgresql.activity import (
    Activity,
    ActivityRow,
    activity,
    asks,
    plain_bytes,
    session_of,
)
from catenum.engines.postgresql.lock_table import (
    LockRow,
    LockRows,
    LockTable,
    as_listed,
    held_by,
    in_queues,
    in_the_way,
    leaders,
    prepared_name,
    resource_of,
    row_or_lock,
    wanted_of,
)
from catenum.engines.postgresql.other_databases import Elsewhere
from catenum.engines.postgresql.replay import Replay, replay_of
from catenum.engines.postgresql.shared_row_holders import Sharing, sharing


def open_monitor(conninfo: str, shown_url: str, *, private: bool = False) -> PostgresqlMonitor:
    """Connect for looking. Raises TargetError."""
    return PostgresqlMonitor(conninfo, shown_url, private=private)


@dataclass(frozen=True)
class _Waits:
    """Who waits for whom, and what is to be said of it."""

    edges: list[Edge]
    notes: tuple[str, ...]
    held: tuple[Held, ...]
    suspects: tuple[Suspect, ...]
    read: int


_UNKNOWN = 705  # the type of a literal that says none (pg_type.dat)


class _AnyText(Loader):
    """Text in whatever encoding it is: what is no UTF-8 keeps its bytes in sight, as ``\\xe9``."""

    def load(self, data: Buffer) -> str:
        return bytes(data).decode("utf-8", "backslashreplace")


class PostgresqlMonitor:
    """One watching connection. See ``engines.monitor.Monitor`` for what each method promises."""

    info: TargetInfo
    login: str
    sees_all: bool
    _activity: Activity
    _locks: LockTable
    _kept_text: int
    _allow: str
    _tells_since: bool
    _tracks: bool
    _stands_by: bool

    def __init__(self, conninfo: str, shown_url: str, *, private: bool) -> None:
        self._shown = shown_url
        self._link = Link(lambda: self._rows("select 1"))
        # Statements come as bytes in the encoding of the session's own database, or of none:
        # SQL_ASCII keeps the server from converting them, and from failing over one that it cannot
        # convert.
        options = (
            f"-c default_transaction_read_only=on -c statement_timeout={CHECK_MS} -c"
            " lock_timeout=500 -c jit=off "
            # Nobody else's function is called, whatever is named like one of the server's and fits
            # better.
            "-c client_encoding=SQL_ASCII -c search_path=pg_catalog -c row_security=off"
        )
        more: dict[str, str | int] = {
            "application_name": APPLICATION,
            "connect_timeout": 5,
            "options": options,
        }
        where = errors.readable(conninfo, shown_url, **more)
        elsewhere = Elsewhere(where)
        try:
            self.connection = psycopg.connect(where, autocommit=True, prepare_threshold=1)
        except psycopg.OperationalError as error:
            raise errors.unreachable(error, shown_url) from error
        for kind in ("text", "name", "varchar", "bpchar", _UNKNOWN):
            self.connection.adapters.register_loader(kind, _AnyText)
        try:
            with self._translated():
                self._learn(private, elsewhere)
        except BaseException:
            self.connection.close()
            raise

    def _learn(self, private: bool, elsewhere: Elsewhere) -> None:
        row = self._rows(
            "select current_setting('server_version'),"
            " current_setting('default_transaction_isolation'), current_user,"
            " pg_has_role('pg_read_all_stats', 'usage') or current_setting('is_superuser') = 'on',"
            " current_setting('track_activity_query_size'), current_setting('track_activities'),"
            " pg_is_in_recovery()"
        )[0]
        major = int(str(row[0]).split(".")[0].split()[0])
        self._activity, self._tells_since = activity(major), major >= 14
        self._locks = LockTable(
            self._rows, own="public", tells_since=major >= 14, elsewhere=elsewhere
        )
        self.info = TargetInfo(
            server="postgresql",
            version=str(row[0]).split()[0],
            url=self._shown,
            private=private,
            default_isolation=row[1],
        )
        self.login, self.sees_all, self._kept_text = (
            str(row[2]),
            bool(row[3]),
            plain_bytes(str(row[4])),
        )
        allow = (
            "" if self.sees_all else requirements.grant(self._rows, self.login, "pg_read_all_stats")
        )
        self._allow = allow.replace("\n", " ")
        self._tracks, self._stands_by = row[5] == "on", bool(row[6])

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        """Turn a driver's error into one sentence; cut the line to a server that does not even end
        its own looks.

        The server's time limit does not help where the server itself, or the network, stands still.
        """
        overdue = threading.Event()
        timer = threading.Timer(NO_ANSWER_MS / 1000, self._cut, [overdue])
        timer.daemon = True
        timer.start()
        try:
            yield
        except (psycopg.errors.QueryCanceled, psycopg.errors.LockNotAvailable) as error:
            raise CheckTimedOut(
                f"{self._shown}: the check took longer than {CHECK_MS / 1000:g} s and was abandoned"
            ) from error
        except psycopg.OperationalError as error:
            if overdue.is_set():
                raise no_answer(self._shown) from error
            raise errors.went_away(error, self._shown) from error
        except psycopg.Error as error:
            raise CheckFailed(f"{self._shown}: {error}") from error
        finally:
            timer.cancel()

    def _cut(self, overdue: threading.Event) -> None:
        overdue.set()
        with (
            contextlib.suppress(OSError, psycopg.Error),
            socket.socket(fileno=os.dup(self.connection.fileno())) as line,
        ):
            line.shutdown(socket.SHUT_RDWR)

    def _rows(
        self, query: LiteralString | sql.Composed, values: Sequence[object] | None = None
    ) -> list[tuple[Any, ...]]:
        rows = self.connection.execute(query, values).fetchall()
        self._link.asked()
        return rows

    @property
    def blind(self) -> str | None:
        """Where the login may not see others' sessions, or the server does not say what they do."""
        if not self.sees_all:
            return f"the login {self.login} sees its own sessions only"
        return (
            None
            if self._tracks
            else "track_activities is off: the server does not say what its sessions do"
        )

    def link_ms(self, cost_ms: float) -> float:
        """By the queries of the check before."""
        with self._translated():
            return self._link.spent_ms(cost_ms)

    # -- looking -----------------------------------------------------------------------------------

    def sample(self, *, locks: bool = False, at_least_ms: float = 0.0) -> Sample:
        """By the activity view; with ``locks`` also the lock table's rows of the sessions in a
        chain.
        """
        clock = Clock()
        self._locks.forget()
        with self._translated():
            rows = [
                ActivityRow(*row)
                for row in self._rows(self._activity.sample, [at_least_ms] * 3 + [PILE])
            ]
            everybody = [row for row in rows if row.pid is not None]
            sessions = {row.pid: session_of(row, self._kept_text) for row in everybody}
            waits = self._who_waits(everybody, sessions, at_least_ms)
            read = len(rows) + waits.read
            edges = waits.edges
            entries: list[LockEntry] = []
            if locks and edges:
                members = {
                    int(name)
                    for edge in edges
                    for name in (edge.waiter, edge.holder)
                    if name.isdigit()
                }
                found = self._locks.locks_of(members)
                read += sum(map(len, found.values()))
                entries, edges = _with_locks(self._locks, found, edges)
        return Sample(
            at=clock.wall(),
            target=self.info,
            sessions=tuple(sessions.values()),
            edges=tuple(edges),
            connected=int(rows[0].seen or 0) if rows else 0,
            deadlocks=int(rows[0].deadlocks) if rows and rows[0].deadlocks is not None else None,
            cost_ms=round(clock.now_ms(), 2),
            rows_read=read,
            locks=tuple(entries),
            notes=(*self._notes(), *waits.notes),
            blind=self.blind,
            held=waits.held,
            suspects=waits.suspects,
        )

    def _who_waits(
        self, rows: Sequence[ActivityRow], sessions: dict[int, SessionInfo], at_least_ms: float
    ) -> _Waits:
        """Everybody's waits; sessions that hold something together with others are added to
        ``sessions``.
        """
        blockers, locks, shared = self._blocked_by(rows, at_least_ms)
        prepared = self._prepared() if any(0 in listed for listed in blockers.values()) else []
        for pid in {pid for listed in blockers.values() for pid in listed} - sessions.keys() - {0}:
            sessions |= {row.pid: session_of(row, self._kept_text) for row in self._one(pid)}
        leader_of = {
            row.pid: row.leader for row in rows if row.leader is not None and row.leader in sessions
        }
        found: dict[tuple[object, ...], Edge] = {}
        held = []
        for row in rows:
            holders = leaders(blockers.get(row.pid, ()), leader_of)
            modes = shared.holders.get(row.pid, {})
            exact_ms = None if row.pid in shared.holders else _one_wait_ms(locks.get(row.pid, ()))
            waits = self._edges_of(row, sessions[row.pid], holders, modes, locks, prepared)
            for edge in waits:
                edge = replace(edge, waiter=str(leader_of.get(row.pid, row.pid)))
                if edge.waiter != edge.holder:
                    found.setdefault(edge.identity, edge)
                if exact_ms is not None:
                    held.append(Held(session=edge.holder, ms=exact_ms, exact=True))
        for number in {int(edge.waiter) for edge in found.values()}:
            if sessions[number].state == "working":  # it is just writing to the log that it waits
                sessions[number] = replace(sessions[number], state="waits for a lock")
        replay = self._replay(rows, sessions) if self._stands_by else Replay()
        notes = [note for _, _, note in prepared] + [
            f"who else holds a row of {table} together with others is not reported: the login may"
            " not read it"
            for table in shared.unread
        ]
        edges = [*found.values(), *replay.edges]
        return _Waits(
            edges,
            (*notes, *replay.notes),
            tuple(held),
            replay.suspects,
            sum(map(len, locks.values())),
        )

    def _edges_of(
        self,
        row: ActivityRow,
        session: SessionInfo,
        holders: Iterable[int],
        modes: Mapping[int, Mode],
        locks: LockRows,
        prepared: Sequence[tuple[str, str, str]],
    ) -> Iterator[Edge]:
        """One process's waits for ``holders``, 0 for a prepared transaction, by the lock table;
        ``modes``: of those who share the row that it waits for.
        """
        mine = locks.get(row.pid, ())
        wanted = wanted_of(mine)
        reported = row_or_lock(self._locks, mine, session) or resource_of(session, row.event or "")
        since = self._since(wanted, session)
        for holder in holders:
            mode, ahead = held_by(holder, wanted, locks)
            yield Edge(
                waiter=str(row.pid),
                holder=str(holder) if holder else prepared_name(wanted, prepared),
                resource=reported[0],
                wanted=reported[1],
                held=mode or modes.get(holder),
                queued=ahead,
                since_ms=-since,
            )

    def _blocked_by(
        self, rows: Sequence[ActivityRow], at_least_ms: float
    ) -> tuple[dict[int, list[int]], dict[int, list[LockRow]], Sharing]:
        """Whom each waits for, by the server's word, the queues for a row, and all who share one;
        with the lock table's rows that tell so.
        """
        asked = {row.pid: list(dict.fromkeys(row.by)) for row in rows if row.by}
        queued = [row.pid for row in rows if row.event_type == "Lock" and row.event == "tuple"]
        queued = queued if asks(rows, at_least_ms) else []
        # The process that replays on a standby is no backend, so that the server does not tell who
        # blocks it.
        replays = [row.pid for row in rows if row.kind == "startup" and row.event_type == "Lock"]
        locks = self._locks.waited_for([*asked, *queued, *replays])
        asked |= {pid: listed for pid in replays if (listed := in_the_way(pid, locks))}
        queued += [
            pid for pid in asked if (lock := wanted_of(locks.get(pid, ()))) and lock.kind == "tuple"
        ]
        asked = as_listed(
            {pid: listed for pid, listed in asked.items() if pid not in queued}, locks
        )
        shared = sharing(self.connection, list(asked), locks)
        asked |= {
            pid: list(dict.fromkeys([*asked[pid], *held])) for pid, held in shared.holders.items()
        }
        return {**asked, **in_queues(queued, locks, asked, self._blockers)}, locks, shared

    def _since(self, wanted: LockRow | None, session: SessionInfo) -> float:
        """How long a session has waited (ms), by the lock table, or before PostgreSQL 14 by its
        statement.
        """
        if wanted is not None and wanted.since_ms is not None:
            return wanted.since_ms
        return 0.0 if self._tells_since else session.statement_ms or 0.0

    def _replay(self, rows: Sequence[ActivityRow], sessions: dict[int, SessionInfo]) -> Replay:
        found = replay_of(self._rows, rows)
        for pid in {int(name) for name in found.sessions} - sessions.keys():
            sessions |= {row.pid: session_of(row, self._kept_text) for row in self._one(pid)}
        return found

    def _one(self, pid: int) -> list[ActivityRow]:
        return [ActivityRow(*row) for row in self._rows(self._activity.one, [pid])]

    def _notes(self) -> Iterator[str]:
        if not self.sees_all:
            yield (
                f'the login {self.login} sees its own sessions only: others are "not reported",'
                f" their waits may be missing; an administrator may allow it: {self._allow}"
            )
        if not self._tracks:
            yield "track_activities is off: the server does not say what its sessions do"

    def _prepared(self) -> list[tuple[str, str, str]]:
        """Prepared transactions: the number, the identifier, and who, since when, how it is
        undone.
        """
        query: LiteralString = (
            "select transaction::text, gid, owner, database, quote_literal(gid), extract(epoch from"
            " clock_timestamp() - prepared)::float8 * 1000 from pg_prepared_xacts order by prepared"
        )
        return [
            (
                number,
                gid,
                (
                    f"prepared transaction {gid}: of {owner}, in {database}, prepared for"
                    f" {duration(age)}; to undo it: rollback prepared {quoted};"
                ),
            )
            for number, gid, owner, database, quoted, age in self._rows(query)
        ]

    def _blockers(self, pid: int) -> list[int]:
        query: LiteralString = "select pg_blocking_pids(%s)"
        return list(self._rows(query, [pid])[0][0])

    def session(self, number: str) -> SessionInfo | None:
        """One row of the activity view."""
        if not number.isdigit():
            return None
        with self._translated():
            rows = self._one(int(number))
        return session_of(rows[0], self._kept_text) if rows else None

    def timeouts(self, sample: Sample) -> tuple[Timeout, ...]:
        """PostgreSQL reports no settings of other sessions, and has no limit of its own."""
        return ()

    def deadlock_report(self) -> DeadlockReport | None:
        """PostgreSQL writes its reports to the log only."""
        return None

    def logs_deadlocks(self) -> bool:
        """It always does, as an error of the victim's session."""
        return True

    # -- ending ------------------------------------------------------------------------------------

    def cancel(self, session: SessionInfo) -> bool:
        """``pg_cancel_backend``."""
        return self._signal("pg_cancel_backend", session)

    def end(self, session: SessionInfo) -> bool:
        """``pg_terminate_backend``."""
        return self._signal("pg_terminate_backend", session)

    def _signal(self, how: LiteralString, session: SessionInfo) -> bool:
        """The check and the order in one statement, so that nothing comes between: the session must
        have begun when it was shown to have, be at the statement that was shown, and in its
        transaction, or in none where none was.
        """
        query: LiteralString = (
            f"select {how}(pid) from pg_stat_activity "
            "where pid = %s and xact_start is not distinct from %s::timestamptz "
            "and query_start is not distinct from %s::timestamptz "
            "and to_char(backend_start at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.MS\"Z\"') "
            "is not distinct from %s"
        )
        with self._translated():
            rows = self._rows(
                query, [int(session.id), session.transaction, session.statement_id, session.started]
            )
        return bool(rows and rows[0][0])

    # -- what is on --------------------------------------------------------------------------------

    def checks(self) -> list[Check]:
        """Settings and rights."""
        with self._translated():
            return requirements.checks(self._rows, self.login, sees_all=self.sees_all)

    def rates(self) -> list[StatementRate] | None:
        """From pg_stat_statements, the most executed first."""
        query: LiteralString = (
            "select query, sum(calls)::bigint, sum(total_exec_time)::float8 from"
            " {schema}.pg_stat_statements group by 1 order by 2 desc limit 500"
        )
        try:
            with self._translated(), self.connection.transaction():
                place = self._rows(requirements.STATEMENTS_SCHEMA)
                if not place:
                    return None
                rows = self._rows(sql.SQL(query).format(schema=sql.Identifier(place[0][0])))
        except CheckFailed:
            return None
        return [
            StatementRate(text=row[0] or "", calls=int(row[1]), total_ms=float(row[2]))
            for row in rows
        ]

    def close(self) -> None:
        with contextlib.suppress(psycopg.Error):
            self.connection.close()


def _with_locks(
    table: LockTable, locks: LockRows, edges: Sequence[Edge]
) -> tuple[list[LockEntry], list[Edge]]:
    """The locks as entries, and the edges with what the lock table says of them."""
    entries, wanted = [], {}
    for pid, mine in locks.items():
        for lock in mine:
            if lock.kind == "virtualxid":
                continue
            resource = table.resource(lock)
            entries.append(
                LockEntry(
                    transaction=str(pid), resource=resource, mode=lock.mode, granted=lock.granted
                )
            )
            if not lock.granted:
                wanted[str(pid)] = (resource, lock.mode)
    reported = []
    for edge in edges:
        resource, mode = wanted.get(edge.waiter, (edge.resource, edge.wanted))
        if resource.kind in ("row", "transaction"):
            resource, mode = (
                edge.resource,
                edge.wanted,
            )  # the statement says more than a transaction's number
        reported.append(replace(edge, resource=resource, wanted=mode))
    return (
        sorted(entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key)),
        reported,
    )


def _one_wait_ms(mine: Sequence[LockRow]) -> float | None:
    """How long a process has waited for one transaction. It began anew with each that came to hold
    the row (lmgr.c, ``XactLockTableWait``), so no other's time is in it.
    """
    wanted = wanted_of(mine)
    return wanted.since_ms if wanted is not None and wanted.kind == "transactionid" else None
