"""The locks of a run's sessions: the cheap check (who waits for whom) and the full picture.

Waits come from ``pg_blocking_pids``; what they are about from the lock table. A session about to
wait for a row holds, or waits for, a lock on its tuple: that lock names the row, and its mode the
row lock it is after.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import Any, LiteralString

import psycopg
from psycopg import pq

from catenum.core.diagnose.holders import touches
from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TableKeys
from catenum.core.record.waits import Edge, Resource, key_text
from catenum.core.servers.postgresql import EXCLUSIVE, SAFE_SNAPSHOT
from catenum.engines.postgresql.lock_table import (
    RULES,
    LockRow,
    LockRows,
    LockTable,
    held_by,
    unreadable_tables,
    wanted_of,
)
from catenum.engines.postgresql.rows import NOT_TOLD, RowReader, key_of
from catenum.engines.postgresql.session import PostgresqlSession, Trail

_BLOCKERS: LiteralString = """
select pid, pg_blocking_pids(pid), pg_safe_snapshot_blocking_pids(pid) from unnest(%s::int[]) as pid
"""
_OUTSIDERS: LiteralString = (
    "select pid, application_name from pg_stat_activity where pid = any(%s::int[])"
)
#: Which statement of the session it was, and its blockers, each with whether it waits itself.
_State = tuple[int, tuple[tuple[int, bool], ...]]
MOST_REMEMBERED = 20_000
_PASSING = ("extend",)  # held for moments only; a wait for one is work, not a wait


class _MovedOn(Exception):
    """The wait ended between two checks."""


#: A connection by which a run asks, loads or puts rows back: its queries are over in a moment, and
#: who waits for the end of one (as an index that is made concurrently does) is at work.
_HELPER = re.compile(r"\(catenum [0-9a-f]{8} (?:control|data|restorer|viewer)\)$")


class LockReader:
    """Reads locks over the control connection, for the tables of one scratch space."""

    def __init__(
        self, connection: psycopg.Connection[Any], schema: str, rowlocks_schema: str | None
    ) -> None:
        self.connection, self.schema = connection, schema
        self.rows = RowReader(connection, schema, rowlocks_schema)
        self.table = LockTable(
            self._fetch, own=schema, tells_since=connection.info.server_version >= 140000
        )
        self._known: dict[int, tuple[_State, list[Edge]]] = {}
        #: What waits were found to be over, by the statements that led there; None: not remembered
        #: from run to run.
        self.trails: Mapping[int, Trail] = {}
        self.remembered: dict[object, list[Edge]] | None = None

    def warm(self) -> None:
        """Have the server plan the looks now rather than at the first wait."""
        pid = self.connection.info.backend_pid
        # Through the driver first, which tells of a missing right by its own kind of error.
        self.connection.execute(_BLOCKERS, [[pid]], prepare=False)
        self.table.locks_of([pid])

    def _fetch(self, query: LiteralString, values: Sequence[object]) -> list[tuple[Any, ...]]:
        return self.connection.execute(query, values, prepare=True).fetchall()

    def forget(self) -> None:
        """The data was loaded again: addresses and numbers mean other rows and tables now."""
        self.rows.forget()
        self.table.forget()
        self._known.clear()
        if self.remembered is not None:
            self.remembered.clear()

    # -- the cheap check ---------------------------------------------------------------------------

    def poll_waits(
        self, sessions: Mapping[str, PostgresqlSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Who among ``sessions`` waits for whom.

        ``everyone`` maps process numbers to names; ``now_ms`` is the run's clock.
        """
        waiting: dict[str, tuple[int, ...]] = {}
        names = {session.pid: name for name, session in sessions.items()}
        for pid, found in self._blockers(names):
            if found:
                waiting[names[pid]] = found
        stuck = {sessions[name].pid for name in waiting}
        # A blocker that stops waiting has become a holder: the same wait, but for another reason.
        states = {
            name: (sessions[name].sent, tuple((pid, pid in stuck) for pid in found))
            for name, found in waiting.items()
        }
        fresh = {
            name: found
            for name, found in waiting.items()
            if self._known_of(sessions[name])[0] != states[name]
        }
        if self.remembered is not None:
            fresh = self._recall(fresh, states, sessions, everyone)
        if fresh:
            self._learn(fresh, states, sessions, everyone, now_ms)
        return [edge for name in waiting for edge in self._known_of(sessions[name])[1]]

    def _blockers(self, pids: Iterable[int]) -> Iterator[tuple[int, tuple[int, ...]]]:
        """Who stands in the way of each, asked without the driver's own preparations: it is asked
        all the time.
        """
        pg = self.connection.pgconn
        listed = "{" + ",".join(map(str, pids)) + "}"
        result = pg.exec_prepared(b"catenum_blockers", [listed.encode()])
        if (
            result.error_field(pq.DiagnosticField.SQLSTATE) == b"26000"
        ):  # the driver releases all at a DROP
            pg.prepare(b"catenum_blockers", _BLOCKERS.replace("%s", "$1").encode())
            result = pg.exec_prepared(b"catenum_blockers", [listed.encode()])
        if result.status != pq.ExecStatus.TUPLES_OK:
            if result.status == pq.ExecStatus.FATAL_ERROR and pg.status == pq.ConnStatus.OK:
                raise psycopg.Error(pg.get_error_message())
            raise psycopg.OperationalError(pg.get_error_message())
        for row in range(result.ntuples):
            cells = [(result.get_value(row, i) or b"").decode().strip("{}") for i in range(3)]
            found = [int(part) for cell in cells[1:] for part in cell.split(",") if part]
            yield int(cells[0]), tuple(dict.fromkeys(found))

    def _known_of(self, session: PostgresqlSession) -> tuple[_State | None, list[Edge]]:
        return self._known.get(session.pid) or (None, [])

    def _recall(
        self,
        fresh: Mapping[str, tuple[int, ...]],
        states: Mapping[str, _State],
        sessions: Mapping[str, PostgresqlSession],
        everyone: Mapping[int, str],
    ) -> dict[str, tuple[int, ...]]:
        """Take what is known of waits that the same statements led to before; the others are given
        back.
        """
        left = {}
        for name, blockers in fresh.items():
            edges = (self.remembered or {}).get(self._way(name, states, sessions, everyone))
            if edges is None:
                left[name] = blockers
            else:
                self._known[sessions[name].pid] = (states[name], edges)
        return left

    def _way(
        self,
        name: str,
        states: Mapping[str, _State],
        sessions: Mapping[str, PostgresqlSession],
        everyone: Mapping[int, str],
    ) -> object:
        """The statements that led to a wait: the waiter's and its blockers', and which of these
        wait themselves.
        """
        trails = [
            (everyone.get(pid), waits, self.trails.get(pid, ())) for pid, waits in states[name][1]
        ]
        return (name, sessions[name].trail, tuple(trails))

    def _learn(
        self,
        fresh: Mapping[str, tuple[int, ...]],
        states: Mapping[str, _State],
        sessions: Mapping[str, PostgresqlSession],
        everyone: Mapping[int, str],
        now_ms: float,
    ) -> None:
        pids = {sessions[name].pid for name in fresh} | {
            pid for found in fresh.values() for pid in found
        }
        locks = self.table.locks_of(pids)
        names = {**self._outsiders(pids - everyone.keys()), **everyone}
        for name, blockers in fresh.items():
            session = sessions[name]
            edges = self._edges(session, blockers, locks, names, now_ms)
            if edges is not None:
                self._known[session.pid] = (states[name], edges)
                if self.remembered is not None and len(self.remembered) < MOST_REMEMBERED:
                    way = self._way(name, states, sessions, everyone)
                    self.remembered[way] = [replace(edge, since_ms=None) for edge in edges]
            else:
                self._known.pop(session.pid, None)  # it moved on between the two queries

    def _outsiders(self, pids: Iterable[int]) -> dict[int, str]:
        wanted = list(pids)
        if not wanted:
            return {}
        found = {pid: f"session {pid}" if pid else "a prepared transaction" for pid in wanted}
        for pid, application in self.connection.execute(_OUTSIDERS, [wanted]):
            if application:
                found[pid] = f"session {pid} ({application})"
        return found

    def _edges(
        self,
        session: PostgresqlSession,
        blockers: tuple[int, ...],
        locks: LockRows,
        names: Mapping[int, str],
        now_ms: float,
    ) -> list[Edge] | None:
        wait = wanted_of(locks.get(session.pid, ()))
        if wait is None:
            return (
                self._snapshot_edges(session, blockers, names)
                if self._awaits_snapshot(session)
                else None
            )
        if wait.kind in _PASSING:
            return None
        try:
            resource, wanted, held_by_wait = self._resource(wait, session, locks)
        except _MovedOn:
            return None
        since = now_ms - wait.since_ms if wait.since_ms is not None else None
        others = [pid for pid in blockers if not _HELPER.search(names[pid])]
        if not others:
            return None
        edges = []
        for pid in others:
            held, queued = held_by(pid, wait, locks)
            edges.append(
                Edge(
                    waiter=session.name,
                    holder=names[pid],
                    resource=resource,
                    wanted=wanted,
                    held=held_by_wait if wait.kind == "transactionid" else held,
                    queued=queued or wait.kind == "tuple",
                    since_ms=since,
                )
            )
        return edges

    def _awaits_snapshot(self, session: PostgresqlSession) -> bool:
        query = "select wait_event = 'SafeSnapshot' from pg_stat_activity where pid = %s"
        row = self.connection.execute(query, [session.pid]).fetchone()
        return bool(row and row[0])

    def _snapshot_edges(
        self, session: PostgresqlSession, blockers: tuple[int, ...], names: Mapping[int, str]
    ) -> list[Edge]:
        resource = Resource(kind="other", text="a safe snapshot")
        held = Mode("other", "read-write serializable transaction")
        return [
            Edge(
                waiter=session.name,
                holder=names[pid],
                resource=resource,
                wanted=SAFE_SNAPSHOT,
                held=held,
            )
            for pid in blockers
        ]

    def _resource(
        self, wait: LockRow, session: PostgresqlSession, locks: LockRows
    ) -> tuple[Resource, Mode, Mode | None]:
        """What ``wait`` is about as people say it, the mode wanted, and for a row the holder's mode
        where rows tell it.
        """
        if wait.kind == "tuple":
            return self._row(wait, locks), wait.row_mode, None
        if wait.kind == "transactionid":
            return self._row_or_key(wait, session, locks)
        return self.table.resource(wait), wait.mode, None

    def _row(self, lock: LockRow, locks: LockRows) -> Resource:
        return self._row_and_xmax(lock, locks, known=True)[0]

    def _row_and_xmax(
        self, lock: LockRow, locks: LockRows, *, known: bool
    ) -> tuple[Resource, str | None]:
        table, page, slot = lock.table or "?", lock.page or 0, lock.slot or 0
        if lock.schema != self.schema or lock.oid in unreadable_tables(locks):
            known = True
        return self.rows.at(table, page, slot, known=known)

    def _row_or_key(
        self, wait: LockRow, session: PostgresqlSession, locks: LockRows
    ) -> tuple[Resource, Mode, Mode | None]:
        """A wait for another transaction's end: over a row that it locked or wrote, or over a key
        that both insert.
        """
        own = next((k for k in locks[session.pid] if k.kind == "tuple" and k.granted), None)
        if own is not None:
            resource, xmax = self._row_and_xmax(own, locks, known=False)
            several = self.rows.members(xmax) if xmax not in (None, "0", wait.xid) and xmax else {}
            if xmax != wait.xid:
                self._still(wait, session)
            return resource, own.row_mode, several.get(wait.xid or "")
        found = self._locked_row(wait, session, locks)
        self._still(wait, session)
        return found or (self._unwritten_key(session), wait.mode, EXCLUSIVE)

    def _still(self, wait: LockRow, session: PostgresqlSession) -> None:
        """Raises _MovedOn where the row may have changed hands between the lock table's reading and
        its own.

        Its new owner's mode would be taken for the one waited for.
        """
        now = wanted_of(self.table.locks_of([session.pid]).get(session.pid, ()))
        if now is None or replace(now, since_ms=None) != replace(wait, since_ms=None):
            raise _MovedOn

    def _locked_row(
        self, wait: LockRow, session: PostgresqlSession, locks: LockRows
    ) -> tuple[Resource, Mode, Mode | None] | None:
        """The row that the statement is after and that ``wait.xid`` has locked.

        A transaction that holds the row already, together with others, takes no lock on its tuple
        (heapam.c, ``heap_update``): the row is then the one whose lockers include the transaction
        waited for.
        """
        for access in RULES.sql.footprint(session.sql, dict(session.values)).accesses:
            keys = self.rows.tables.get(access.table, TableKeys(primary=()))
            wanted = RULES.locks.row_mode(access, keys.columns)
            if wanted is None or access.table in self._unreadable(locks):
                continue
            for resource, lockers in self.rows.locked(access.table):
                held = lockers.get(wait.xid or "")
                if held is not None and touches(access, resource):
                    return resource, wanted, held if held != NOT_TOLD else None
        return None

    def _unwritten_key(self, session: PostgresqlSession) -> Resource:
        """A wait for another transaction that names no row: the key that both of them insert."""
        for access in RULES.sql.footprint(session.sql, dict(session.values)).accesses:
            if access.verb in ("insert", "update"):
                keys = self.rows.tables.get(access.table, TableKeys(primary=()))
                values = dict(access.equals)
                for columns in (keys.primary, *keys.unique):
                    if columns and all(column in values for column in columns):
                        key = key_of(columns, [values[column] for column in columns])
                        text = f"new key {access.table}({key_text(key)})"
                        return Resource(kind="key", text=text, table=access.table, key=key)
                return Resource(kind="key", text=f"a new key of {access.table}", table=access.table)
        return Resource(kind="transaction", text="the end of the other transaction")

    # -- the full picture --------------------------------------------------------------------------

    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions.

        Tables, rows with their modes and keys, predicate locks, and what is waited for.
        """
        locks = self.table.locks_of(everyone)
        every = [lock for mine in locks.values() for lock in mine]
        entries = {
            entry for lock in every if (entry := self._entry(lock, locks, everyone)) is not None
        }
        entries.update(self._waited_for({lock.pid for lock in every if not lock.granted}))
        owners = {
            k.xid: everyone[k.pid]
            for k in every
            if k.kind == "transactionid" and k.granted and k.xid
        }
        notes, unreadable = [], self._unreadable(locks)
        for table in sorted(
            {lock.table for lock in every if lock.schema == self.schema and lock.table}
        ):
            if table in unreadable:
                notes.append(f"rows of {table} not read: a schema lock is in the way")
                continue
            rows, note = self.rows.entries(table, owners, everyone)
            entries.update(rows)
            notes.extend([note] if note else [])
        order = sorted(
            entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key, e.mode)
        )
        return order, "; ".join(notes) or None

    def _unreadable(self, locks: LockRows) -> set[str | None]:
        """Tables of the scratch space that cannot be read now."""
        unreadable = unreadable_tables(locks)
        return {lock.table for mine in locks.values() for lock in mine if lock.oid in unreadable}

    def _waited_for(self, pids: set[int]) -> Iterator[LockEntry]:
        """What the last check knows of those who wait now: a wait over a row need not show in the
        lock table itself.
        """
        for pid, (_, edges) in self._known.items():
            for edge in edges if pid in pids else ():
                yield LockEntry(
                    transaction=edge.waiter, resource=edge.resource, mode=edge.wanted, granted=False
                )

    def _entry(
        self, lock: LockRow, locks: LockRows, everyone: Mapping[int, str]
    ) -> LockEntry | None:
        name = everyone[lock.pid]
        if lock.kind == "advisory":
            return LockEntry(
                transaction=name,
                resource=self.table.resource(lock),
                mode=lock.mode,
                granted=lock.granted,
            )
        if lock.schema != self.schema or not lock.table:
            return None
        if lock.mode.name == "SIReadLock":
            page = f" page {lock.page}" if lock.page is not None else ""
            row = self._row(lock, locks).text if lock.slot is not None and not lock.index else None
            text = row or f"{lock.index or lock.table}{page}"
            resource = Resource(kind="predicate", text=text, table=lock.table, index=lock.index)
            return LockEntry(transaction=name, resource=resource, mode=lock.mode, granted=True)
        if lock.kind == "relation":
            return LockEntry(
                transaction=name,
                resource=self.table.resource(lock),
                mode=lock.mode,
                granted=lock.granted,
            )
        if lock.kind == "tuple":
            # held or not: whoever has a tuple lock for longer than a moment waits for the row
            place = self._row(lock, locks)
            return LockEntry(transaction=name, resource=place, mode=lock.row_mode, granted=False)
        return None
