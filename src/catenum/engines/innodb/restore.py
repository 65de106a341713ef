"""Brings the scratch database's data back between schedules, and reports the result.

A copy of every table is kept in a database beside the scratch one. A table that changed is emptied
by TRUNCATE and filled again: a DELETE would leave its rows marked as deleted until InnoDB purges
them, and locks on gaps and on such rows would then fall otherwise than on fresh data. Secondary
indexes keep such marks also where the rows are the same in the end, so tables that have some are
filled again after every schedule that can write them. Where that does not give what the planner
knew after loading, and where anything but rows changed, the data is loaded again.

A table whose rows are only updated, and never in a column that an index has, is updated back:
InnoDB changes such rows where they stand and marks nothing (row_upd_clust_rec in row0upd.cc), at a
sixth of the time.
"""

from __future__ import annotations

from abc import ABC
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, ClassVar

import pymysql

from catenum.core.servers import Rules
from catenum.engines.innodb import errors
from catenum.engines.innodb.locks import DERIVED
from catenum.engines.ports import NeedsReload, NotRestored, StatementsEffects

_COLUMNS = """
select c.table_name, c.column_name from information_schema.columns c
join information_schema.tables t on t.table_schema = c.table_schema
  and binary t.table_name = binary c.table_name
where c.table_schema = %s and t.table_type in ('BASE TABLE', 'SYSTEM VERSIONED')
and coalesce(c.generation_expression, '') = ''
order by c.table_name, c.ordinal_position
"""
_NUMBERED = (
    "select table_name, auto_increment from information_schema.tables where table_schema = %s"
)
#: The columns of secondary indexes, NULL for an expression; of one that is no tree nothing is
#: known.
_SECONDARY = """
select table_name, case when index_type = 'BTREE' then column_name end
  from information_schema.statistics
where table_schema = %s and index_name <> 'PRIMARY'
"""
_PRIMARY = """
select table_name, column_name from information_schema.statistics
where table_schema = %s and index_name = 'PRIMARY' order by table_name, seq_in_index
"""
_ON_INSERT = """
select 1 from information_schema.triggers where event_object_schema = %s
  and event_manipulation = 'INSERT' limit 1
"""
_VERSIONED = """
select table_name from information_schema.tables where table_schema = %s
  and table_type = 'SYSTEM VERSIONED'
"""
_REFERS = (
    "select 1 from information_schema.referential_constraints where constraint_schema = %s limit 1"
)
#: Definitions that every server tells alike, a row each; every part names the schema once.
SHAPE = (
    (
        "select 'table' kind, concat_ws('|', table_name, table_type, engine, row_format,"
        " table_collation, create_options, table_comment) part from information_schema.tables where"
        " table_schema = %s"
    ),
    (
        "select 'column', concat_ws('|', table_name, ordinal_position, column_name, column_type,"
        " is_nullable, column_default, collation_name, extra, generation_expression,"
        " column_comment) from information_schema.columns where table_schema = %s"
    ),
    (
        "select 'index', concat_ws('|', table_name, index_name, seq_in_index, column_name,"
        " sub_part, non_unique, index_type) from information_schema.statistics where table_schema"
        " = %s"
    ),
    (
        "select 'reference', concat_ws('|', table_name, constraint_name, referenced_table_name,"
        " update_rule, delete_rule) from information_schema.referential_constraints where"
        " constraint_schema = %s"
    ),
    (
        "select 'partition', concat_ws('|', table_name, partition_name, partition_method,"
        " partition_expression, partition_description) from information_schema.partitions where"
        " table_schema = %s and partition_name is not null"
    ),
    (
        "select 'view', concat_ws('|', table_name, view_definition, check_option) "
        "from information_schema.views where table_schema = %s"
    ),
    (
        "select 'trigger', concat_ws('|', trigger_name, event_manipulation, event_object_table,"
        " action_timing, action_statement) from information_schema.triggers where trigger_schema"
        " = %s"
    ),
    (
        "select 'routine', concat_ws('|', routine_name, routine_type, dtd_identifier,"
        " routine_definition, sql_data_access) from information_schema.routines where"
        " routine_schema = %s"
    ),
)
_DIGEST = "coalesce(group_concat(kind, ' ', part order by kind, binary part), '')"
#: What the planner goes by: the number of rows, and how many of them share a key.
_KNOWN = (
    (
        "select 'rows' kind, concat_ws('|', table_name, table_rows) part from"
        " information_schema.tables where table_schema = %s and table_type = 'BASE TABLE'"
    ),
    (
        "select 'keys', concat_ws('|', table_name, index_name, seq_in_index, cardinality) "
        "from information_schema.statistics where table_schema = %s"
    ),
)


