"""What InnoDB's status and the metadata locks say: who waits for whom, and the full picture.

The waits come from ``SHOW ENGINE INNODB STATUS``, which is not cached; the tables INNODB_LOCKS and INNODB_LOCK_WAITS
are, for a tenth of a second after each reading (MariaDB documentation, "Information Schema INNODB_TRX Table"), and
serve only where the status does not list held locks. Read-only transactions have no number in either; here they are
told apart by their connection.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from catenum.core.locks.mariadb import METADATA, RECORD, TABLE
from catenum.core.locks.modes import ModeTable
from catenum.core.named_locks import named_text
from catenum.core.recording import LockEntry, TableKeys
from catenum.core.statements import footprint
from catenum.core.waits import Edge, Resource
from catenum.engines.mariadb.session import MariadbSession
from catenum.engines.mariadb.status import (
    DeadlockMember,
    RecordLock,
    TransactionSection,
    decode,
    latest_deadlock,
    transactions,
)

_COLUMNS = """
select table_name, column_name, column_type from information_schema.columns where table_schema = %s
"""
_INDEXES = """
select table_name, index_name, column_name, non_unique from information_schema.statistics
where table_schema = %s order by table_name, index_name, seq_in_index
"""
_REFERENCES = """
select table_name, referenced_table_name from information_schema.referential_constraints where constraint_schema = %s
"""
_MADE = """
select table_name, column_name from information_schema.columns
where table_schema = %s and (extra like '%%auto_increment%%' or
column_default regexp 'current_timestamp|now|uuid|rand|nextval')
"""
_TRIGGERS = "select distinct event_object_table from information_schema.triggers where event_object_schema = %s"
_METADATA = """
select thread_id, lock_mode, table_name from information_schema.metadata_lock_info
where lock_type = 'Table metadata lock' and table_schema = %s
"""
#: The mode in which the server itself lists a lock of GET_LOCK (MariaDB documentation, "METADATA_LOCK_INFO Plugin").
NAMED_MODE = "MDL_SHARED_NO_WRITE"
NAMED_LOCK_STATE = "User lock"  # in the process list, of whoever waits for one
_NAMED = "select thread_id, table_schema from information_schema.metadata_lock_info where lock_type = 'User lock'"
_STATES = "select id, state, info, time_ms from information_schema.processlist where id in ({})"
#: How long InnoDB keeps what its lock tables told, and a little more (ms).
CACHE_MS = 120.0
_CACHED = """
select r.trx_mysql_thread_id, b.trx_mysql_thread_id, rl.lock_index, rl.lock_table, rl.lock_data, rl.lock_mode,
bl.lock_mode from information_schema.innodb_lock_waits w join information_schema.innodb_locks rl on rl.lock_id =
w.requested_lock_id join information_schema.innodb_locks bl on bl.lock_id = w.blocking_lock_id join
information_schema.innodb_trx r on r.trx_requested_lock_id = w.requested_lock_id join information_schema.innodb_trx b
on b.trx_id = w.blocking_trx_id
"""


@dataclass(frozen=True, slots=True)
class Index:
    """An index's columns with their types, the primary key's columns behind those of a secondary one."""

    columns: tuple[tuple[str, str], ...]


class Query(Protocol):
    """Rows of one query, values as the server's text."""

    def __call__(self, sql: str, values: tuple[object, ...] = (), /) -> list[tuple[Any, ...]]: ...


