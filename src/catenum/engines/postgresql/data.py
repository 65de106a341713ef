"""Scratch space and data: made, loaded, filled, read, put back, dropped."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterable, Mapping, Sequence

import psycopg
from psycopg import pq, sql

from catenum.core.errors import TargetError
from catenum.core.record.recording import PathStep, ServerError, TableKeys, TableRows
from catenum.core.record.values import NOTHING, Binding, Value
from catenum.engines.ports import DataError, StatementsEffects
from catenum.engines.postgresql import errors
from catenum.engines.postgresql.calls import LOAD_MS, Overdue, ask
from catenum.engines.postgresql.control import PostgresqlControl
from catenum.engines.postgresql.lock_table import RULES
from catenum.engines.postgresql.plans import steps_of
from catenum.engines.postgresql.session import text_rows


class PostgresqlData(PostgresqlControl):
    """See ``engines.ports.data.Data`` for what each method promises."""

    def make_scratch(self) -> list[str]:
        """Clear what a killed run left, then make a schema of our own, marked and with a sign of
        life.
        """
        with self._translated(self.info.url):
            cleared = self.scratch.make()
            self._enter_sandbox()
            self.scratch.enter()
        return cleared

    def connections_left(self) -> int:
        """By ``max_connections``, without those that are reserved for superusers."""
        with self._translated(self.info.url):
            row = self._one(
                "select current_setting('max_connections')::int -"
                " current_setting('superuser_reserved_connections')::int - (select count(*) from"
                " pg_catalog.pg_stat_activity where backend_type = 'client backend')::int"
            )
        return int(row[0])

    def load(self, script: str) -> None:
        """Empty the scratch space and run ``script`` in it."""
        self.loads += 1
        with self._translated(self.info.url):
            self.scratch.empty()
        self.reader.forget()
        self.add(script or ";")
        self.scratch.enter()

    def add(self, script: str) -> None:
        """Run set-up SQL as it stands."""
        try:
            result = ask(self.writer.pgconn, script.encode(), self.end_process, within_ms=LOAD_MS)
        except Overdue as overdue:
            raise DataError(_overdue(overdue), script) from overdue
        except psycopg.OperationalError as gone:
            raise errors.went_away(gone, self.info.url) from gone
        if result.status == pq.ExecStatus.FATAL_ERROR:
            error = errors.from_result(result)
            if error.kind == "lost" or not self.alive():
                raise TargetError(
                    f"the server went away: {self.info.url}: while the data was loaded"
                )
            raise DataError(error, script)
        if self.writer.pgconn.transaction_status != pq.TransactionStatus.IDLE:
            ask(
                self.writer.pgconn, b"commit", self.end_process
            )  # the script began a transaction of its own
        with self._translated(self.info.url):
            self.reader.rows.tables = self.scratch.tables()
            self.see_all_rows()

    def refuses(self, index: str) -> str | None:
        """Made within a transaction that is rolled back."""
        try:
            self.add(f"begin; set local lock_timeout = '2s'; {index}; rollback")
        except DataError as error:
            self.writer.pgconn.exec_(b"rollback")
            return None if error.error.kind == "timeout" else error.error.message
        return None

    def fill(
        self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]
    ) -> None:
        query = sql.SQL("copy {} ({}) from stdin").format(
            sql.Identifier(self.schema, table), sql.SQL(", ").join(map(sql.Identifier, columns))
        )
        try:
            with self.writer.cursor() as cursor, cursor.copy(query) as copy:
                for row in rows:
                    copy.write_row(row)
        except psycopg.OperationalError as error:
            raise errors.went_away(error, self.info.url) from error
        except psycopg.Error as error:
            raise DataError(errors.from_exception(error), f"fill {table}") from error

    def analyze(self) -> None:
        """ANALYZE each table of the scratch space."""
        with self._translated(self.info.url):
            for table in self.reader.rows.tables:
                query = sql.SQL("analyze {}").format(sql.Identifier(self.schema, table))
                ask(self.writer.pgconn, query.as_bytes(self.writer), self.end_process)

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables, with their primary and unique keys."""
        with self._translated(self.info.url):
            return self.scratch.described()

    def functions(self) -> frozenset[str]:
        """By the catalogue: what is numbered like a user's own."""
        with self._translated(self.info.url):
            return self.scratch.functions()

    def notes(self) -> list[str]:
        """Nothing: all tables have row locks."""
        return []

    def plan(self, sql_text: str, values: Binding = NOTHING) -> tuple[PathStep, ...]:
        """By EXPLAIN, which executes nothing; a statement that cannot be explained has no path."""
        query = (
            f"explain (format json) {RULES.sql.numbered(sql_text) if values else sql_text}".encode()
        )
        bound = (
            [v.text.encode() if v.text is not None else None for _, v in values] if values else None
        )
        try:
            result = ask(self.writer.pgconn, query, self.end_process, values=bound, alone=True)
        except psycopg.OperationalError as error:
            raise errors.went_away(error, self.info.url) from error
        reported = result.get_value(0, 0) if result.status == pq.ExecStatus.TUPLES_OK else None
        return tuple(steps_of(json.loads(reported)[0]["Plan"])) if reported else ()

    def keep_data(self, what: StatementsEffects) -> None:
        """In a schema beside the scratch space."""
        with self._translated(self.info.url):
            self.restorer.keep(what)

    def data_state(self) -> str:
        """Fingerprints of the tables' rows."""
        with self._translated(self.info.url):
            return self.restorer.fingerprint()

    def restore_data(self) -> Callable[[], None]:
        """Refill the tables that changed. Addresses may mean other rows then: the server uses their
        places again.
        """
        with self._translated(self.info.url):
            self.restorer.restore()
        self.reader.rows.forget()
        return lambda: None

    def rows(
        self, limit: int, tables: Mapping[str, TableKeys] | None = None
    ) -> dict[str, TableRows]:
        """The first ``limit`` rows of each table, ordered by its key."""
        found = {}
        if tables is None:
            with self._translated(self.info.url):
                tables = self.scratch.tables()
        for table, keys in tables.items():
            order = (
                sql.SQL(", ").join(sql.Identifier(c) for c in keys.primary)
                if keys.primary
                else sql.SQL("1")
            )
            whole = sql.Identifier(self.schema, table)
            with self._translated(self.info.url):
                query = sql.SQL("select * from {} order by {} limit {}").format(whole, order, limit)
                result = ask(self.viewer.pgconn, query.as_bytes(self.viewer), self.end_process)
                count = sql.SQL("select count(*) from {}").format(whole)
                total = ask(
                    self.viewer.pgconn, count.as_bytes(self.viewer), self.end_process
                ).get_value(0, 0)
            kept = text_rows(result, limit)
            found[table] = TableRows(columns=kept.columns, rows=kept.rows, total=int(total or 0))
        return found

    def values_of(self, table: str, column: str, most: int) -> tuple[Value, ...]:
        """By a plain query."""
        name = sql.Identifier(column)
        query = sql.SQL(
            "select distinct {} from {} where {} is not null order by 1 limit {}"
        ).format(name, sql.Identifier(self.schema, table), name, most)
        with self._translated(self.info.url):
            result = ask(self.writer.pgconn, query.as_bytes(self.writer), self.end_process)
        if result.status == pq.ExecStatus.FATAL_ERROR:
            raise DataError(errors.from_result(result), f"{table}.{column}")
        reported = text_rows(result, most)
        return tuple(Value.read(row[0], reported.kinds[0]) for row in reported.rows)

    def truth(self, query: str) -> bool:
        """Whether ``query`` gives one row with one value that is true."""
        self.writer.pgconn.exec_(b"begin read only")
        try:
            result = ask(self.writer.pgconn, query.encode(), self.end_process, alone=True)
            if result.status == pq.ExecStatus.FATAL_ERROR:
                error = errors.from_result(result)
                if error.kind == "lost" or self.writer.pgconn.status != pq.ConnStatus.OK:
                    raise TargetError(
                        f"the server went away: {self.info.url}: while a rule was checked"
                    )
                raise DataError(error, query)
            value = result.get_value(0, 0) if (result.ntuples, result.nfields) == (1, 1) else None
            if value not in (b"t", b"f"):
                got = (
                    f"{result.ntuples} rows of {result.nfields} columns"
                    if value is None
                    else repr(value.decode())
                )
                message = f"it must return one row with true or false; it returned {got}"
                raise DataError(ServerError(code="", kind="rejected", message=message), query)
            return value == b"t"
        except Overdue as overdue:
            raise DataError(_overdue(overdue), query) from overdue
        finally:
            if self.writer.pgconn.status == pq.ConnStatus.OK:
                self.writer.pgconn.exec_(b"rollback")

    def close(self) -> None:
        """Drop the scratch space, disconnect. Whatever fails here, the next run clears."""
        with contextlib.suppress(psycopg.Error):
            if self.role is not None:
                for connection in self.scratch.ours:
                    connection.close()
            if self.connection.closed:  # it ran what had to be ended
                self.connection = self.scratch.connection = self._control()
            self.scratch.drop()
        self.connection.close()


def _overdue(error: Overdue) -> ServerError:
    return ServerError(code="", kind="rejected", message=str(error))
