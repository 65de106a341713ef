"""What InnoDB's status and the metadata locks say: who waits for whom, and the full picture.

The waits come from ``SHOW ENGINE INNODB STATUS``, which is not cached; the tables INNODB_LOCKS and INNODB_LOCK_WAITS
are, for a tenth of a second after each reading (MariaDB documentation, "Information Schema INNODB_TRX Table"), and
serve only where the status does not print held locks: where that is switched off, of transactions with more than ten
lock structs, and past a megabyte of text. Read-only transactions have no number in either; here they are
told apart by their connection.
"""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from catenum.core.record.modes import Covers, Mode
from catenum.core.record.recording import LockEntry, TableKeys
from catenum.core.record.waits import Edge, Resource, key_text
from catenum.core.space.classes import classes_of
from catenum.engines.clock import Clock
from catenum.engines.innodb.fields import decode
from catenum.engines.innodb.status import (
    RecordLock,
    ReportedDeadlock,
    ReportedMember,
    TransactionSection,
    is_cut,
    latest_deadlock,
    transactions,
)
from catenum.engines.mariadb.errors import RULES
from catenum.engines.mariadb.metadata import MetadataReader, Query
from catenum.engines.mariadb.session import MariadbSession

_COLUMNS = """
select table_name, column_name, concat(column_type, coalesce(concat(' character set ', character_set_name), ''))
from information_schema.columns where table_schema = %s
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
where table_schema = %s and (extra like '%%auto_increment%%' or regexp_replace(column_default, '''[^'']*''', '')
regexp '(^|[^a-z_])(current_timestamp|now|sysdate|curdate|curtime|unix_timestamp|uuid|uuid_short|rand|nextval)[ (]')
"""
#: Tables that do more than a plain one of InnoDB says: views, sequences, versions, partitions, engines without
#: transactions.
_OPAQUE = """
select table_name from information_schema.tables where table_schema = %s
and (table_type <> 'BASE TABLE' or coalesce(engine, '') <> 'InnoDB')
union select table_name from information_schema.partitions where table_schema = %s and partition_name is not null
"""
#: Tables whose rows are kept apart by more than keys on whole, plain columns.
_GUARDED = """
select s.table_name from information_schema.statistics s join information_schema.columns c
on c.table_schema = s.table_schema and c.table_name = s.table_name and c.column_name = s.column_name
where s.table_schema = %s and s.non_unique = 0
and (s.sub_part is not null or c.extra like '%%GENERATED%%' or c.extra like '%%on update%%')
"""
#: Columns by the way in which their values are compared. Only in strict mode is a value never cut to fit.
_KINDS = """
select table_name, column_name, case when data_type like '%%int' then 'integer'
when collation_name like '%%\\_bin' then concat('text ', character_maximum_length)
else concat('folded ', character_maximum_length) end
from information_schema.columns where table_schema = %s and @@sql_mode like '%%STRICT%%'
and data_type in ('tinyint', 'smallint', 'mediumint', 'int', 'bigint', 'char', 'varchar')
"""
_ASKED = """
select table_name, column_name from information_schema.columns
where table_schema = %s and data_type in ('date', 'datetime', 'time', 'decimal') and @@sql_mode like '%%STRICT%%'
"""
_TYPE = """
select data_type, datetime_precision, numeric_precision, numeric_scale from information_schema.columns
where table_schema = %s and lower(table_name) = %s and column_name = %s
"""
#: As what a value of a column is read: stored in it, and compared with it (a decimal with a text as a double).
_CASTS = {
    "date": ("date",),
    "datetime": ("datetime({precision})", "datetime(6)"),
    "time": ("time({precision})", "time(6)"),
    "decimal": ("decimal({digits},{scale})", "double"),
}
_TRIGGERS = "select distinct event_object_table from information_schema.triggers where event_object_schema = %s"
#: How long InnoDB keeps what its lock tables told, and a little more (ms).
CACHE_MS = 120.0
_CACHED = """
select r.trx_mysql_thread_id, b.trx_mysql_thread_id, w.requested_lock_id, rl.lock_mode, bl.lock_mode,
       coalesce(b.trx_requested_lock_id = w.blocking_lock_id, 0), rl.lock_table, rl.lock_index, rl.lock_type
from information_schema.innodb_lock_waits w
join information_schema.innodb_locks rl on rl.lock_id = w.requested_lock_id
join information_schema.innodb_locks bl on bl.lock_id = w.blocking_lock_id
join information_schema.innodb_trx r on r.trx_id = w.requesting_trx_id
join information_schema.innodb_trx b on b.trx_id = w.blocking_trx_id
"""


