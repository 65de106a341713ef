"""Brings the scratch space's data back between schedules, fast, and reports the result.

A copy of every table is kept in a schema beside the scratch space. Only tables that changed are refilled, and the
rows must then stand in the order in which they stood: statements that scan lock in that order. A change of the tables
themselves cannot be taken back here; then everything is loaded again.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from hashlib import sha1
from typing import Any

import psycopg
from psycopg import pq, sql

from catenum.engines.ports import NeedsReload, NotRestored
from catenum.engines.postgresql import errors

_TABLES = """
select c.relname, array_agg(a.attname::text order by a.attnum) filter (where a.attgenerated = '')
from pg_class c left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
where c.relnamespace = %s::regnamespace and c.relkind = 'r' group by c.oid, c.relname order by c.relname
"""
_SEQUENCES = "select relname from pg_class where relnamespace = %s::regnamespace and relkind = 'S' order by relname"
#: All that DDL of a transaction could change, as one text.
_SHAPE = """
(select md5(coalesce(string_agg(part, '|' order by part), '')) from (
  select c.relname::text || c.relkind::text
      || coalesce(a.attname::text || a.atttypid::text || a.attnotnull::text || a.atthasdef::text, '')
    from pg_class c left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0 and not a.attisdropped
    where c.relnamespace = {schema}::regnamespace
  union all select conname::text || contype::text from pg_constraint where connamespace = {schema}::regnamespace
  union all select t.tgname::text from pg_trigger t join pg_class c on c.oid = t.tgrelid
    where c.relnamespace = {schema}::regnamespace and not t.tgisinternal
) parts(part))
"""
#: Dead rows are swept out after so many refills, so that tables do not grow with the number of schedules.
SWEEP_AFTER = 200
_BREAK = "\x1e"


#: Tables of no more rows than this are fetched whole and compared here, which is quicker than having them digested.
FEW_ROWS = 200


@dataclass(frozen=True, slots=True)
class _State:
    """Per table the fingerprint of its rows and of their order, of the sequences, and of the tables' shape."""

    rows: tuple[str, ...]
    order: tuple[str, ...]
    sequences: tuple[str, ...]
    shape: str


def _digest(rows: Sequence[str]) -> str:
    return sha1("\n".join(rows).encode(), usedforsecurity=False).hexdigest()


#: Prepared on the control connection; a name may have 63 bytes, so tables are distinguished by number.
_STATE = b'execute "kept state"'


