"""Brings the scratch database's data back between schedules, and reports the result.

A copy of every table is kept in a database beside the scratch one. A table that changed is emptied by TRUNCATE and
filled again: a DELETE would leave its rows marked as deleted until InnoDB purges them, and locks on gaps and on such
rows would then fall otherwise than on fresh data.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from catenum.engines.ports import NeedsReload, NotRestored

_COLUMNS = """
select c.table_name, c.column_name from information_schema.columns c
join information_schema.tables t on t.table_schema = c.table_schema and t.table_name = c.table_name
where c.table_schema = %s and t.table_type = 'BASE TABLE' and c.generation_expression is null
order by c.table_name, c.ordinal_position
"""
_NUMBERED = "select table_name, auto_increment from information_schema.tables where table_schema = %s"
_SHAPE = """
select md5(group_concat(part order by part)) from (
  select concat_ws('|', table_name, column_name, column_type, is_nullable, column_default) part
    from information_schema.columns where table_schema = %s
  union all select concat_ws('|', table_name, index_name, seq_in_index, column_name, non_unique)
    from information_schema.statistics where table_schema = %s
) parts
"""

Query = Callable[..., list[tuple[Any, ...]]]


class Keeper:
    """Keeps the data of one scratch database."""

    def __init__(self, query: Query, schema: str) -> None:
        self.query, self.schema, self.kept = query, schema, f"{schema}_kept"
        self._columns: dict[str, list[str]] = {}
        self._numbers: dict[str, int] = {}
        self._watch_shape = True
        self._start: tuple[tuple[str, ...], str] = ((), "")
        self._last: tuple[tuple[str, ...], str] | None = None

    def keep(self, ignored: Mapping[str, Sequence[str]], *, shape: bool, comment: str) -> None:
        """Copy what stands in the scratch database now."""
        self.drop()
        self._watch_shape = shape
        self.query("set session group_concat_max_len = 1073741824")
        self._columns = {}
        for table, column in self.query(_COLUMNS, (self.schema,)):
            self._columns.setdefault(str(table), []).append(str(column))
        self._numbers = {
            str(table): int(number) for table, number in self.query(_NUMBERED, (self.schema,)) if number is not None
        }
        self.query(f"create database {_q(self.kept)} character set utf8mb4 comment %s", (comment,))
        for table in self._columns:
            self.query(f"create table {self._copy(table)} engine=InnoDB as select * from {self._own(table)}")
        self._state_sql = self._state_query(ignored)
        self._start = first = self.state()
        self._refill(list(self._columns))
        if self.state() != first:
            raise NotRestored("a copy of the data, put back, is not what it was", self._differing())

    def drop(self) -> None:
        """Drop the copies."""
        self.query(f"drop database if exists {_q(self.kept)}")

    def state(self) -> tuple[tuple[str, ...], str]:
        """The fingerprints of the tables' rows, and of their shape."""
        rows = tuple(str(cell) for cell in self.query(self._state_sql)[0])
        shape = str(self.query(_SHAPE, (self.schema, self.schema))[0][0]) if self._watch_shape else ""
        self._last = (rows, shape)
        return self._last

    def fingerprint(self) -> str:
        """One text for all rows that stand there now."""
        rows, shape = self.state()
        return " ".join((*rows, shape))

    def _state_query(self, ignored: Mapping[str, Sequence[str]]) -> str:
        parts = []
        for table, columns in self._columns.items():
            left = ", ".join(_q(c) for c in columns if c not in ignored.get(table, ()))
            row = f"json_array({left})"
            parts.append(f"(select md5(coalesce(group_concat({row} order by {row}), '')) from {self._own(table)})")
        return "select " + (", ".join(parts) or "1")

    def restore(self) -> None:
        """Bring the data back to what was kept, and see that it is. Raises NeedsReload or NotRestored."""
        rows, shape = self._last or self.state()
        if shape != self._start[1]:
            raise NeedsReload
        changed = [
            table for table, is_now, was in zip(self._columns, rows, self._start[0], strict=True) if is_now != was
        ]
        numbered = [table for table in self._numbers if table not in changed]
        if not changed and not numbered:
            return
        self._refill([*changed, *numbered])
        if self.state() != self._start:
            raise NotRestored("the data could not be brought back", self._differing())

    def _refill(self, tables: Sequence[str]) -> None:
        if not tables:
            return
        self.query("set session foreign_key_checks = 0")
        for table in tables:
            self.query(f"truncate table {self._own(table)}")
            listed = ", ".join(map(_q, self._columns[table]))
            if listed:
                self.query(f"insert into {self._own(table)} ({listed}) select {listed} from {self._copy(table)}")
            if table in self._numbers:
                self.query(f"alter table {self._own(table)} auto_increment = {self._numbers[table]}")
        self.query("set session foreign_key_checks = 1")

    def _differing(self) -> list[str]:
        rows, _ = self._last or self.state()
        return [table for table, a, b in zip(self._columns, rows, self._start[0], strict=True) if a != b]

    def _own(self, table: str) -> str:
        return f"{_q(self.schema)}.{_q(table)}"

    def _copy(self, table: str) -> str:
        return f"{_q(self.kept)}.{_q(table)}"


def _q(name: str) -> str:
    return "`" + name.replace("`", "``") + "`"