Query = Callable[..., list[tuple[Any, ...]]]


@dataclass(frozen=True, slots=True)
class _State:
    """Fingerprints: per table of all rows, and of what is compared of them; of the sequences; of
    all definitions.
    """

    rows: tuple[str, ...]
    shown: tuple[str, ...]
    sequences: tuple[str, ...]
    shape: str


class DataRestorer(ABC):
    """Keeps the data of one scratch database."""

    _state_sql: str
    #: All definitions, a row each; every part names the schema once.
    shape: ClassVar[Sequence[str]]
    #: A fingerprint of a text.
    digest: ClassVar[str]
    #: Makes the connection tell of tables as they are now.
    freshly: ClassVar[str] = "set session group_concat_max_len = 1073741824"
    #: Where the server has sequences: gives the names of a schema's.
    sequence_names: ClassVar[str] = ""
    #: Of a sequence's full name: an expression that gives its position, then, behind ``|``, its
    #: definition.
    sequence_text: ClassVar[str] = ""
    #: Of a sequence's full name and a position: the statement that sets it back.
    sequence_back: ClassVar[str] = ""

    def __init__(
        self, query: Query, schema: str, rules: Rules, make_space: Callable[[str], None]
    ) -> None:
        """``make_space`` makes a database that is marked as ours."""
        self.query, self.schema, self.kept = query, schema, f"{schema}_kept"
        self._rules, self._make_space = rules, make_space
        self._columns: dict[str, list[str]] = {}
        self._ignored: Mapping[str, Sequence[str]] = {}
        self._of_new: Mapping[str, Sequence[str]] = {}
        self._primary: dict[str, list[str]] = {}
        self._numbers: dict[str, int] = {}
        self._sequences: list[str] = []
        self._always: list[str] = []
        self._versioned: set[str] = set()
        self._by_update: Mapping[
            str, Sequence[str]
        ] = {}  # the primary key's columns of the tables that may be
        self._watch_shape = self._refers = True
        self._by_loading = self._analyzes = False
        self._start: _State | None = None
        self._last: _State | None = None

    def keep(self, what: StatementsEffects) -> None:
        """Copy what stands in the scratch database now. See
        ``engines.ports.data.Data.keep_data``.
        """
        self.drop()
        if what.afresh:
            self._by_loading = self._analyzes = False
        self._watch_shape, self._ignored, self._start = what.shape, what.ignored, None
        self._of_new, self._primary = what.of_new, {}
        for table, column in self.query(_PRIMARY, (self.schema,)):
            self._primary.setdefault(str(table), []).append(str(column))
        self.query(self.freshly)
        self._columns = self._tables()
        self._numbers = {
            str(table): int(number)
            for table, number in self.query(_NUMBERED, (self.schema,))
            if number is not None
        }
        named = self.query(self.sequence_names, (self.schema,)) if self.sequence_names else []
        self._sequences = [str(row[0]) for row in named]
        updated = what.updated or {}
        secondary = set(self._marked(updated))
        able = (
            set(self._columns)
            if what.written is None
            else {t for t in self._columns if t.lower() in what.written}
        )
        self._always = [
            table for table in self._columns if table in able & (secondary | set(self._numbers))
        ]
        keys: dict[str, list[str]] = {}
        for table, key in self._primary.items():
            if table.lower() in updated and table not in self._always:
                keys[table] = key
        self._by_update = {} if what.shape else keys
        self._refers = bool(self.query(_REFERS, (self.schema,)))
        self._versioned = {str(row[0]) for row in self.query(_VERSIONED, (self.schema,))}
        if self._versioned & able:
            self._by_loading = True  # what was is part of the data, and nothing puts it back
        known = self._known()
        if self.query(_ON_INSERT, (self.schema,)):
            self._by_loading = True  # filling a table again would set them off
        self._make_space(self.kept)
        for table in self._columns:
            self.query(
                f"create table {self._copy(table)} engine=InnoDB as select * from {self.own(table)}"
            )
        self._state_sql = self._state_query()
        self._start = first = self.state()
        if not self._by_loading:
            self._try_refill(first, known)

    def _try_refill(self, first: _State, known: str) -> None:
        """From now on tables are filled in one way, if that gives what was loaded: without or with
        ANALYZE.
        """
        for self._analyzes in (False, True):
            if self._refers:
                self.query("set session foreign_key_checks = 0")
            self._refill(list(self._columns))
            if self._refers:
                self.query("set session foreign_key_checks = 1")
            if self.state() != first:
                raise NotRestored(
                    "a copy of the data, put back, is not what it was", self._differing()
                )
            if self._known() == known:
                return
        self._by_loading, self._analyzes, self._start, self._last = True, False, None, None
        raise NeedsReload

    def drop(self) -> None:
        self.query(f"drop database if exists {_q(self.kept)}")

    # -- what stands there -------------------------------------------------------------------------

    def state(self) -> _State:
        """The fingerprints of what stands there now."""
        shape = self._digest(self.shape) if self._watch_shape else ""
        if self._start is not None and shape != self._start.shape:
            self._last = self._changed_state(shape)
            return self._last
        try:
            cells = [str(cell) for cell in self.query(self._state_sql)[0]]
        except pymysql.Error as error:
            if (
                not self._watch_shape
                or errors.kind_of(errors.number_and_text(error)[0], self._rules) == "lost"
            ):
                raise
            self._last = self._changed_state(shape)
            return self._last
        number = len(self._columns)
        shown = cells[:number]
        for place, table in enumerate(filter(self._leaves_out, self._columns)):
            shown[list(self._columns).index(table)] = cells[number + len(self._sequences) + place]
        self._last = _State(
            rows=tuple(cells[:number]),
            shown=tuple(shown),
            sequences=tuple(cells[number : number + len(self._sequences)]),
            shape=shape,
        )
        return self._last

    def _changed_state(self, shape: str) -> _State:
        """Of whatever tables there are now, by name."""
        digests = [
            f"{table}:{self.query('select ' + self._digested(table, columns, shown=True))[0][0]}"
            for table, columns in self._tables().items()
        ]
        return _State(rows=(), shown=tuple(digests), sequences=(), shape=f"changed {shape}")

    def fingerprint(self) -> str:
        """One text for all rows that stand there now."""
        state = self.state()
        return " ".join((*state.shown, state.shape))

    def _tables(self) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for table, column in self.query(_COLUMNS, (self.schema,)):
            found.setdefault(str(table), []).append(str(column))
        return found

    def _digest(self, parts: Sequence[str]) -> str:
        query = f"select {self.digest.format(_DIGEST)} from ({' union all '.join(parts)}) parts"
        return str(self.query(query, (self.schema,) * len(parts))[0][0])

    def _known(self) -> str:
        return self._digest(_KNOWN)

    def _digested(self, table: str, columns: Sequence[str], *, shown: bool) -> str:
        left = [c for c in columns if not (shown and c in self._ignored.get(table, ()))]
        new = self._of_new.get(table, ()) if shown and table in self._columns else ()
        cells = [self._if_loaded(table, c) if c in new else _q(c) for c in left]
        row = f"json_array({', '.join(cells)})"
        rows = self.digest.format(f"coalesce(group_concat({row} order by {row}), '')")
        if (
            table in self._versioned
        ):  # what was counts, too; its times are other ones after each loading
            every = f"(select count(*) from {self.own(table)} for system_time all)"
            return f"(select concat({rows}, ' ', {every}) from {self.own(table)})"
        return f"(select {rows} from {self.own(table)})"

    def _leaves_out(self, table: str) -> bool:
        return bool(self._ignored.get(table) or self._of_new.get(table))

    def _if_loaded(self, table: str, column: str) -> str:
        """A column's value in a row that was kept."""
        same = " and ".join(
            f"kept_row.{_q(k)} = {self.own(table)}.{_q(k)}" for k in self._primary.get(table, ())
        )
        return (
            f"case when exists (select 1 from {self._copy(table)} kept_row where {same}) then"
            f" {_q(column)} end"
        )

    def _marked(self, updated: Mapping[str, Collection[str]]) -> Iterator[str]:
        """The tables with secondary indexes of which entries may change, and so be left with
        marks.
        """
        derived = set(self.query(DERIVED, (self.schema,)))
        for table, column in self.query(_SECONDARY, (self.schema,)):
            columns = updated.get(str(table).lower())
            if (
                columns is None
                or column is None
                or column.lower() in columns
                or (table, column) in derived
            ):
                yield str(table)

    def _state_query(self) -> str:
        parts = [
            self._digested(table, columns, shown=False) for table, columns in self._columns.items()
        ]
        parts += [self.sequence_text.format(self.own(name)) for name in self._sequences]
        parts += [
            self._digested(t, c, shown=True)
            for t, c in self._columns.items()
            if self._leaves_out(t)
        ]
        return "select " + (", ".join(parts) or "1")

    # -- bringing it back --------------------------------------------------------------------------

    def restore(self) -> None:
        """Bring the data back to what was kept, and see that it is. Raises NeedsReload or
        NotRestored.
        """
        start, state = self._start, self._last or self.state()
        if start is None or state.shape != start.shape:
            raise NeedsReload
        changed = [
            t
            for t, is_now, was in zip(self._columns, state.rows, start.rows, strict=True)
            if is_now != was
        ]
        tables = [table for table in self._columns if table in changed or table in self._always]
        pairs = zip(start.sequences, state.sequences, strict=True)
        moved = [
            (n, was, now)
            for n, (was, now) in zip(self._sequences, pairs, strict=True)
            if was != now
        ]
        if not tables and not moved:
            return
        if self._by_loading or any(
            was.partition("|")[2] != now.partition("|")[2] for _, was, now in moved
        ):
            raise NeedsReload
        for name, was, _ in moved:
            self.query(self.sequence_back.format(self.own(name), was.partition("|")[0]))
        if self._refers:
            self.query(
                "set session foreign_key_checks = 0"
            )  # no cascade, and no order of parents and children
        try:
            self._put_back(tables, start)
        finally:
            if self._refers:
                self.query("set session foreign_key_checks = 1")

    def _put_back(self, tables: Sequence[str], start: _State) -> None:
        rest = [table for table in tables if table not in self._by_update]
        for table in tables:
            if table not in rest:
                self._update_back(table)
        self._refill(rest)
        back = self.state() == start
        if not back and len(rest) < len(tables):
            self._refill(tables)
            back = self.state() == start
        if not back:
            raise NotRestored("the data could not be brought back", self._differing())

    def _update_back(self, table: str) -> None:
        """Of a table whose rows all stand there still, and whose keys were not touched."""
        keys = self._by_update[table]
        same = " and ".join(f"own.{_q(key)} = copy.{_q(key)}" for key in keys)
        others = [(f"own.{_q(c)}", f"copy.{_q(c)}") for c in self._columns[table] if c not in keys]
        if not others:
            return  # a table of keys alone
        values = ", ".join(f"{now} = {was}" for now, was in others)
        # a collation may call two texts the same, and two numbers may have one text
        alike = " and ".join(
            f"{now} <=> {was} and binary {now} <=> binary {was}" for now, was in others
        )
        update = (
            f"update {self.own(table)} own join {self._copy(table)} copy on {same} set {values}"
        )
        self.query(f"{update} where not ({alike})")

    def _refill(self, tables: Sequence[str]) -> None:
        for table in tables:
            self.query(f"truncate table {self.own(table)}")
            listed = ", ".join(map(_q, self._columns[table]))
            if listed:
                self.query(
                    f"insert into {self.own(table)} ({listed}) select {listed} from"
                    f" {self._copy(table)}"
                )
            if table in self._numbers:
                self.query(f"alter table {self.own(table)} auto_increment = {self._numbers[table]}")
            if self._analyzes:
                self.query(f"analyze table {self.own(table)}")

    def _differing(self) -> list[str]:
        found = self._last or self.state()
        start = self._start or found
        if len(found.rows) != len(start.rows):
            return list(self._columns)
        return [
            table
            for table, a, b in zip(self._columns, found.rows, start.rows, strict=True)
            if a != b
        ]

    def own(self, table: str) -> str:
        """A table by its full name."""
        return f"{_q(self.schema)}.{_q(table)}"

    def _copy(self, table: str) -> str:
        return f"{_q(self.kept)}.{_q(table)}"


def _q(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"
