"""Brings the scratch space's data back between schedules, fast, and reports the result.

A copy of every table is kept in a schema beside the scratch space. Only tables that changed are
refilled, and they must then be as after loading in all that a statement's plan and locks depend on:
the rows in their order, the size of tables and indexes, what the planner knows of them. Where a
refill does not give that, and where anything but rows changed, the data is loaded again.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from hashlib import sha1
from typing import Any

import psycopg
from psycopg import pq, sql

from catenum.engines.ports import NeedsReload, NotRestored, StatementsEffects
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.calls import ask
from catenum.engines.postgresql.shape import known_query, shape_query, sizes_query

_TABLES = """
select c.relname, array_agg(a.attname::text order by a.attnum) filter (where a.attgenerated = ''),
       c.reltuples >= 0 or c.relallvisible > 0
from pg_class c left join pg_attribute a on a.attrelid = c.oid and a.attnum > 0
  and not a.attisdropped
where c.relnamespace = %s::regnamespace and c.relkind = 'r' group by c.oid order by c.relname
"""
_VIEWS = (
    "select relname from pg_class where relnamespace = %s::regnamespace and relkind = 'm' order by"
    " relname"
)
_SEQUENCES = (
    "select relname from pg_class where relnamespace = %s::regnamespace and relkind = 'S' order by"
    " relname"
)
_PRIMARY = """
select c.relname, array_agg(a.attname::text) from pg_index i join pg_class c on c.oid = i.indrelid
join pg_attribute a on a.attrelid = c.oid and a.attnum = any (i.indkey::int2[])
where c.relnamespace = %s::regnamespace and i.indisprimary group by c.oid
"""
#: By table, another of which rows refer to it: the server empties it together with that only.
_REFERENCES = """
select distinct t.relname, c.relname from pg_constraint r join pg_class t on t.oid = r.confrelid
join pg_class c on c.oid = r.conrelid
where r.contype = 'f' and c.relnamespace = %s::regnamespace order by 1, 2
"""
#: What a reference to a partitioned table means for its parts, the server knows best.
_PARTITIONED = (
    "select 1 from pg_class where relnamespace = %s::regnamespace and relkind = 'p' limit 1"
)
_BREAK = "\x1e"


#: Tables of no more rows than this are fetched whole and compared here, which is quicker than
#: having them digested.
FEW_ROWS = 200


@dataclass(frozen=True, slots=True)
class _State:
    """Per table the fingerprint of its rows, of what is compared of them, and of their order; of
    materialised views; of the sequences, the sizes of tables and indexes, of all definitions, and
    of what the planner knows of the tables.

    The last is no part of the data, and a rollback does not take it back (CREATE INDEX sets
    ``reltuples`` in place).
    """

    rows: tuple[str, ...]
    shown: tuple[str, ...]
    order: tuple[str, ...]
    views: tuple[str, ...]
    sequences: tuple[str, ...]
    sizes: str
    shape: str
    known: str = ""


#: Characters of a digest that the server makes.
_MD5 = 32


def _grown(before: str, now: str) -> set[str]:
    """The tables of which, or of an index of which, the size is another."""
    lines = set(before.split("\n")) ^ set(now.split("\n"))
    return {line.partition("\t")[0] for line in lines}


def _digest(rows: Sequence[str]) -> str:
    return sha1("\n".join(rows).encode(), usedforsecurity=False).hexdigest()


#: Prepared on the control connection; a name may have 63 bytes, so tables are distinguished by
#: number.
_STATE = b'execute "kept state"'


class DataRestorer:
    """Keeps the data of one scratch space."""

    _skips: bool
    _free: bool

    def __init__(
        self,
        connection: psycopg.Connection[Any],
        schema: str,
        kept: str,
        create: Callable[[str], None],
        end: Callable[[int], None],
    ) -> None:
        self._end = end
        self.connection, self.schema, self.kept, self._create = connection, schema, kept, create
        self.hidden = False  # rows are read by a login that must have nothing evaluated
        self._columns: dict[str, list[str]] = {}
        self._known_of: list[str] = []
        self._sequences: list[str] = []
        self._views: list[str] = []
        self._ignored: Mapping[str, Sequence[str]] = {}
        self._of_new: Mapping[str, Sequence[str]] = {}
        self._primary: dict[str, list[str]] = {}
        self._references: list[tuple[Any, ...]] = []
        self._all_at_once = False
        self._by_loading = False  # emptied and filled again, the tables are not as after loading
        self._watch_shape = True
        self._small: set[str] = set()
        self._prepared: dict[str, sql.Composed] = {}
        self._refill_sql: dict[tuple[tuple[str, ...], tuple[str, ...]], bytes] = {}
        self._positions: list[tuple[str, int, bool]] = []
        self._start: _State | None = None
        self._last: _State | None = None

    def keep(self, what: StatementsEffects) -> None:
        """Copy what stands in the scratch space now. See ``engines.ports.data.Data.keep_data``."""
        self.drop()
        self._by_loading = self._by_loading and not what.afresh
        self._watch_shape, self._ignored, self._start = what.shape, what.ignored, None
        self._of_new = what.of_new
        self._primary = {table: list(columns) for table, columns in self._fetch(_PRIMARY)}
        found = self._fetch(_TABLES)
        self._columns = {table: list(columns or ()) for table, columns, _ in found}
        self._known_of = [table for table, _, known in found if known]
        self._references = self._fetch(_REFERENCES)
        self._all_at_once = bool(self._fetch(_PARTITIONED))
        self._sequences = [row[0] for row in self._fetch(_SEQUENCES)]
        self._views = [row[0] for row in self._fetch(_VIEWS)]
        self._keep_from_sweeping()
        self._create(self.kept)
        for table in self._columns:
            self._run(
                sql.SQL("create table {} as select * from only {}").format(
                    self._copy(table), self._own(table)
                )
            )
        count = sql.SQL("select count(*) from (select from {} limit {}) few")
        counts = {
            t: self._run(count.format(self._copy(t), FEW_ROWS + 1)).get_value(0, 0)
            for t in self._columns
        }
        self._small = {table for table, number in counts.items() if int(number or 0) <= FEW_ROWS}
        self._prepared = self._statements()
        self._prepare()
        self._refill_sql.clear()
        alone = self._stands_alone()
        self._skips = not alone and self._may_skip_checks()
        self._free = (alone or self._skips) and not self.hidden
        self._start = self.state()
        self._positions = self._sequence_positions()
        if self._free and not self._by_loading and any(self._columns.values()):
            self._try_refill(self._start)

    def _try_refill(self, first: _State) -> None:
        """From now on the tables are always filled in the same way, if that gives what was
        loaded.
        """
        known = self._known()
        self._refill([], emptied=list(self._columns))
        if self._last is None or self._last.rows != first.rows:
            raise NotRestored(
                "a copy of the data, put back, is not what it was", self._differing(first)
            )
        if self._last != first or self._known() != known:
            self._by_loading, self._start, self._last = True, None, None
            raise NeedsReload

    def _keep_from_sweeping(self) -> None:
        """A sweep of the server's own, set off by the many refills, would have it plan otherwise
        from then on.
        """
        if self._run(sql.SQL("show autovacuum")).get_value(0, 0) == b"on":
            for table in self._columns:
                self._run(
                    sql.SQL("alter table {} set (autovacuum_enabled = off)").format(
                        self._own(table)
                    )
                )

    def drop(self) -> None:
        self._run(sql.SQL("drop schema if exists {} cascade").format(sql.Identifier(self.kept)))

    # -- what stands there -------------------------------------------------------------------------

    def state(self) -> _State:
        """The fingerprints of what stands there now."""
        try:
            found = self._state_of(self._execute(_STATE))
        except psycopg.DatabaseError as error:
            if not self._watch_shape or isinstance(error, psycopg.OperationalError):
                raise
            return self._changed_state()  # a table that was there is gone, or is another
        if self._start is not None and found.shape != self._start.shape:
            return self._changed_state()
        return found

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
        after = place + len(self._views)
        left_out = [table for table in self._columns if self._leaves_out(table)]
        compared = dict(zip(left_out, cells[len(cells) - 2 - len(left_out) : -2], strict=True))
        self._last = _State(
            rows=tuple(rows),
            shown=tuple(
                compared.get(table, digest)
                for table, digest in zip(self._columns, rows, strict=True)
            ),
            order=tuple(order),
            views=tuple(cells[place:after]),
            sequences=tuple(cells[after : after + len(self._sequences)]),
            sizes=cells[-2],
            shape=cells[-1][:_MD5],
            known=cells[-1][_MD5:],
        )
        return self._last

    def _changed_state(self) -> _State:
        """Of whatever tables there are now, by name."""
        tables = {table: list(columns or ()) for table, columns, _ in self._fetch(_TABLES)}
        parts = [self._digested(table, columns, shown=True) for table, columns in tables.items()]
        result = self._run(sql.SQL("select ") + sql.SQL(", ").join([*parts, self._shape()]))
        cells = [(result.get_value(0, i) or b"").decode() for i in range(result.nfields)]
        rows = tuple(f"{table}:{digest}" for table, digest in zip(tables, cells, strict=False))
        self._last = _State(
            rows=rows,
            shown=rows,
            order=(),
            views=(),
            sequences=(),
            sizes="",
            shape=cells[-1][:_MD5],
        )
        return self._last

    def fingerprint(self) -> str:
        """One text for all rows that stand there now."""
        state = self.state()
        return " ".join((*state.shown, *state.views, state.shape))

    def _known(self) -> bytes | None:
        """What the planner knows of the tables."""
        known: bytes | None = self._run(sql.SQL("select ") + known_query(self.schema)).get_value(
            0, 0
        )
        return known

    def _shape(self) -> sql.Composed:
        """All definitions, and the statistics, which ANALYZE in a transaction changes."""
        return sql.SQL("{} || {}").format(shape_query(self.schema), known_query(self.schema))

    def _row(self, table: str, columns: Sequence[str], *, shown: bool) -> sql.Composed:
        left = [c for c in columns if not (shown and c in self._ignored.get(table, ()))]
        new = self._of_new.get(table, ()) if shown and table in self._columns else ()
        cells = [self._if_loaded(table, c) if c in new else sql.Identifier(c) for c in left]
        return sql.SQL("row({})::text").format(sql.SQL(", ").join(cells))

    def _if_loaded(self, table: str, column: str) -> sql.Composed:
        """A column's value in a row that was kept."""
        same = [
            sql.SQL("kept_row.{0} = {1}").format(
                sql.Identifier(key), sql.Identifier(self.schema, table, key)
            )
            for key in self._primary.get(table, ())
        ]
        text = "case when exists (select from {} kept_row where {}) then {} end"
        return sql.SQL(text).format(
            self._copy(table), sql.SQL(" and ").join(same), sql.Identifier(column)
        )

    def _leaves_out(self, table: str) -> bool:
        return bool(self._ignored.get(table) or self._of_new.get(table))

    def _digested(
        self, table: str, columns: Sequence[str], *, shown: bool = False, by: str | None = None
    ) -> sql.Composed:
        row = self._row(table, columns, shown=shown)
        text = "(select md5(coalesce(string_agg({0}, ',' order by {1}), '')) from only {2})"
        return sql.SQL(text).format(row, row if by is None else sql.SQL(by), self._own(table))

    def _state_query(self) -> sql.Composed:
        parts: list[sql.Composable] = []
        for table, columns in self._columns.items():
            if table in self._small:
                text = "(select coalesce(string_agg({}, {}), '') from only {})"
                row = self._row(table, columns, shown=False)
                parts.append(sql.SQL(text).format(row, sql.Literal(_BREAK), self._own(table)))
                continue
            parts += [self._digested(table, columns), self._digested(table, columns, by="ctid")]
        # By the output function: a cast of a row's type to text may be the scenario's own.
        digest = (
            "(select md5(coalesce(string_agg(pg_catalog.concat(x), ',' order by"
            " pg_catalog.concat(x)), '')) from {} x)"
        )
        views = [sql.SQL(digest).format(self._own(name)) for name in self._views]
        sequences = [
            sql.SQL("(select last_value || is_called::text from {})").format(self._own(name))
            for name in self._sequences
        ]
        shape = self._shape() if self._watch_shape else sql.SQL("''")
        left_out = [
            self._digested(t, c, shown=True)
            for t, c in self._columns.items()
            if self._leaves_out(t)
        ]
        every = [*parts, *views, *sequences, *left_out, sizes_query(self.schema), shape]
        return sql.SQL("select ") + sql.SQL(", ").join(every)

    # -- bringing it back --------------------------------------------------------------------------

    def _statements(self) -> dict[str, sql.Composed]:
        """What is asked of the server after each schedule, by name."""
        found = {"kept state": self._state_query()}
        for number, (table, columns) in enumerate(self._columns.items()):
            own, listed = self._own(table), sql.SQL(", ").join(map(sql.Identifier, columns))
            found[f"kept empty {number}"] = sql.SQL("delete from only {}").format(own)
            if columns:
                fill = sql.SQL("insert into {} ({}) overriding system value select {} from {}")
                found[f"kept fill {number}"] = fill.format(own, listed, listed, self._copy(table))
        return found

    def _prepare(self) -> None:
        """Have the server plan them once: planning costs more than doing."""
        rows = self._run(
            sql.SQL("select name from pg_prepared_statements where starts_with(name, 'kept ')")
        )
        names = [(rows.get_value(row, 0) or b"").decode() for row in range(rows.ntuples)]
        parts = [sql.SQL("deallocate {}").format(sql.Identifier(name)) for name in names]
        parts += [
            sql.SQL("prepare {} as {}").format(sql.Identifier(k), q)
            for k, q in self._prepared.items()
        ]
        self._run(sql.SQL("; ").join(parts))

    def restore(self) -> None:
        """Bring the data back to what was kept, and see that it is. Raises NeedsReload or
        NotRestored.
        """
        start, state = self._start, self._last or self.state()
        if start is None or (state.shape, state.known, state.views) != (
            start.shape,
            start.known,
            start.views,
        ):
            raise NeedsReload
        changed = [
            table
            for number, table in enumerate(self._columns)
            if (state.rows[number], state.order[number])
            != (start.rows[number], start.order[number])
        ]
        grown = self._with_references(_grown(start.sizes, state.sizes))
        if not changed and not grown and state.sequences == start.sequences:
            return
        if grown and self._by_loading:
            raise NeedsReload
        self._refill([table for table in changed if table not in grown], emptied=grown)
        if self._last != start:
            if self._by_loading:
                raise NeedsReload
            self._refill([], emptied=list(self._columns))
            if self._last != start:
                raise NotRestored("the data could not be brought back", self._differing(start))
        self._last = start

    def _with_references(self, tables: set[str]) -> list[str]:
        """With all that refer to them, directly or through others; in the order of all tables."""
        if self._all_at_once or not tables <= self._columns.keys():  # a view's, or an odd name
            return list(self._columns) if tables else []
        found, before = set(tables), 0
        while before < len(found):
            before = len(found)
            found |= {other for table, other in self._references if table in found}
        return [table for table in self._columns if table in found]

    def _refill(self, tables: Sequence[str], *, emptied: Sequence[str] = ()) -> None:
        """Fill tables again, of which ``emptied`` are made anew, and see what stands there then, in
        one round trip.
        """
        if not self._free and (tables or emptied):
            raise NeedsReload
        key = (tuple(tables), tuple(emptied))
        if key not in self._refill_sql:
            self._refill_sql[key] = self._refill_query(tables, emptied) + b"; " + _STATE
        self._state_of(self._execute(self._refill_sql[key]))

    def _refill_query(self, tables: Sequence[str], emptied: Sequence[str]) -> bytes:
        parts: list[sql.Composable] = [sql.SQL("begin")]
        if self._skips:
            parts.append(sql.SQL("set local session_replication_role = replica"))
        if emptied:
            # checks are off for this transaction only; with what refers to them they are emptied
            # at once, so references do not hinder; who inherits from one is a table of its own
            each = [sql.SQL("only {}").format(self._own(table)) for table in emptied]
            parts.append(sql.SQL("truncate {}").format(sql.SQL(", ").join(each)))
        for number, table in enumerate(self._columns):
            steps = (["empty"] if table in tables else []) + (
                ["fill"] if table in tables or table in emptied else []
            )
            names = [f"kept {step} {number}" for step in steps]
            parts += [
                sql.SQL("execute {}").format(sql.Identifier(name))
                for name in names
                if name in self._prepared
            ]
        parts += [
            sql.SQL("analyze {}").format(self._own(table))
            for table in self._known_of
            if table in emptied
        ]
        parts += self._positions_sql()
        return sql.SQL("; ").join([*parts, sql.SQL("commit")]).as_bytes(self.connection)

    def _sequence_positions(self) -> list[tuple[str, int, bool]]:
        found = []
        for name in self._sequences:
            result = self._run(
                sql.SQL("select last_value, is_called from {}").format(self._own(name))
            )
            found.append((name, int(result.get_value(0, 0) or 0), result.get_value(0, 1) == b"t"))
        return found

    def _positions_sql(self) -> list[sql.Composed]:
        return [
            sql.SQL("select setval({}, {}, {})").format(
                f'"{self.schema}"."{name}"', sql.Literal(value), called
            )
            for name, value, called in self._positions
        ]

    def _may_skip_checks(self) -> bool:
        """Whether rows may be put back without triggers and rules looking on: by this login, and by
        what they are.
        """
        always = sql.SQL(
            "select count(*) from pg_class c where c.relnamespace = {}::regnamespace and (exists"
            " (select from pg_trigger t where t.tgrelid = c.oid and t.tgenabled in ('A', 'R')) or"
            " exists (select from pg_rewrite r where r.ev_class = c.oid and r.ev_enabled in ('A',"
            " 'R')))"
        )
        if self._run(always.format(sql.Literal(self.schema))).get_value(0, 0) != b"0":
            return False
        result = self.connection.pgconn.exec_(
            b"begin; set local session_replication_role = replica; commit"
        )
        if result.status == pq.ExecStatus.FATAL_ERROR:
            self.connection.pgconn.exec_(b"rollback")
            return False
        return True

    def _stands_alone(self) -> bool:
        """Whether no trigger, reference or rule looks on, so that there is nothing to skip."""
        query = sql.SQL(
            "select count(*) from pg_class c where c.relnamespace = {}::regnamespace and c.relkind"
            " in ('r', 'p') and (c.relhasrules or exists (select from pg_trigger t where t.tgrelid"
            " = c.oid))"
        )
        return bool(self._run(query.format(sql.Literal(self.schema))).get_value(0, 0) == b"0")

    def _differing(self, wanted: _State) -> list[str]:
        found = self._last or self.state()
        pairs = zip(self._columns, found.rows, wanted.rows, strict=True)
        return [table for table, is_now, was in pairs if is_now != was]

    # -- small things ------------------------------------------------------------------------------

    def _own(self, name: str) -> sql.Identifier:
        return sql.Identifier(self.schema, name)

    def _copy(self, table: str) -> sql.Identifier:
        return sql.Identifier(self.kept, table)

    def _fetch(self, query: str) -> list[tuple[Any, ...]]:
        return self.connection.execute(query.encode(), [self.schema], prepare=False).fetchall()

    def _run(self, query: sql.Composable) -> Any:
        """Several statements in one round trip; the last one's result."""
        return self._execute(query.as_bytes(self.connection))

    def _execute(self, query: bytes, *, again: bool = True, tries: int = 8) -> Any:
        result = ask(self.connection.pgconn, query, self._end)
        if result.status == pq.ExecStatus.FATAL_ERROR:
            error = errors.from_result(result)
            self.connection.pgconn.exec_(b"rollback")
            if (
                error.code == "26000" and again
            ):  # the driver releases all that is prepared at a DROP
                self._prepare()
                return self._execute(query, again=False)
            if tries and errors.vanished(error.message):  # another run's, dropped meanwhile
                return self._execute(query, again=again, tries=tries - 1)
            raise (psycopg.OperationalError if error.kind == "lost" else psycopg.DatabaseError)(
                error.message
            )
        return result