class LockReader:
    """Reads locks over the control connection, for the tables of one scratch space."""

    def __init__(self, query: Query, schema: str, *, lists_held: bool, metadata: bool) -> None:
        """``query`` gives the rows of one query on the control connection."""
        self.query, self.schema = query, schema
        self.lists_held, self.metadata = lists_held, metadata
        self.tables: dict[str, TableKeys] = {}
        self.indexes: dict[tuple[str, str], Index] = {}
        self.engines: dict[str, str] = {}
        self._cached: list[tuple[Any, ...]] = []
        self._cached_at_ms = -CACHE_MS

    def learn(self) -> None:
        """Learn tables, keys, indexes and column types of the scratch space."""
        types = {(table, column): kind for table, column, kind in self.query(_COLUMNS, (self.schema,))}
        columns: dict[tuple[str, str], list[str]] = {}
        unique: set[tuple[str, str]] = set()
        for table, index, column, non_unique in self.query(_INDEXES, (self.schema,)):
            columns.setdefault((table, index), []).append(column)
            if str(non_unique) == "0":
                unique.add((table, index))
        references = {(str(child), str(parent)) for child, parent in self.query(_REFERENCES, (self.schema,))}
        made = [(str(table), str(column)) for table, column in self.query(_MADE, (self.schema,))]
        triggers = {str(row[0]) for row in self.query(_TRIGGERS, (self.schema,))}
        self.tables, self.indexes = {}, {}
        for table in dict.fromkeys(table for table, _ in types):
            primary = tuple(columns.get((table, "PRIMARY"), ()))
            keys = tuple(tuple(columns[k]) for k in sorted(unique) if k[0] == table and k[1] != "PRIMARY")
            own = {index: tuple(names) for (owner, index), names in columns.items() if owner == table}
            parents = tuple(sorted(parent for child, parent in references if child == table))
            self.tables[table] = TableKeys(
                primary=primary,
                unique=keys,
                references=parents,
                indexes=own,
                triggers=table in triggers,
                made=tuple(column for owner, column in made if owner == table),
            )
            for (owner, index), names in columns.items():
                if owner == table:
                    whole = list(dict.fromkeys([*names, *primary]))
                    self.indexes[table, index] = Index(tuple((name, types[table, name]) for name in whole))
        wanted = "select table_name, engine from information_schema.tables where table_schema = %s"
        self.engines = {table: str(engine) for table, engine in self.query(wanted, (self.schema,))}

    def status(self) -> str:
        """InnoDB's own account of itself."""
        return str(self.query("show engine innodb status")[0][2])

    # -- the cheap look ---------------------------------------------------------------------------------------------

    def look(self, sessions: Mapping[str, MariadbSession], everyone: Mapping[int, str], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        sections = transactions(self.status())
        by_thread = {section.thread: section for section in sections if section.thread}
        edges: list[Edge] = []
        rest: dict[int, MariadbSession] = {}
        for session in sessions.values():
            section = by_thread.get(session.thread_id)
            wait = section.waits_on if section else None
            if section is None or wait is None:
                rest[session.thread_id] = session
                continue
            edges += self._row_edges(session, section, wait, sections, everyone, now_ms)
        if rest:
            edges += self._metadata_edges(rest, everyone, now_ms)
        return edges

    def _row_edges(
        self,
        session: MariadbSession,
        section: TransactionSection,
        wait: RecordLock,
        sections: list[TransactionSection],
        everyone: Mapping[int, str],
        now_ms: float,
    ) -> list[Edge]:
        since = now_ms - section.waited_us / 1e3
        if not self.lists_held:
            return self._cached_edges(session, wait, everyone, since, now_ms)
        found = []
        for other in sections:
            if other is section or not other.thread:
                continue
            for lock in other.locks:
                ahead = lock.waiting and other.waited_us > section.waited_us
                if _same_place(lock, wait) and (ahead or not lock.waiting) and _has_to_wait(wait.mode, lock.mode):
                    found.append(
                        Edge(
                            waiter=session.name,
                            holder=everyone.get(other.thread, f"session {other.thread}"),
                            resource=self.resource(wait),
                            wanted=wait.mode,
                            held=lock.mode,
                            queued=lock.waiting,
                            since_ms=since,
                        )
                    )
        holds = {edge.holder for edge in found if not edge.queued}
        return [edge for edge in found if not (edge.queued and edge.holder in holds)]

    def _cached_edges(
        self,
        session: MariadbSession,
        wait: RecordLock,
        everyone: Mapping[int, str],
        since: float,
        now_ms: float,
    ) -> list[Edge]:
        """From INNODB_LOCK_WAITS, where the status lists no held locks: right, but up to a tenth of a second old.

        The server fills these tables anew only when nobody has read them for a tenth of a second: whoever reads them
        more often sees the same for ever.
        """
        if abs(now_ms - self._cached_at_ms) > CACHE_MS:
            self._cached, self._cached_at_ms = self.query(_CACHED), now_ms
        edges = []
        for waiter, holder, _, _, _, _, held in self._cached:
            if int(waiter) == session.thread_id:
                kind = wait.mode.partition(" ")[2]
                edges.append(
                    Edge(
                        waiter=session.name,
                        holder=everyone.get(int(holder), f"session {holder}"),
                        resource=self.resource(wait),
                        wanted=wait.mode,
                        held=f"{str(held)[0]} {'next-key' if kind == 'insert intention' else kind}",
                        since_ms=since,
                    )
                )
        return edges

    def _metadata_edges(
        self, rest: Mapping[int, MariadbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        states = self.query(_STATES.format(", ".join(map(str, rest))))
        edges: list[Edge] = []
        for thread, state, _, time_ms in states:
            if state == NAMED_LOCK_STATE:
                edges += self.named_edges(rest[int(thread)], everyone, now_ms - float(time_ms))
        waiting = {
            int(row[0]): float(row[3])
            for row in states
            if str(row[1] or "").startswith("Waiting for table metadata lock")
        }
        if not waiting:
            return edges
        held = [(int(t), str(mode), str(table)) for t, mode, table in self.query(_METADATA, (self.schema,))]
        wanted = {thread: _wanted_metadata(rest[thread], held, self.tables.keys()) for thread in waiting}
        for thread, waited in waiting.items():
            table, mode = wanted[thread]
            since = now_ms - waited
            for other, other_mode, other_table in held:
                if other != thread and other_table == table and METADATA.conflict(mode, other_mode):
                    edges.append(
                        self._metadata_edge(rest[thread], table, mode, other, other_mode, False, everyone, since)
                    )
            for other, longer in waiting.items():
                theirs = wanted[other]
                if longer > waited and theirs[0] == table and METADATA.conflict(mode, theirs[1]):
                    edges.append(
                        self._metadata_edge(rest[thread], table, mode, other, theirs[1], True, everyone, since)
                    )
        return edges

    def given_up(self, session: MariadbSession, everyone: Mapping[int, str]) -> list[Edge]:
        """What a victim's statement was after, where its ring is one of metadata or named locks.

        InnoDB knows nothing of those. Whoever stands in the way still does: the others have not ended.
        """
        edges = list(self.named_edges(session, everyone))
        if edges or not self.metadata:
            return edges
        held = [(int(t), str(mode), str(table)) for t, mode, table in self.query(_METADATA, (self.schema,))]
        table, mode = _wanted_metadata(session, held, self.tables.keys())
        return [
            self._metadata_edge(session, table, mode, other, other_mode, False, everyone, None)
            for other, other_mode, other_table in held
            if other != session.thread_id and other_table == table and METADATA.conflict(mode, other_mode)
        ]

    def _metadata_edge(
        self,
        session: MariadbSession,
        table: str,
        mode: str,
        other: int,
        other_mode: str,
        queued: bool,
        everyone: Mapping[int, str],
        since: float | None,
    ) -> Edge:
        return Edge(
            waiter=session.name,
            holder=everyone.get(other, f"session {other}"),
            resource=Resource(kind="table", text=table, table=table),
            wanted=mode,
            held=other_mode,
            queued=queued,
            since_ms=since,
        )

    def named_edges(
        self, session: MariadbSession, everyone: Mapping[int, str], since: float | None = None
    ) -> Iterator[Edge]:
        """Who holds the named lock that a statement is after; where its name is computed, whoever holds any."""
        wanted = [lock for lock in footprint(session.sql, "mariadb").named_locks if lock.takes]
        held: list[tuple[object, object]] = []
        for lock in wanted:
            for name in lock.key:
                held += [(row[0], name) for row in self.query("select is_used_lock(%s)", (name,)) if row[0]]
        if not all(lock.key for lock in wanted) and self.metadata:
            held += [(thread, name) for thread, name in self.query(_NAMED)]
        for holder, name in dict.fromkeys((int(str(thread)), named_text(str(name))) for thread, name in held):
            if holder != session.thread_id:
                yield Edge(
                    waiter=session.name,
                    holder=everyone.get(holder, f"session {holder}"),
                    resource=Resource(kind="advisory", text=name),
                    wanted=NAMED_MODE,
                    held=NAMED_MODE,
                    since_ms=since,
                )

    # -- resources --------------------------------------------------------------------------------------------------

    def resource(self, lock: RecordLock) -> Resource:
        """What a lock is on, as people read it: ``berth(id=7)``, or the gap before it, through which index."""
        table = lock.table if lock.schema == self.schema else f"{lock.schema}.{lock.table}"
        if lock.index is None:
            return Resource(kind="table", text=table, database=lock.schema, table=lock.table)
        via = "" if lock.index == "PRIMARY" else f" in index {lock.index}"
        gap = lock.mode.endswith(("gap", "insert intention"))
        if lock.supremum:
            text = f"{table}: the gap after the last entry{via}"
            return Resource(kind="gap", text=text, database=lock.schema, table=lock.table, index=lock.index)
        known = self.indexes.get((lock.table, lock.index))
        if known is None:
            text = f"{table}(a row without a key)"
            return Resource(kind="row", text=text, database=lock.schema, table=lock.table, index=lock.index)
        values = zip(known.columns, lock.fields, strict=False)
        key = ", ".join(f"{column}={decode(value, kind)}" for (column, kind), value in values)
        text = f"{table}({key})" if not gap else f"{table}: the gap before ({key})"
        return Resource(
            kind="gap" if gap else "row",
            text=text + via,
            database=lock.schema,
            table=lock.table,
            index=lock.index,
            key=key,
        )

    # -- the full picture, and deadlocks ----------------------------------------------------------------------------

    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions: tables, records and gaps with index and key, metadata locks."""
        entries = {
            LockEntry(
                transaction=everyone[section.thread],
                resource=self.resource(lock),
                mode=lock.mode,
                granted=not lock.waiting,
            )
            for section in transactions(self.status())
            if section.thread in everyone
            for lock in section.locks
        }
        notes = []
        if not self.lists_held:
            notes.append("held locks are not listed: innodb_status_output_locks is off on this server")
        if self.metadata:
            for thread, mode, table in self.query(_METADATA, (self.schema,)):
                if int(thread) in everyone:
                    resource = Resource(kind="metadata", text=f"{table} (metadata)", table=str(table))
                    name = everyone[int(thread)]
                    entries.add(LockEntry(transaction=name, resource=resource, mode=str(mode), granted=True))
            for thread, lock in self.query(_NAMED):
                if int(thread) in everyone:
                    resource = Resource(kind="advisory", text=named_text(str(lock)))
                    name = everyone[int(thread)]
                    entries.add(LockEntry(transaction=name, resource=resource, mode=NAMED_MODE, granted=True))
        order = sorted(entries, key=lambda e: (e.transaction, not e.granted, e.resource.kind, e.resource.text, e.mode))
        return order, "; ".join(notes) or None

    def engine_notes(self) -> list[str]:
        """Tables that InnoDB does not keep."""
        return [
            f"{table} is a table of {engine}, which has no row locks: it locks whole tables"
            for table, engine in self.engines.items()
            if engine != "InnoDB"
        ]

    def deadlock_edges(self, everyone: Mapping[int, str]) -> tuple[tuple[Edge, ...], str | None]:
        """The latest deadlock's ring, and its text; nothing where its members are not of this run."""
        latest = latest_deadlock(self.status())
        if latest is None or not all(member.thread in everyone for member in latest.members):
            return (), None
        edges = []
        # A member is followed by the one that waits for it, the last by the first (Deadlock::report in lock0lock.cc).
        for member in latest.members:
            holder = _holder_of(member, latest.members)
            if member.waits is not None and holder is not None:
                held = next((k.mode for k in member.conflicting if k.owner == holder.number), None)
                ahead = held is None and holder.waits is not None and _same_place(holder.waits, member.waits)
                edges.append(
                    Edge(
                        waiter=everyone[member.thread],
                        holder=everyone[holder.thread],
                        resource=self.resource(member.waits),
                        wanted=member.waits.mode,
                        held=holder.waits.mode if ahead and holder.waits else held,
                        queued=ahead,
                    )
                )
        return tuple(edges), latest.text


def _holder_of(member: DeadlockMember, members: tuple[DeadlockMember, ...]) -> DeadlockMember | None:
    """Whom ``member`` waits for: the ring is printed so that each waits for the next; the last for the first."""
    place = members.index(member)
    return members[(place + 1) % len(members)] if len(members) > 1 else None


def _same_place(one: RecordLock, other: RecordLock) -> bool:
    return (one.schema, one.table, one.index, one.place) == (other.schema, other.table, other.index, other.place)


def _has_to_wait(wanted: str, held: str) -> bool:
    table: ModeTable
    for table in (RECORD, TABLE):
        if wanted in table.modes and held in table.modes:
            return table.conflict(wanted, held)
    return True


def _wanted_metadata(
    session: MariadbSession, held: Sequence[tuple[int, str, str]], tables: Collection[str]
) -> tuple[str, str]:
    """The table and metadata lock that a waiting statement is after, as its text tells.

    What cannot be read is most often a change of tables: it takes the locks of all that it names in the order of their
    names (``MDL_context::acquire_locks`` in mdl.cc), so it waits for the first that somebody else has.
    """
    known = {table for _, _, table in held} | set(tables)
    for access in footprint(session.sql, "mariadb").accesses:
        if access.table in known:
            if access.verb == "schema":
                return access.table, "MDL_EXCLUSIVE"
            return access.table, "MDL_SHARED_READ" if access.verb == "read" else "MDL_SHARED_WRITE"
    named = sorted(known & set(re.findall(r"\w+", session.sql)))
    others = {table for thread, _, table in held if thread != session.thread_id}
    return next((table for table in named if table in others), ""), "MDL_EXCLUSIVE"
