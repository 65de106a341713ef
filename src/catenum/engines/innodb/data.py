"""Scratch space and data: made, loaded, filled, read, put back, dropped."""

from __future__ import annotations

import contextlib
import json
import re
import struct
from abc import abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from itertools import islice
from typing import Any, ClassVar

import pymysql
from pymysql.cursors import SSCursor

from catenum.core.errors import TargetError
from catenum.core.record.recording import PathStep, ServerError, TableKeys, TableRows
from catenum.core.record.values import NOTHING, Binding, Value
from catenum.engines.clock import Clock
from catenum.engines.innodb import errors
from catenum.engines.innodb.control import ASK_MS, LOAD_MS, InnodbControl, Overdue, quoted
from catenum.engines.innodb.prepared import xids
from catenum.engines.innodb.session import result_of, text_of
from catenum.engines.ports import DataError, StatementsEffects

_INDEX = re.compile(r"create index (`(?:[^`]|``)+`|\w+) on (`(?:[^`]|``)+`|\w+) ")


#: Rows of a rule that are looked at: it is to give one.
MOST_TRUTHS = 100


class InnodbData(InnodbControl):
    """See ``engines.ports.data.Data`` for what each method promises."""

    explain = "explain format=json"
    #: Names of the functions that are loaded from a library.
    libraries: ClassVar[str]

    @abstractmethod
    def steps(self, plan: Any) -> Iterator[PathStep]:
        """The steps of a plan as EXPLAIN told it in JSON."""

    def make_scratch(self) -> list[str]:
        """Clear what a killed run left, then make a database of our own, marked and with a sign of
        life.
        """
        with self._translated():
            if self.info.private:  # what a killed run has prepared is nobody's
                self._undo_prepared(self._prepared())
            cleared = [name for name in self._left_behind() if self._clear(name)]
            self._prepared_before = self._prepared()
            self.query("select get_lock(%s, 0)", (self.schema,))
            self._made = True  # from here on there is something to drop, however far it comes
            self._make_user()
            self._create()
        return cleared

    def load(self, script: str) -> None:
        """Empty the scratch space and run ``script`` in it."""
        with self._translated():
            if self.loads:
                self.query(f"drop database `{self.schema}`")
                self._create()
        self.loads += 1
        self.add(script)

    def add(self, script: str) -> None:
        """Run set-up SQL, statement by statement."""
        clock = Clock()
        for offset, sql in self.rules.sql.split(script):
            try:
                with self.within(max(1.0, LOAD_MS - clock.now_ms())):
                    self._run(sql)
            except Overdue as overdue:
                late = ServerError(
                    code="", kind="rejected", message=str(overdue), position=offset + 1
                )
                raise DataError(late, script) from overdue
            except (pymysql.Error, OSError) as error:
                found = errors.server_error(error, self.rules, timeout_undoes=self._timeout_undoes)
                if found.kind == "lost" and not self.alive():
                    raise errors.went_away(error, self._shown) from error
                raise DataError(
                    ServerError(
                        code=found.code, kind=found.kind, message=found.message, position=offset + 1
                    ),
                    script,
                ) from error
        with self._translated():
            self.writer.select_db(self.schema)
            self.write("commit")
            self._learned = self._steady = False
            self._learn()

    def _run(self, sql: str) -> None:
        """One statement of the data: what it gives back is not looked at, however much it is."""
        cursor = self.writer.cursor(SSCursor)
        cursor.execute(sql)
        while True:
            for _ in iter(cursor.fetchone, None) if cursor.description is not None else ():
                pass
            if not cursor.nextset():
                break
        cursor.close()

    def refuses(self, index: str) -> str | None:
        """Made and dropped: DDL commits here."""
        parts = _INDEX.match(index)
        if parts is None:
            return None
        self.loads += 1
        try:
            self.add(
                f"set session lock_wait_timeout = 2; {index}; drop index {parts[1]} on {parts[2]}"
            )
        except DataError as error:
            return None if error.error.kind == "timeout" else error.error.message
        return None

    def fill(
        self, table: str, columns: Sequence[str], rows: Iterable[tuple[str | int | None, ...]]
    ) -> None:
        """Rows by INSERTs of many rows, in one transaction."""
        names = ", ".join(map(quoted, columns))
        query = f"insert into {quoted(table)} ({names}) values ({', '.join(['%s'] * len(columns))})"
        try:
            cursor = self.writer.cursor()
            cursor.execute("start transaction")
            left = iter(rows)
            while batch := list(islice(left, 2000)):
                cursor.executemany(
                    query, [tuple(str(v) if v is not None else None for v in row) for row in batch]
                )
            cursor.execute("commit")
        except pymysql.Error as error:
            raise DataError(
                errors.server_error(error, self.rules, timeout_undoes=self._timeout_undoes),
                f"fill {table}",
            ) from error

    def analyze(self) -> None:
        """ANALYZE each table of the scratch space."""
        with self._translated():
            for table in self.reader.tables:
                self.write(f"analyze table {quoted(table)}")

    def tables(self) -> dict[str, TableKeys]:
        """The scratch space's tables, with their primary and unique keys."""
        with self._translated():
            self._learn()
        return self.reader.tables

    def functions(self) -> frozenset[str]:
        """Stored functions, and those that are loaded from a library, as far as the login may see
        them.
        """
        with self._translated():
            stored = self.reader.query("select routine_name from information_schema.routines")
            loaded = self.query(self.libraries)
        return frozenset(str(row[0]).lower() for row in [*stored, *loaded])

    def notes(self) -> list[str]:
        """Tables of another storage engine."""
        return self.reader.engine_notes()

    def plan(self, sql: str, values: Binding = NOTHING) -> tuple[PathStep, ...]:
        """By EXPLAIN, which executes nothing; a statement that cannot be explained has no path."""
        try:
            bound = (
                tuple(v.plain for v in self.rules.sql.values_by_place(sql, values))
                if values
                else ()
            )
            rows = self.write(
                f"{self.explain} {self.rules.sql.formatted(sql) if values else sql}", bound
            )
        except pymysql.Error as error:
            if errors.kind_of(errors.number_and_text(error)[0], self.rules) == "lost":
                raise errors.went_away(error, self._shown) from error
            return ()
        return tuple(self.steps(read_plan(str(rows[0][0])))) if rows else ()

    def keep_data(self, what: StatementsEffects) -> None:
        """In a database beside the scratch one."""
        with self._translated():
            self.query("select get_lock(%s, 0)", (self.restorer.kept,))
            self.restorer.keep(what)
        self._steady = not what.shape

    def data_state(self) -> str:
        """Fingerprints of the tables' rows."""
        with self._translated(), self.within(ASK_MS):  # one limit for all of its queries
            return self.restorer.fingerprint()

    def restore_data(self) -> Callable[[], None]:
        """Refill the tables that changed: aside, where there is a connection for it."""
        if self.sandboxed:
            self._side.start(self._restore)
        else:
            self._restore()
        return self._side.result

    def _restore(self) -> None:
        with self._translated(), self.within(LOAD_MS):
            self.restorer.restore()

    def rows(
        self, limit: int, tables: Mapping[str, TableKeys] | None = None
    ) -> dict[str, TableRows]:
        """The first ``limit`` rows of each table, ordered by its key."""
        found = {}
        for table, keys in (self.tables() if tables is None else tables).items():
            order = ", ".join(quoted(column) for column in keys.primary) or "1"
            with self._translated():
                cursor = self.writer.cursor()
                cursor.execute(f"select * from {quoted(table)} order by {order} limit {int(limit)}")
                columns = tuple(str(column[0]) for column in cursor.description or ())
                rows = tuple(tuple(text_of(value) for value in row) for row in cursor.fetchall())
                total = int(self.write(f"select count(*) from {quoted(table)}")[0][0])
            found[table] = TableRows(columns=columns, rows=rows, total=total)
        return found

    def values_of(self, table: str, column: str, most: int) -> tuple[Value, ...]:
        """By a plain query."""
        name = quoted(column)
        query = (
            f"select distinct {name} from {quoted(table)} where {name} is not null order by 1 limit"
            f" {most}"
        )
        try:
            cursor = self.writer.cursor()
            cursor.execute(query)
        except pymysql.Error as error:
            raise DataError(
                errors.server_error(error, self.rules, timeout_undoes=self._timeout_undoes), query
            ) from error
        result = result_of(cursor)
        return tuple(Value.read(row[0], result.kinds[0]) for row in result.rows)

    def truth(self, query: str) -> bool:
        """Whether ``query`` gives one row with one value that is true (1)."""
        try:
            with self.within(ASK_MS):
                self.writer.cursor().execute("start transaction read only")
                cursor = self.writer.cursor(SSCursor)
                cursor.execute(query)
                rows = cursor.fetchmany(MOST_TRUTHS)
                cursor.close()
        except Overdue as overdue:
            late = ServerError(code="", kind="rejected", message=str(overdue))
            raise DataError(late, query) from overdue
        except pymysql.Error as error:
            found = errors.server_error(error, self.rules, timeout_undoes=self._timeout_undoes)
            if found.kind == "lost" or not self.alive():
                raise errors.went_away(error, self._shown) from error
            raise DataError(found, query) from error
        finally:
            with contextlib.suppress(pymysql.Error):
                self.writer.rollback()
        value = text_of(rows[0][0]) if len(rows) == 1 and len(rows[0]) == 1 else None
        if value not in ("0", "1"):
            more = " or more" if len(rows) == MOST_TRUTHS else ""
            got = f"{len(rows)} rows{more}" if value is None else repr(value)
            message = f"it must return one row with true or false; it returned {got}"
            raise DataError(ServerError(code="", kind="rejected", message=message), query)
        return value == "1"

    def _prepared(self) -> list[str]:
        """The prepared transactions of the server, as far as the login may list them."""
        try:
            return xids(self.query)
        except pymysql.Error:
            return []

    def _undo_prepared(self, xids: Iterable[str]) -> list[str]:
        """Roll them back. Returns those that could not be."""
        left = []
        for xid in xids:
            try:
                self.query(f"xa rollback {xid}")
            except pymysql.Error:
                left.append(xid)
        return left

    def _end_prepared(self) -> None:
        """What has been prepared since the run began: of a private server nobody else's. Raises
        TargetError where it stays, or may be anybody's.
        """
        fresh = [xid for xid in self._prepared() if xid not in self._prepared_before]
        left = self._undo_prepared(fresh) if self.info.private else fresh
        if left:
            undo = "; ".join(f"xa rollback {xid}" for xid in left)
            raise TargetError(
                f"{self._shown}: transactions were prepared (XA) while the run was on, and hold"
                " their locks",
                advice=f"If they are the scenario's: {undo};",
            )

    def close(self) -> None:
        """Drop the scratch space, disconnect. Whatever fails here, the next run clears. Raises
        TargetError where the scenario has prepared transactions on a server of the user's own.
        """
        with contextlib.suppress(pymysql.Error, OSError, struct.error):
            if self._writer is not None:
                self._kill(int(self._writer.thread_id()), True)  # type: ignore[no-untyped-call]
                self._writer.close()
        reported: TargetError | None = None
        with contextlib.suppress(pymysql.Error, OSError):
            if self._made:
                try:
                    self._end_prepared()
                except TargetError as error:
                    reported = error
                try:
                    self._drop()
                except (pymysql.Error, OSError, struct.error):
                    # the connection may have been cut short in the midst of an answer
                    self._reconnect()
                    self._drop()
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()
        if reported is not None:
            raise reported

    def _drop(self) -> None:
        # An interrupt may have left a connection that nobody holds any more.
        own = (
            f"select id from {self.process_list} where id <> connection_id() and (db = %s or user"
            " = %s)"
        )
        for (thread,) in self.query(own, (self.schema, self.user or "")):
            self._kill(int(thread), True)
        self.query("set session lock_wait_timeout = 5")
        self.query(f"drop database if exists `{self.schema}`")
        self.query(f"drop database if exists `{self.restorer.kept}`")
        if self.user is not None:
            self._drop_user(self.user)

    def _create(self) -> None:
        self.make_space(self.schema)
        self._made = True
        self.connection.select_db(self.schema)

    def _left_behind(self) -> list[str]:
        """Databases that carry both Catenum's name and its mark, regardless of whose run made
        them.
        """
        found = self._spaces_left()
        if self.user is not None:  # logins too: a run may be killed between the two
            found += self._users_left()
        return list(dict.fromkeys(found))

    def _clear(self, schema: str) -> bool:
        """Drop it if its run is dead: a live one holds the lock of its name for as long as it is
        connected.
        """
        if str(self.query("select get_lock(%s, 0)", (schema,))[0][0]) != "1":
            return False
        try:
            for (thread,) in self.query(
                f"select id from {self.process_list} where db = %s", (schema,)
            ):
                self._kill(int(thread), True)
            self.query(f"drop database if exists `{schema}`")
            if self.user is not None:
                self._drop_user(schema)
            return True
        except pymysql.Error:
            return False
        finally:
            self.query("select release_lock(%s)", (schema,))


#: A line of EXPLAIN's JSON with a text, which ends where the line does.
_TEXT_LINE = re.compile(r'^(\s*"[^"]+": ")(.*)("\s*,?\s*)$', re.MULTILINE)


def read_plan(text: str) -> dict[str, Any]:
    """EXPLAIN's JSON. The server (10.11) does not escape quotes and control characters in the
    conditions that it tells, so what is no JSON is read again with each line's text escaped; empty
    where that is none either.
    """
    escaped = _TEXT_LINE.sub(lambda line: f"{line[1]}{json.dumps(line[2])[1:-1]}{line[3]}", text)
    for candidate in (text, escaped):
        with contextlib.suppress(ValueError):
            found: dict[str, Any] = json.loads(candidate, strict=False)
            return found
    return {}
