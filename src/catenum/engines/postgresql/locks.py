"""What PostgreSQL's lock tables say: the cheap look (who waits for whom) and the full picture.

Waits come from ``pg_blocking_pids``; what they are about from ``pg_locks`` (documentation, 54.12). Row locks stand in
the rows themselves: ``pgrowlocks`` reads them where it is installed, otherwise ``xmax`` with
``pg_get_multixact_members``. A session about to wait for a row holds, or waits for, a lock on its tuple: that lock
names the row, and its mode the row lock it is after.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import psycopg
from psycopg import sql

from catenum.core.attribution import touches
from catenum.core.locks.modes import explain_conflict
from catenum.core.locks.postgresql import ROW_MODE_ALIASES, ROW_MODE_OF_TUPLE_LOCK, row_mode
from catenum.core.recording import LockEntry, TableKeys
from catenum.core.statements import footprint
from catenum.core.waits import Edge, Resource
from catenum.engines.postgresql.session import PostgresqlSession

_BLOCKERS = """
select pid, pg_blocking_pids(pid), pg_safe_snapshot_blocking_pids(pid) from unnest(%s::int[]) as pid
"""
_LOCKS = """
select l.pid, l.locktype, l.mode, l.granted, l.page, l.tuple, l.transactionid::text, l.virtualxid,
       l.classid, l.objid, n.nspname, coalesce(t.relname, c.relname), case when t.oid is null then null else c.relname
       end, {waited}