class Keeper:
    """Keeps the data of one scratch space."""

    def __init__(
        self, connection: psycopg.Connection[Any], schema: str, kept: str, create: Callable[[str], None]
    ) -> None:
        self.connection, self.schema, self.kept, self._create = connection, schema, kept, create
        self._columns: dict[str, list[str]] = {}
        self._sequences: list[str] = []
        self._refills = 0
        self._watch_shape = True
        self._small: set[str] = set()
        self._prepared: dict[str, sql.Composed] = {}
        self._refill_sql: dict[tuple[tuple[str, ...], bool], bytes] = {}
        self._positions: list[tuple[str, int, bool]] = []
        self._last: _State | None = None

    def keep(self, ignored: Mapping[str, Sequence[str]], *, shape: bool) -> None:
        """Copy what stands in the scratch space now. ``ignored``: per table the columns no fingerprint shall cover.

        ``shape``: look at the tables' definitions too, since statements may change them.
        """
        self.drop()
        self._watch_shape = shape
        self._columns = {t: list(columns or ()) for t, columns in self._fetch(_TABLES)}
        self._sequences = [row[0] for row in self._fetch(_SEQUENCES)]
        self._create(self.kept)
        for table in self._columns:
            self._run(sql.SQL("create table {} as table {}").format(self._copy(table), self._own(table)))
        count = sql.SQL("select count(*) from (select from {} limit {}) few")
        counts = {t: self._run(count.format(self._copy(t), FEW_ROWS + 1)).get_value(0, 0) for t in self._columns}
        self._small = {table for table, number in counts.items() if int(number or 0) <= FEW_ROWS}
        self._prepared = self._statements(ignored)
        self._prepare()
        self._refill_sql.clear()
        alone = self._stands_alone()
        self._skips = not alone and self._may_skip_checks()
        self._free = alone or self._skips
        first = self.state()
        self._start = first
        self._positions = self._sequence_positions()
        if self._free and any(self._columns.values()):
            self._refill(list(self._columns), truncate=True)  # from now on always filled in the same way
            self._start = self._last or first
        if self._start.rows != first.rows:
            raise NotRestored("a copy of the data, put back, is not what it was", self._differing(first))

    def drop(self) -> None:
        """Drop the copies."""
        self._run(sql.SQL("drop schema if exists {} cascade").format(sql.Identifier(self.kept)))

    # -- what stands there -------------------------------------------------------------------------------------------

    def state(self) -> _State:
        """The fingerprints of what stands there now."""
        return self._state_of(self._execute(_STATE))

    def _state_of(self, result: Any) -> _State:
        cells = [(result.get_value(0, i) or b"").decode() for i in range(result.nfields)]
        rows, order, place = [], [], 0
        for table in self._columns:
            if table in self._small:
                found = cells[place].split(_BREAK)
                order.append(_digest(found))
                rows.append(_digest(sorted(found)))
                place += 1
            else:
                rows.append(cells[place])
                order.append(cells[place + 1])
                place += 2
        self._last = _State(tuple(rows), tuple(order), tuple(cells[place:-1]), cells[-1])
        return self._last

    def fingerprint(self) -> str:
        """One text for all rows that stand there now."""
        state = self.state()
        return " ".join((*state.rows, state.shape))

    def _state_query(self, ignored: Mapping[str, Sequence[str]]) -> sql.Composed:
        parts: list[sql.Composable] = []
        for table, columns in self._columns.items():
            left = [c for c in columns if c not in ignored.get(table, ())]
            row = sql.SQL("row({})::text").format(sql.SQL(", ").join(map(sql.Identifier, left)))
            if table in self._small:
                text = "(select coalesce(string_agg({}, {}), '') from {})"
                parts.append(sql.SQL(text).format(row, sql.Literal(_BREAK), self._own(table)))
                continue
            text = "(select md5(coalesce(string_agg({0}, ',' order by {1}), '')) from {2})"
            for by in (row, sql.SQL("ctid")):
                parts.append(sql.SQL(text).format(row, by, self._own(table)))
        sequences = [
            sql.SQL("(select last_value || is_called::text from {})").format(self._own(name))
            for name in self._sequences
        ]
        shape = sql.SQL(_SHAPE).format(schema=sql.Literal(self.schema)) if self._watch_shape else sql.SQL("''")
        return sql.SQL("select ") + sql.SQL(", ").join([*parts, *sequences, shape])

    # -- bringing it back --------------------------------------------------------------------------------------------

    def _statements(self, ignored: Mapping[str, Sequence[str]]) -> dict[str, sql.Composed]:
        """What is asked of the server after each schedule, by name."""
        found = {"kept state": self._state_query(ignored)}
        for number, (table, columns) in enumerate(self._columns.items()):
            own, listed = self._own(table), sql.SQL(", ").join(map(sql.Identifier, columns))
            found[f"kept empty {number}"] = sql.SQL("delete from {}").format(own)
            if columns:
                fill = sql.SQL("insert into {} ({}) overriding system value select {} from {}")
                found[f"kept fill {number}"] = fill.format(own, listed, listed, self._copy(table))
        return found

    def _prepare(self) -> None:
        """Have the server plan them once: planning costs more than doing."""
        rows = self._run(sql.SQL("select name from pg_prepared_statements where starts_with(name, 'kept ')"))
        names = [(rows.get_value(row, 0) or b"").decode() for row in range(rows.ntuples)]
        parts = [sql.SQL("deallocate {}").format(sql.Identifier(name)) for name in names]
        parts += [sql.SQL("prepare {} as {}").format(sql.Identifier(k), q) for k, q in self._prepared.items()]
        self._run(sql.SQL("; ").join(parts))

    def restore(self) -> None:
        """Bring the data back to what was kept, and see that it is. Raises NeedsReload or NotRestored."""
        state = self._last or self.state()
        if state.shape != self._start.shape:
            raise NeedsReload
        changed = [
            table
            for number, table in enumerate(self._columns)
            if (state.rows[number], state.order[number]) != (self._start.rows[number], self._start.order[number])
        ]
        if not changed and state.sequences == self._start.sequences:
            return
        self._refills += 1
        self._refill(changed, truncate=self._refills % SWEEP_AFTER == 0)
        if self._last != self._start:
            self._refill(list(self._columns), truncate=True)
            if self._last != self._start:
                raise NotRestored("the data could not be brought back", self._differing(self._start))
        self._last = self._start

    def _refill(self, tables: Sequence[str], *, truncate: bool) -> None:
        """Fill tables again and see what stands there then, in one round trip."""
        if not self._free and tables:
            raise NeedsReload
        key = (tuple(tables), truncate)
        if key not in self._refill_sql:
            self._refill_sql[key] = self._refill_query(tables, truncate=truncate) + b"; " + _STATE
        self._state_of(self._execute(self._refill_sql[key]))

    def _refill_query(self, tables: Sequence[str], *, truncate: bool) -> bytes:
        parts: list[sql.Composable] = [sql.SQL("begin")]
        if self._skips:
            parts.append(sql.SQL("set local session_replication_role = replica"))
        if truncate and tables:
            # checks are off for this transaction only; the whole set is emptied at once, so references do not hinder
            everything = sql.SQL(", ").join(map(self._own, self._columns))
            tables = list(self._columns)
            parts.append(sql.SQL("truncate {}").format(everything))
        for number in (list(self._columns).index(table) for table in tables):
            steps = [f"kept {step} {number}" for step in (["fill"] if truncate else ["empty", "fill"])]
            parts += [sql.SQL("execute {}").format(sql.Identifier(k)) for k in steps if k in self._prepared]
        parts += self._positions_sql()
        return sql.SQL("; ").join([*parts, sql.SQL("commit")]).as_bytes(self.connection)

    def _sequence_positions(self) -> list[tuple[str, int, bool]]:
        found = []
        for name in self._sequences:
            result = self._run(sql.SQL("select last_value, is_called from {}").format(self._own(name)))
            found.append((name, int(result.get_value(0, 0) or 0), result.get_value(0, 1) == b"t"))
        return found

    def _positions_sql(self) -> list[sql.Composed]:
        return [
            sql.SQL("select setval({}, {}, {})").format(f'"{self.schema}"."{name}"', sql.Literal(value), called)
            for name, value, called in self._positions
        ]

    def _may_skip_checks(self) -> bool:
        """Whether this login may put rows back without triggers and references looking on."""
        result = self.connection.pgconn.exec_(b"begin; set local session_replication_role = replica; commit")
        if result.status == pq.ExecStatus.FATAL_ERROR:
            self.connection.pgconn.exec_(b"rollback")
            return False
        return True

    def _stands_alone(self) -> bool:
        """Whether no trigger, reference or rule looks on, so that there is nothing to skip."""
        query = sql.SQL(
            "select count(*) from pg_class c where c.relnamespace = {}::regnamespace and c.relkind in ('r', 'p') "
            "and (c.relhasrules or exists (select from pg_trigger t where t.tgrelid = c.oid))"
        )
        return bool(self._run(query.format(sql.Literal(self.schema))).get_value(0, 0) == b"0")

    def _differing(self, wanted: _State) -> list[str]:
        found = self._last or self.state()
        pairs = zip(self._columns, found.rows, wanted.rows, strict=True)
        return [table for table, is_now, was in pairs if is_now != was]

    # -- small things ------------------------------------------------------------------------------------------------

    def _own(self, name: str) -> sql.Identifier:
        return sql.Identifier(self.schema, name)

    def _copy(self, table: str) -> sql.Identifier:
        return sql.Identifier(self.kept, table)

    def _fetch(self, query: str) -> list[tuple[Any, ...]]:
        return self.connection.execute(query.encode(), [self.schema], prepare=False).fetchall()

    def _run(self, query: sql.Composable) -> Any:
        """Several statements in one round trip; the last one's result."""
        return self._execute(query.as_bytes(self.connection))

    def _execute(self, query: bytes, *, again: bool = True) -> Any:
        result = self.connection.pgconn.exec_(query)
        if result.status == pq.ExecStatus.FATAL_ERROR:
            error = errors.from_result(result)
            self.connection.pgconn.exec_(b"rollback")
            if error.code == "26000" and again:  # the driver releases all that is prepared at a DROP
                self._prepare()
                return self._execute(query, again=False)
            raise (psycopg.OperationalError if error.kind == "lost" else psycopg.DatabaseError)(error.message)
        return result