@dataclass(frozen=True, slots=True)
class Index:
    """An index's columns with their types, the primary key's columns behind those of a secondary one."""

    columns: tuple[tuple[str, str], ...]


class LockReader:
    """Reads locks over the control connection, for the tables of one scratch space."""

    def __init__(self, query: Query, schema: str, *, lists_held: bool, metadata: MetadataReader) -> None:
        """``query`` gives the rows of one query on the control connection."""
        self.query, self.schema = query, schema
        self.lists_held, self.metadata = lists_held, metadata
        self.tables: dict[str, TableKeys] = {}
        self.indexes: dict[tuple[str, str], Index] = {}
        self.engines: dict[str, str] = {}
        self._cached: list[tuple[Any, ...]] = []
        self._cached_at_ms = -10 * CACHE_MS
        self._clock = Clock()
        self._first_seen: dict[int, tuple[int, float]] = {}

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
        opaque = {str(row[0]) for row in self.query(_OPAQUE, (self.schema, self.schema))}
        guarded = {str(row[0]) for row in self.query(_GUARDED, (self.schema,))}
        kinds = [(str(row[0]), str(row[1]), "asked") for row in self.query(_ASKED, (self.schema,))]
        kinds += [(str(row[0]), str(row[1]), str(row[2])) for row in self.query(_KINDS, (self.schema,))]
        self.tables, self.indexes = {}, {}
        for table in dict.fromkeys(table for table, _ in types):
            primary = tuple(columns.get((table, "PRIMARY"), ()))
            keys = tuple(tuple(columns[k]) for k in sorted(unique) if k[0] == table and k[1] != "PRIMARY")
            in_keys = {(table, column) for key in (primary, *keys) for column in key}
            own = {index: tuple(names) for (owner, index), names in columns.items() if owner == table}
            parents = tuple(sorted(parent for child, parent in references if child == table))
            self.tables[table] = TableKeys(
                primary=primary,
                unique=keys,
                references=parents,
                indexes=own,
                triggers=table in triggers,
                opaque=table in opaque,
                guarded=table in guarded,
                kinds={column: kind for owner, column, kind in kinds if owner == table and (table, column) in in_keys},
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

    # -- the cheap check ---------------------------------------------------------------------------------------------

    def look(self, sessions: Mapping[str, MariadbSession], everyone: Mapping[int, str], now_ms: float) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""
        status = self.status()
        sections = transactions(status)
        by_thread = {section.thread: section for section in sections if section.thread}
        cut = is_cut(status)
        edges: list[Edge] = []
        rest: dict[int, MariadbSession] = {}
        for session in sessions.values():
            section = by_thread.get(session.thread_id)
            wait = section.waits_on if section else None
            if section is None or wait is None:
                rest[session.thread_id] = session
                continue
            others = [other for other in sections if other is not section and other.thread]
            since = now_ms - section.waited_us / 1e3
            if self.lists_held and not cut and not any(other.suppressed for other in others):
                edges += self._row_edges(session, section, wait, others, everyone, since)
            else:
                edges += self._listed_edges(session, wait, everyone, section.waited_us / 1e3, now_ms)
        if rest and cut:
            edges += self._unprinted_edges(rest, everyone, now_ms)
        if rest:
            edges += self.metadata.edges(rest, everyone, now_ms, self.tables.keys())
        return edges

    def _row_edges(
        self,
        session: MariadbSession,
        section: TransactionSection,
        wait: RecordLock,
        others: Sequence[TransactionSection],
        everyone: Mapping[int, str],
        since: float,
    ) -> list[Edge]:
        found = []
        for other in others:
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
        return _past_queues(found)

    def _lists(self) -> list[tuple[Any, ...]]:
        """INNODB_LOCK_WAITS: every wait with all that stand in its way, but up to a tenth of a second old.

        The server refills it only when nobody has read it for a tenth of a second: whoever reads it more often sees the
        same for ever. Runs side by side read at different intervals, so that each gets its turn.
        """
        now_ms = self._clock.now_ms()
        if now_ms - self._cached_at_ms > CACHE_MS + os.getpid() % 8 * 10:
            self._cached, self._cached_at_ms = self.query(_CACHED), now_ms
        return self._cached

    def _listed_edges(
        self,
        session: MariadbSession,
        wait: RecordLock,
        everyone: Mapping[int, str],
        waited_ms: float,
        now_ms: float,
    ) -> list[Edge]:
        """For the wait that the status prints, from the lists: the status does not print all that could stand in its
        way. Nothing while the lists are older than the wait.
        """
        place = None if wait.place is None else ":".join(map(str, wait.place))
        began, since = self._clock.now_ms() - waited_ms, now_ms - waited_ms
        edges = []
        for waiter, holder, requested, _, held, queued, *_ in self._lists():
            same = place is None or str(requested).endswith(f":{place}")
            if int(waiter) == session.thread_id and same and self._cached_at_ms > began:
                name = everyone.get(int(holder), f"session {holder}")
                edges.append(_listed_edge(session, name, self.resource(wait), wait.mode, held, queued, since))
        return _past_queues(edges)

    def _unprinted_edges(
        self, rest: dict[int, MariadbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Of sessions that the status may have left out, being too long: by the lists alone, once they are younger than
        the statement. Takes those sessions out of ``rest``.
        """
        edges = []
        for thread, session in list(rest.items()):
            if self._first_seen.get(thread, (0, 0.0))[0] != session.sent:
                self._first_seen[thread] = (session.sent, self._clock.now_ms())
            began = self._first_seen[thread][1]
            since = now_ms - (self._clock.now_ms() - began)
            found = []
            for waiter, holder, _, wanted, held, queued, table, index, kind in self._lists():
                if int(waiter) == thread and self._cached_at_ms > began:
                    mode = Mode("table" if kind == "TABLE" else "record", *_listed_mode(wanted, kind))
                    name = re.sub(r" */\*.*", "", str(table)).rpartition(".")[2].strip("`")
                    text = name if kind == "TABLE" else f"a record of {name}, index {index}"
                    resource = Resource(kind="table" if kind == "TABLE" else "row", text=text, table=name, index=index)
                    by = everyone.get(int(holder), f"session {holder}")
                    found.append(_listed_edge(session, by, resource, mode, held, queued, since))
            if found:
                del rest[thread]
            edges += _past_queues(found)
        return edges

    def classes(self, table: str, column: str, written: Sequence[tuple[bool, str]]) -> dict[tuple[bool, str], int]:
        """Which values of a column are the same; none is told where one of them is no such value."""
        told = self.query(_TYPE, (self.schema, table, column))
        casts = _CASTS.get(str(told[0][0]), ()) if told else ()
        if not casts:
            return {}
        ways = [cast.format(precision=told[0][1] or 0, digits=told[0][2], scale=told[0][3]) for cast in casts]
        query = "select " + ", ".join(f"cast(cast(%s as {way}) as char)" for way in ways)
        seen = [tuple(row) for _, text in written for row in self.query(query, (text,) * len(ways))]
        if any(None in row for row in seen):
            return {}
        apart = [
            (one, other)
            for one in range(len(seen))
            for other in range(one)
            if all(mine != theirs for mine, theirs in zip(seen[one], seen[other], strict=True))
        ]
        return classes_of(written, apart)

    # -- resources --------------------------------------------------------------------------------------------------

    def resource(self, lock: RecordLock) -> Resource:
        """What a lock is on, as people read it: ``berth(id=7)``, or the gap before it, through which index."""
        table = lock.table if lock.schema == self.schema else f"{lock.schema}.{lock.table}"
        if lock.index is None:
            return Resource(kind="table", text=table, database=lock.schema, table=lock.table)
        via = "" if lock.index == "PRIMARY" else f" in index {lock.index}"
        gap = lock.mode.covers in ("gap", "insert intention")
        if lock.supremum:
            text = f"{table}: the gap after the last entry{via}"
            return Resource(kind="gap", text=text, database=lock.schema, table=lock.table, index=lock.index)
        known = self.indexes.get((lock.table, lock.index))
        if known is None:
            text = f"{table}(a row without a key)"
            return Resource(kind="row", text=text, database=lock.schema, table=lock.table, index=lock.index)
        values = zip(known.columns, lock.fields, strict=False)
        key = tuple((column, decode(value, kind)) for (column, kind), value in values)
        text = f"{table}({key_text(key)})" if not gap else f"{table}: the gap before ({key_text(key)})"
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
        status = self.status()
        sections = [section for section in transactions(status) if section.thread in everyone]
        entries = {
            LockEntry(
                transaction=everyone[section.thread],
                resource=self.resource(lock),
                mode=lock.mode,
                granted=not lock.waiting,
            )
            for section in sections
            for lock in section.locks
        }
        notes = [
            f"{everyone[section.thread]} has more locks than the server prints "
            "(10, each on a table or on records of one page)"
            for section in sections
            if section.suppressed
        ]
        if is_cut(status):
            notes.append("the server's status is longer than it prints (1 MB), and locks are missing")
        if not self.lists_held:
            notes.append("held locks are not listed: innodb_status_output_locks is off on this server")
        entries.update(self.metadata.entries(everyone))
        order = sorted(entries, key=lambda e: (e.transaction, not e.granted, e.resource.sort_key, e.mode))
        return order, "; ".join(notes) or None

    def engine_notes(self) -> list[str]:
        """Tables that InnoDB does not keep."""
        return [
            f"{table} is a table of {engine}, which has no row locks: it locks whole tables"
            for table, engine in self.engines.items()
            if engine != "InnoDB"
        ]

    def deadlock_edges(self, everyone: Mapping[int, str]) -> tuple[tuple[Edge, ...], ReportedDeadlock | None]:
        """The latest deadlock's cycle, and its report; nothing where its members are not of this run."""
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
        return tuple(edges), latest


def _holder_of(member: ReportedMember, members: tuple[ReportedMember, ...]) -> ReportedMember | None:
    """Whom ``member`` waits for: the cycle is printed so that each waits for the next; the last for the first."""
    place = members.index(member)
    return members[(place + 1) % len(members)] if len(members) > 1 else None


def _past_queues(edges: list[Edge]) -> list[Edge]:
    """Without the places in a queue of those who hold what is waited for as well."""
    holds = {edge.holder for edge in edges if not edge.queued}
    return [edge for edge in edges if not (edge.queued and edge.holder in holds)]


def _listed_edge(
    session: MariadbSession, holder: str, resource: Resource, wanted: Mode, held: object, queued: object, since: float
) -> Edge:
    covers: Covers = "next-key" if wanted.covers == "insert intention" else wanted.covers
    return Edge(
        waiter=session.name,
        holder=holder,
        resource=resource,
        wanted=wanted,
        held=Mode(wanted.family, str(held) if wanted.family == "table" else str(held)[0], covers),
        queued=str(queued) == "1",
        since_ms=since,
    )


def _listed_mode(told: object, kind: object) -> tuple[str, Covers]:
    """``X,GAP`` as (``X``, ``gap``)."""
    name, _, rest = str(told).partition(",")
    if kind == "TABLE":
        return str(told), ""
    if "INSERT_INTENTION" in rest:
        return name, "insert intention"
    return name, "gap" if "GAP" in rest and "NOT" not in rest else "record" if rest else "next-key"


def _same_place(one: RecordLock, other: RecordLock) -> bool:
    return (one.schema, one.table, one.index, one.place) == (other.schema, other.table, other.index, other.place)


def _has_to_wait(wanted: Mode, held: Mode) -> bool:
    rule = RULES.conflict(wanted, held)
    return rule is None or rule.conflict