from pg_locks l
left join pg_class c on c.oid = l.relation
left join pg_namespace n on n.oid = c.relnamespace
left join pg_index i on i.indexrelid = c.oid
left join pg_class t on t.oid = i.indrelid
where l.pid = any(%s::int[])
"""
_WAITED = "extract(epoch from clock_timestamp() - l.waitstart)::float8 * 1000"  # waitstart: from version 14 on
_OUTSIDERS = "select pid, application_name from pg_stat_activity where pid = any(%s::int[])"
_PASSING = ("extend",)  # held for moments only; a wait for one is work, not a wait
_BIG_TABLE_PAGES = 2_000


@dataclass(frozen=True, slots=True)
class Lock:
    """A row of ``pg_locks``, names resolved."""

    pid: int
    type: str
    mode: str
    granted: bool
    page: int | None
    slot: int | None
    xid: str | None
    virtualxid: str | None
    classid: int | None
    objid: int | None
    schema: str | None
    table: str | None
    index: str | None
    waited_ms: float | None

    @property
    def object(self) -> tuple[Any, ...]:
        """What the lock is on."""
        return (
            self.type,
            self.schema,
            self.table,
            self.index,
            self.page,
            self.slot,
            self.xid,
            self.virtualxid,
            self.classid,
            self.objid,
        )


class LockReader:
    """Reads locks over the control connection, for the tables of one scratch space."""

    def __init__(self, connection: psycopg.Connection[Any], schema: str, rowlocks_schema: str | None) -> None:
        self.connection, self.schema, self.rowlocks_schema = connection, schema, rowlocks_schema
        waited = _WAITED if connection.info.server_version >= 140000 else "null::float8"
        self._locks_sql = _LOCKS.format(waited=waited)
        self.tables: dict[str, TableKeys] = {}
        self._row_keys: dict[tuple[str, int, int], str] = {}
        self._known: dict[tuple[int, int], tuple[tuple[tuple[int, bool], ...], list[Edge]]] = {}

    def warm(self) -> None:
        """Have the server plan the looks now rather than at the first wait."""
        pid = self.connection.info.backend_pid
        self.connection.execute(_BLOCKERS, [[pid]])
        self._locks_of([pid])

    def forget(self) -> None:
        """The data was loaded anew: row addresses mean other rows now."""
        self._row_keys.clear()
        self._known.clear()

    # -- the cheap look ----------------------------------------------------------------------------------------------

    def look(self, sessions: Mapping[str, PostgresqlSession], everyone: Mapping[int, str], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom.

        ``everyone`` maps process numbers to names; ``now_ms`` is the run's clock.
        """
        waiting: dict[str, tuple[int, ...]] = {}
        names = {session.pid: name for name, session in sessions.items()}
        for pid, blockers, snapshot in self.connection.execute(_BLOCKERS, [list(names)]):
            found = tuple(dict.fromkeys([*blockers, *snapshot]))
            if found:
                waiting[names[pid]] = found
        stuck = {sessions[name].pid for name in waiting}
        # A blocker that stops waiting has become a holder: the same wait, but for another reason.
        states = {name: tuple((pid, pid in stuck) for pid in found) for name, found in waiting.items()}
        fresh = {
            name: found
            for name, found in waiting.items()
            if self._known.get((sessions[name].pid, sessions[name].sent), ((), []))[0] != states[name]
        }
        if fresh:
            self._learn(fresh, states, sessions, everyone, now_ms)
        return [
            edge for name in waiting for edge in self._known.get((sessions[name].pid, sessions[name].sent), ((), []))[1]
        ]

    def _learn(
        self,
        fresh: Mapping[str, tuple[int, ...]],
        states: Mapping[str, tuple[tuple[int, bool], ...]],
        sessions: Mapping[str, PostgresqlSession],
        everyone: Mapping[int, str],
        now_ms: float,
    ) -> None:
        pids = {sessions[name].pid for name in fresh} | {pid for found in fresh.values() for pid in found}
        locks = self._locks_of(pids)
        names = {**self._outsiders(pids - everyone.keys()), **everyone}
        for name, blockers in fresh.items():
            session = sessions[name]
            edges = self._edges(session, blockers, locks, names, now_ms)
            if edges is not None:
                self._known[session.pid, session.sent] = (states[name], edges)
            else:
                self._known.pop((session.pid, session.sent), None)  # it moved on between the two queries

    def _locks_of(self, pids: Iterable[int]) -> list[Lock]:
        return [Lock(*row) for row in self.connection.execute(self._locks_sql, [list(pids)])]

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
        locks: list[Lock],
        names: Mapping[int, str],
        now_ms: float,
    ) -> list[Edge] | None:
        wait = next((lock for lock in locks if lock.pid == session.pid and not lock.granted), None)
        if wait is None:
            return self._snapshot_edges(session, blockers, names) if self._awaits_snapshot(session) else None
        if wait.type in _PASSING:
            return None
        resource, wanted = self._resource(wait, session, locks)
        since = now_ms - wait.waited_ms if wait.waited_ms is not None else None
        edges = []
        for pid in blockers:
            held, queued = self._held(wait, pid, resource, locks)
            edges.append(
                Edge(
                    waiter=session.name,
                    holder=names[pid],
                    resource=resource,
                    wanted=wanted,
                    held=held,
                    queued=queued,
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
        return [
            Edge(
                waiter=session.name,
                holder=names[pid],
                resource=resource,
                wanted="SafeSnapshot",
                held="read-write serializable transaction",
            )
            for pid in blockers
        ]

    def _resource(self, wait: Lock, session: PostgresqlSession, locks: list[Lock]) -> tuple[Resource, str]:
        """What ``wait`` is about, as people say it, and the mode wanted on it."""
        if wait.type == "tuple":
            return self._row(wait, locks), ROW_MODE_OF_TUPLE_LOCK.get(wait.mode, wait.mode)
        if wait.type == "transactionid":
            own = [k for k in locks if k.pid == session.pid and k.type == "tuple" and k.granted]
            if own:
                return self._row(own[0], locks), ROW_MODE_OF_TUPLE_LOCK.get(own[0].mode, own[0].mode)
            return self._locked_row(wait, session, locks) or (self._unwritten_key(session), wait.mode)
        if wait.type == "relation":
            return self._table(wait), wait.mode
        if wait.type == "advisory":
            return Resource(kind="advisory", text=f"advisory lock {wait.objid}"), wait.mode
        return Resource(kind="other", text=f"{wait.type} lock"), wait.mode

    def _table(self, lock: Lock) -> Resource:
        name = lock.table or "a table"
        text = f"index {lock.index} of {name}" if lock.index else name
        kind = "index" if lock.index else "table"
        if lock.schema and lock.schema != self.schema:
            text = f"{lock.schema}.{text}"
        return Resource(kind=kind, text=text, table=name, index=lock.index)

    def _locked_row(self, wait: Lock, session: PostgresqlSession, locks: list[Lock]) -> tuple[Resource, str] | None:
        """The row that the statement is after and that ``wait.xid`` has locked.

        A transaction that holds the row already, together with others, takes no lock on its tuple (heapam.c,
        ``heap_update``): the row is then the one whose lockers include the transaction waited for.
        """
        for access in footprint(session.sql).accesses:
            keys = self.tables.get(access.table, TableKeys(primary=()))
            wanted = row_mode(access, keys.columns)
            if wanted is None or not keys.primary or _is_barred(access.table, locks):
                continue
            rows = [
                resource
                for resource, lockers in self._locked_rows(access.table, keys.primary)
                if wait.xid in lockers and touches(access, resource)
            ]
            if rows:
                return rows[0], wanted
        return None

    def _locked_rows(self, table: str, columns: tuple[str, ...]) -> Iterator[tuple[Resource, dict[str, str]]]:
        """The rows of ``table`` that somebody has locked or written, with the transactions' ids and modes."""
        if self._pages(table) > _BIG_TABLE_PAGES:
            return
        query = sql.SQL("select xmax::text, {} from {} where xmax <> '0'::xid").format(
            _texts(columns), sql.Identifier(self.schema, table)
        )
        for xmax, *values in self._try(query):
            yield _row_resource(table, key_text(columns, values)), {xmax: NOT_TOLD, **self._members(xmax)}

    def _pages(self, table: str) -> int:
        size = sql.SQL("select pg_relation_size({}) / current_setting('block_size')::int")
        rows = self._try(size.format(sql.Literal(f'"{self.schema}"."{table}"')))
        return int(rows[0][0]) if rows else 0

    def _unwritten_key(self, session: PostgresqlSession) -> Resource:
        """A wait for another transaction that names no row: the key that both of them insert."""
        for access in footprint(session.sql).accesses:
            if access.verb in ("insert", "update"):
                keys = self.tables.get(access.table, TableKeys(primary=()))
                values = dict(access.equals)
                for columns in (keys.primary, *keys.unique):
                    if columns and all(column in values for column in columns):
                        key = ", ".join(f"{column}={values[column]}" for column in columns)
                        return Resource(kind="key", text=f"new key {access.table}({key})", table=access.table, key=key)
                return Resource(kind="key", text=f"a new key of {access.table}", table=access.table)
        return Resource(kind="transaction", text="the end of the other transaction")

    def _held(self, wait: Lock, pid: int, resource: Resource, locks: list[Lock]) -> tuple[str | None, bool]:
        """The mode in which ``pid`` stands in the way, and whether it only stands ahead in the queue."""
        if wait.type == "transactionid":
            if resource.kind != "row":
                return "ExclusiveLock", False
            return self._multixact_mode(wait, resource), False
        theirs = [lock for lock in locks if lock.pid == pid and lock.object == wait.object]
        if wait.type == "tuple":
            modes = [ROW_MODE_OF_TUPLE_LOCK.get(lock.mode) for lock in theirs]
            return (modes[0] if modes else None), True
        granted = [lock.mode for lock in theirs if lock.granted and _conflict(wait.mode, lock.mode)]
        if granted:
            return granted[-1], False
        asked = [lock.mode for lock in theirs if not lock.granted]
        return (asked[0] if asked else None), bool(asked)

    def _multixact_mode(self, wait: Lock, resource: Resource) -> str | None:
        """The mode a holder has on a row that several hold at once;

        None where it holds it alone (its text tells then).
        """
        if resource.table is None or resource.key is None:
            return None
        row = self._try(
            sql.SQL("select xmax::text from {} where ({}) = ({})").format(
                sql.Identifier(self.schema, resource.table), *self._key_test(resource)
            )
        )
        if not row or row[0][0] in (wait.xid, "0"):
            return None
        members = self._members(row[0][0])
        return members.get(wait.xid or "")

    def _key_test(self, resource: Resource) -> tuple[sql.Composable, sql.Composable]:
        pairs = [part.partition("=") for part in (resource.key or "").split(", ")]
        columns = sql.SQL(", ").join(sql.Identifier(column) for column, _, _ in pairs)
        return columns, sql.SQL(", ").join(sql.Literal(value) for _, _, value in pairs)

    def _members(self, xmax: str) -> dict[str, str]:
        rows = self._try(
            sql.SQL("select xid::text, mode from pg_get_multixact_members({}::xid)").format(sql.Literal(xmax))
        )
        return {xid: ROW_MODE_ALIASES.get(mode.lower(), mode) for xid, mode in rows}

    # -- rows --------------------------------------------------------------------------------------------------------

    def _row(self, lock: Lock, locks: list[Lock]) -> Resource:
        table, page, slot = lock.table or "?", lock.page or 0, lock.slot or 0
        key = self._row_keys.get((table, page, slot))
        if key is None and lock.schema == self.schema and not _is_barred(table, locks):
            key = self._fetch_key(table, page, slot)
        if key is None:
            return Resource(kind="row", text=f"{table}(row {slot} of page {page})", table=table)
        return Resource(kind="row", text=f"{table}({key})", table=table, key=key)

    def _fetch_key(self, table: str, page: int, slot: int) -> str | None:
        columns = self.tables.get(table, TableKeys(primary=())).primary
        if not columns:
            return None
        query = sql.SQL("select {} from {} where ctid = {}::tid").format(
            _texts(columns), sql.Identifier(self.schema, table), sql.Literal(f"({page},{slot})")
        )
        rows = self._try(query)
        if not rows:
            return None
        key = key_text(columns, rows[0])
        self._row_keys[table, page, slot] = key
        return key

    def _try(self, query: sql.Composed) -> list[tuple[Any, ...]]:
        """Rows, or none where looking would have to wait (it never queues behind anybody for long) or cannot be had.

        An ``xmax`` that is no multixact is asked about as if it were one, since only the row's flags would tell; the
        server then answers with an internal error.
        """
        try:
            rows: list[tuple[Any, ...]] = self.connection.execute(query).fetchall()
            return rows
        except (
            psycopg.errors.LockNotAvailable,
            psycopg.DataError,
            psycopg.InternalError,
            psycopg.ProgrammingError,
        ):
            return []

    # -- the full picture --------------------------------------------------------------------------------------------

    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions:

        tables, rows with their modes and keys, predicate locks, and what is waited for.
        """
        locks = self._locks_of(everyone)
        entries: set[LockEntry] = set()
        for lock in locks:
            entry = self._entry(lock, locks, everyone)
            if entry is not None:
                entries.add(entry)
        touched = sorted({lock.table for lock in locks if lock.schema == self.schema and lock.table})
        notes = []
        for table in touched:
            if _is_barred(table, locks):
                notes.append(f"rows of {table} not read: a schema lock stands before it")
                continue
            rows, note = self._row_locks(table, locks, everyone)
            entries.update(rows)
            notes.extend([note] if note else [])
        order = sorted(entries, key=lambda e: (e.transaction, not e.granted, e.resource.kind, e.resource.text, e.mode))
        return order, "; ".join(notes) or None

    def _entry(self, lock: Lock, locks: list[Lock], everyone: Mapping[int, str]) -> LockEntry | None:
        name = everyone[lock.pid]
        if lock.mode == "SIReadLock" and lock.table:
            place = f" page {lock.page}" if lock.page is not None else ""
            text = self._row(lock, locks).text if lock.slot is not None and not lock.index else None
            text = text or f"{lock.index or lock.table}{place}"
            resource = Resource(kind="predicate", text=text, table=lock.table, index=lock.index)
            return LockEntry(transaction=name, resource=resource, mode=lock.mode, granted=True)
        if lock.type == "relation" and lock.table and lock.schema == self.schema:
            return LockEntry(transaction=name, resource=self._table(lock), mode=lock.mode, granted=lock.granted)
        if lock.type == "tuple" and lock.schema == self.schema:
            # held or not: whoever has a tuple lock for longer than a moment waits for the row
            mode = ROW_MODE_OF_TUPLE_LOCK.get(lock.mode, lock.mode)
            return LockEntry(transaction=name, resource=self._row(lock, locks), mode=mode, granted=False)
        if lock.type == "advisory":
            resource = Resource(kind="advisory", text=f"advisory lock {lock.objid}")
            return LockEntry(transaction=name, resource=resource, mode=lock.mode, granted=lock.granted)
        return None

    def _row_locks(
        self, table: str, locks: list[Lock], everyone: Mapping[int, str]
    ) -> tuple[list[LockEntry], str | None]:
        columns = self.tables.get(table, TableKeys(primary=())).primary
        if not columns:
            return [], f"rows of {table} not listed: it has no primary key"
        pages = self._pages(table)
        if pages > _BIG_TABLE_PAGES:
            return [], f"rows of {table} not listed: {pages} pages would have to be read"
        if self.rowlocks_schema is not None:
            return self._from_pgrowlocks(table, columns, everyone), None
        return self._from_xmax(table, columns, locks, everyone), None

    def _from_pgrowlocks(self, table: str, columns: tuple[str, ...], everyone: Mapping[int, str]) -> list[LockEntry]:
        query = sql.SQL("select l.pids, l.modes, {} from {}({}) l join {} t on t.ctid = l.locked_row").format(
            _texts(columns, "t"),
            sql.Identifier(self.rowlocks_schema or "", "pgrowlocks"),
            sql.Literal(f'"{self.schema}"."{table}"'),
            sql.Identifier(self.schema, table),
        )
        entries = []
        for pids, modes, *values in self._try(query):
            resource = _row_resource(table, key_text(columns, values))
            for pid, mode in zip(pids, modes, strict=True):
                if pid in everyone:
                    name = ROW_MODE_ALIASES.get(mode.lower(), mode)
                    entries.append(LockEntry(transaction=everyone[pid], resource=resource, mode=name, granted=True))
        return entries

    def _from_xmax(
        self, table: str, columns: tuple[str, ...], locks: list[Lock], everyone: Mapping[int, str]
    ) -> list[LockEntry]:
        owners = {k.xid: everyone[k.pid] for k in locks if k.type == "transactionid" and k.granted and k.xid}
        entries = []
        for resource, lockers in self._locked_rows(table, columns):
            for xid, mode in lockers.items():
                if xid in owners:
                    entries.append(LockEntry(transaction=owners[xid], resource=resource, mode=mode, granted=True))
        return entries


#: The mode of a row lock that one transaction holds alone, where pgrowlocks is not there to read it from the row's
#: flags.
NOT_TOLD = "mode not told"


def _row_resource(table: str, key: str) -> Resource:
    return Resource(kind="row", text=f"{table}({key})", table=table, key=key)


def _texts(columns: tuple[str, ...], alias: str | None = None) -> sql.Composable:
    prefix = [alias] if alias else []
    return sql.SQL(", ").join(sql.SQL("{}::text").format(sql.Identifier(*prefix, column)) for column in columns)


def key_text(columns: Iterable[str], values: Iterable[str | None]) -> str:
    """A row's key as people read it: ``quay=East, no=2``."""
    return ", ".join(f"{column}={value}" for column, value in zip(columns, values, strict=True))


def _conflict(wanted: str, held: str) -> bool:
    rule = explain_conflict("postgresql", wanted, held)
    return rule is None or rule.conflict


def _is_barred(table: str, locks: list[Lock]) -> bool:
    """Whether even a plain read of ``table`` would wait: somebody has, or queues for, its strictest lock."""
    return any(lock.table == table and lock.type == "relation" and lock.mode == "AccessExclusiveLock" for lock in locks)
