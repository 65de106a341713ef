"""What stands in a run's scratch space, and how locks on it are told: tables, indexes, records, the
latest deadlock.

How a server tells who waits for whom stands in the package of its name.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar, Protocol

from catenum.core.logs.innodb_fields import decode
from catenum.core.logs.innodb_status import (
    RecordLock,
    ReportedDeadlock,
    holder_of,
    latest_deadlock,
    same_place,
)
from catenum.core.record.recording import LockEntry, TableKeys
from catenum.core.record.waits import Edge, Resource, key_text
from catenum.core.servers.innodb import has_to_wait
from catenum.core.space.equal_values import classes_of
from catenum.engines.innodb.session import InnodbSession

_COLUMNS = """
select table_name, column_name, concat(column_type, coalesce(concat(' character set ',
  character_set_name), ''))
from information_schema.columns where table_schema = %s
"""
_INDEXES = """
select table_name, index_name, if(index_type = 'HASH', concat('(hash of ', column_name, ')'),
  column_name),
  non_unique, sub_part from information_schema.statistics
where table_schema = %s order by table_name, index_name, seq_in_index
"""
_FILLED = (
    "select table_name, column_name from information_schema.columns where table_schema = %s and"
    " is_nullable = 'NO' order by table_name, ordinal_position"
)
_STAMPED = (
    "select table_name, column_name from information_schema.columns where table_schema = %s "
    "and extra like '%%on update%%' order by table_name, ordinal_position"
)
#: What stands for a column of a long text in a unique index: no value that anybody has given.
HASHED = "(hash of "
_REFERENCES = """
select table_name, referenced_table_name from information_schema.referential_constraints
  where constraint_schema = %s
"""
#: Tables that do more than a plain one of InnoDB says: views, sequences, versions, partitions,
#: engines without transactions.
_OPAQUE = """
select table_name from information_schema.tables where table_schema = %s
and (table_type <> 'BASE TABLE' or coalesce(engine, '') <> 'InnoDB')
union select table_name from information_schema.partitions where table_schema = %s
  and partition_name is not null
"""
#: Columns whose values follow from others, or from the clock: a unique key on one keeps rows apart
#: in another way than a statement's text says. Asked apart from the indexes, since MariaDB opens
#: every table for a join of the two.
DERIVED = """
select table_name, column_name from information_schema.columns where table_schema = %s
and (extra like '%%GENERATED%%' or extra like '%%on update%%')
  and extra not like '%%DEFAULT_GENERATED'
"""
#: Columns by the way in which their values are compared. Only in strict mode is a value never cut
#: to fit.
_KINDS = """
select table_name, column_name, case when data_type like '%%int' then 'integer'
when collation_name like '%%\\_bin' then concat('text ', character_maximum_length)
else concat('folded ', character_maximum_length) end
from information_schema.columns where table_schema = %s and @@sql_mode like '%%STRICT%%'
and data_type in ('tinyint', 'smallint', 'mediumint', 'int', 'bigint', 'char', 'varchar')
"""
_ASKED = """
select table_name, column_name from information_schema.columns
where table_schema = %s and data_type in ('date', 'datetime', 'time', 'decimal')
  and @@sql_mode like '%%STRICT%%'
"""
_TYPE = """
select data_type, datetime_precision, numeric_precision, numeric_scale
  from information_schema.columns
where table_schema = %s and lower(table_name) = %s and column_name = %s
"""
#: As what a value of a column is read: stored in it, and compared with it (a decimal with a text as
#: a double).
_CASTS = {
    "date": ("date",),
    "datetime": ("datetime({precision})", "datetime(6)"),
    "time": ("time({precision})", "time(6)"),
    "decimal": ("decimal({digits},{scale})", "double"),
}
_TRIGGERS = (
    "select distinct event_object_table from information_schema.triggers where event_object_schema"
    " = %s"
)


class Query(Protocol):
    """Rows of one query, values as the server's text."""

    def __call__(self, sql: str, values: tuple[object, ...] = (), /) -> list[tuple[Any, ...]]: ...


@dataclass(frozen=True, slots=True)
class Index:
    """An index's columns with their types, the primary key's columns behind those of a secondary
    one.
    """

    columns: tuple[tuple[str, str], ...]


@dataclass(slots=True)
class _IndexColumns:
    """Columns by table and index, which indexes are unique, and tables whose rows are kept apart by
    more than keys on whole, plain columns.
    """

    columns: dict[tuple[str, str], list[str]] = field(default_factory=dict)
    unique: set[tuple[str, str]] = field(default_factory=set)
    guarded: set[str] = field(default_factory=set)

    def of(self, table: str) -> dict[str, tuple[str, ...]]:
        """The columns of each index of a table."""
        return {
            index: tuple(names) for (owner, index), names in self.columns.items() if owner == table
        }

    def primary(self, table: str) -> tuple[str, ...]:
        """Those of its primary key."""
        return tuple(self.columns.get((table, "PRIMARY"), ()))

    def unique_of(self, table: str) -> tuple[tuple[str, ...], ...]:
        """Those of its other unique keys, by the keys' names."""
        return tuple(
            tuple(self.columns[key])
            for key in sorted(self.unique)
            if key[0] == table and key[1] != "PRIMARY"
        )

    def in_keys(self, table: str) -> tuple[str, ...]:
        """Every column of its unique keys, once."""
        keys = (self.primary(table), *self.unique_of(table))
        return tuple(dict.fromkeys(column for key in keys for column in key))


class InnodbReader(ABC):
    """Reads locks over the control connection, for the tables of one scratch space."""

    #: The indexes of the scratch space, a row for each column: table, index, column (an expression
    #: in brackets), whether it is not unique, how much of the column is in it where that is not
    #: all.
    index_columns: ClassVar[str] = _INDEXES
    #: Tables with columns whose values are made anew each time: the clock's, chance, numbers that
    #: count up.
    made: ClassVar[str]

    def __init__(self, query: Query, schema: str) -> None:
        """``query`` gives the rows of one query on the control connection."""
        self.query, self.schema = query, schema
        self.tables: dict[str, TableKeys] = {}
        self.indexes: dict[tuple[str, str], Index] = {}
        self.engines: dict[str, str] = {}

    @abstractmethod
    def poll_waits(
        self, sessions: Mapping[str, InnodbSession], everyone: Mapping[int, str], now_ms: float
    ) -> list[Edge]:
        """Who among ``sessions`` waits for whom."""

    @abstractmethod
    def picture(self, everyone: Mapping[int, str]) -> tuple[list[LockEntry], str | None]:
        """Every lock of the sessions, and a note on what could not be seen."""

    def learn(self) -> None:
        """Learn tables, keys, indexes and column types of the scratch space."""
        here = (self.schema,)
        types = {(table, column): kind for table, column, kind in self.query(_COLUMNS, here)}
        tables = tuple(dict.fromkeys(table for table, _ in types))
        columns = self._index_columns()
        parents, made = self._by_table(_REFERENCES), self._by_table(self.made)
        filled, stamped = self._by_table(_FILLED), self._by_table(_STAMPED)
        triggers = {str(row[0]) for row in self.query(_TRIGGERS, here)}
        opaque = {str(row[0]) for row in self.query(_OPAQUE, (self.schema, self.schema))}
        kinds = {(str(table), str(column)): "asked" for table, column in self.query(_ASKED, here)}
        kinds |= {(str(t), str(column)): str(kind) for t, column, kind in self.query(_KINDS, here)}
        self.tables = {
            table: TableKeys(
                primary=columns.primary(table),
                unique=columns.unique_of(table),
                references=tuple(sorted(set(parents.get(table, ())))),
                indexes=columns.of(table),
                triggers=table in triggers,
                opaque=table in opaque,
                guarded=table in columns.guarded,
                kinds={c: kinds[table, c] for c in columns.in_keys(table) if (table, c) in kinds},
                made=tuple(made.get(table, ())),
                filled=tuple(filled.get(table, ())),
                stamped=tuple(stamped.get(table, ())),
            )
            for table in tables
        }
        self.indexes = {
            (table, index): Index(
                # an expression has no type
                tuple(
                    (name, types.get((table, name), ""))
                    for name in dict.fromkeys([*names, *columns.primary(table)])
                )
            )
            for table in tables
            for index, names in columns.of(table).items()
        }
        wanted = "select table_name, engine from information_schema.tables where table_schema = %s"
        self.engines = {table: str(engine) for table, engine in self.query(wanted, here)}

    def _index_columns(self) -> _IndexColumns:
        """The columns of all indexes of the scratch space."""
        found = _IndexColumns()
        derived = set(self.query(DERIVED, (self.schema,)))
        for table, index, column, non_unique, part in self.query(
            self.index_columns, (self.schema,)
        ):
            found.columns.setdefault((table, index), []).append(column)
            if str(non_unique) == "0":
                found.unique.add((table, index))
                if part is not None or column.startswith("(") or (table, column) in derived:
                    found.guarded.add(table)  # kept apart by more than keys on whole, plain columns
        return found

    def _by_table(self, query: str) -> dict[str, list[str]]:
        """What a query names of each table."""
        found: dict[str, list[str]] = {}
        for table, name in self.query(query, (self.schema,)):
            found.setdefault(str(table), []).append(str(name))
        return found

    def status(self) -> str:
        """InnoDB's own account of itself."""
        return str(self.query("show engine innodb status")[0][2])

    def engine_notes(self) -> list[str]:
        """Tables that InnoDB does not keep."""
        return [
            f"{table} is a table of {engine}, which has no row locks: it locks whole tables"
            for table, engine in self.engines.items()
            if engine != "InnoDB"
        ]

    def classes(
        self, table: str, column: str, written: Sequence[tuple[bool, str]]
    ) -> dict[tuple[bool, str], int]:
        """Which values of a column are the same; none is told where one of them is no such
        value.
        """
        reported = self.query(_TYPE, (self.schema, table, column))
        casts = _CASTS.get(str(reported[0][0]), ()) if reported else ()
        if not casts:
            return {}
        ways = [
            cast.format(precision=reported[0][1] or 0, digits=reported[0][2], scale=reported[0][3])
            for cast in casts
        ]
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

    # -- resources ---------------------------------------------------------------------------------

    def resource(self, lock: RecordLock) -> Resource:
        """What a lock is on, as people read it: ``berth(id=7)``, or the gap before it, through
        which index.
        """
        table = lock.table if lock.schema == self.schema else f"{lock.schema}.{lock.table}"
        if lock.index is None:
            return Resource(kind="table", text=table, database=lock.schema, table=lock.table)
        via = "" if lock.index == "PRIMARY" else f" in index {lock.index}"
        gap = lock.mode.covers in ("gap", "insert intention")
        if lock.supremum:
            text = f"{table}: the gap after the last entry{via}"
            return Resource(
                kind="gap", text=text, database=lock.schema, table=lock.table, index=lock.index
            )
        known = self.indexes.get((lock.table, lock.index))
        if known is None:
            text = f"{table}(a row without a key)"
            return Resource(
                kind="row", text=text, database=lock.schema, table=lock.table, index=lock.index
            )
        values = zip(known.columns, lock.fields, strict=False)
        key = tuple(
            (c, decode(value, kind)) for (c, kind), value in values if not c.startswith(HASHED)
        )
        text = (
            f"{table}({key_text(key)})" if not gap else f"{table}: the gap before ({key_text(key)})"
        )
        return Resource(
            kind="gap" if gap else "row",
            text=text + via,
            database=lock.schema,
            table=lock.table,
            index=lock.index,
            key=key,
        )

    # -- deadlocks ---------------------------------------------------------------------------------

    def deadlock_edges(
        self, everyone: Mapping[int, str]
    ) -> tuple[tuple[Edge, ...], ReportedDeadlock | None]:
        """The latest deadlock's cycle, and its report; nothing where its members are not of this
        run.
        """
        latest = latest_deadlock(self.status())
        if latest is None or not all(member.thread in everyone for member in latest.members):
            return (), None
        edges = []
        # A member is followed by the one that waits for it, the last by the first (Deadlock::report
        # in lock0lock.cc).
        for member in latest.members:
            holder = holder_of(member, latest.members)
            if member.waits is not None and holder is not None:
                own = [
                    k.mode for k in member.conflicting if k.owner == holder.number and not k.waiting
                ]
                # of several locks of the holder on the record, the one that stands in the way
                held = next((mode for mode in own if has_to_wait(member.waits.mode, mode)), None)
                if held is None and len(own) == 1:
                    held = own[0]  # a lock on a table
                ahead = (
                    held is None
                    and holder.waits is not None
                    and same_place(holder.waits, member.waits)
                )
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


def past_queues(edges: list[Edge]) -> list[Edge]:
    """Without the places in a queue of those who hold what is waited for as well."""
    holds = {edge.holder for edge in edges if not edge.queued}
    return [edge for edge in edges if not (edge.queued and edge.holder in holds)]
