"""One transaction's connection.

PyMySQL blocks, so each session has a thread, hidden behind a pipe that tells of replies.
"""

from __future__ import annotations

import contextlib
import os
import queue
import re
import threading
from collections.abc import Callable
from dataclasses import replace
from typing import Any, Literal

import pymysql
from pymysql import converters
from pymysql.constants import FIELD_TYPE, SERVER_STATUS
from pymysql.cursors import SSCursor

from catenum.core.record.recording import Result, ServerError, digest_of
from catenum.core.record.values import NOTHING, Binding, ValueKind
from catenum.core.servers import Rules
from catenum.core.sql.beginning import access_in
from catenum.core.sql.parameters import parameters_in
from catenum.engines.fetching import Fetched, too_large
from catenum.engines.innodb.errors import server_error
from catenum.engines.ports import Beginning, Begun, Patience, Reply

KEPT_ROWS = 50
#: Error numbers: ER_PARSE_ERROR, ER_UNSUPPORTED_PS.
SYNTAX_ERROR, CANNOT_PREPARE = "1064", "1295"
#: What limits a wait: for rows, and for definitions. As ``set session`` has it.
_LIMITS = ("innodb_lock_wait_timeout =", "lock_wait_timeout =")
_NEAR = re.compile(r"near '(.*)' at line \d+", re.DOTALL)

#: How the driver writes values by their type; those it reads stay the server's text.
AS_TEXT: dict[Any, Any] = {
    kind: writer for kind, writer in converters.encoders.items() if not isinstance(kind, int)
}
#: Column types of the protocol whose values are numbers (MariaDB documentation, "Result Set
#: Packets").
_NUMBERS = frozenset(
    [
        *(
            FIELD_TYPE.DECIMAL,
            FIELD_TYPE.NEWDECIMAL,
            FIELD_TYPE.TINY,
            FIELD_TYPE.SHORT,
            FIELD_TYPE.INT24,
        ),
        *(
            FIELD_TYPE.LONG,
            FIELD_TYPE.LONGLONG,
            FIELD_TYPE.FLOAT,
            FIELD_TYPE.DOUBLE,
            FIELD_TYPE.YEAR,
        ),
    ]
)


class InnodbSession:
    """A connection with one transaction of the scenario on it."""

    def __init__(
        self,
        name: str,
        connection: pymysql.Connection[Any],
        kill: Callable[[int, bool], None],
        *,
        rules: Rules,
        timeout_undoes: Literal["transaction", "statement"],
        level_variable: str,
        usual_level: str,
        limit_s: int,
    ) -> None:
        self.name, self.connection, self._kill, self._rules = name, connection, kill, rules
        self._timeout_undoes, self._level_variable = timeout_undoes, level_variable
        self._closed = False
        self.thread_id = int(connection.thread_id())  # type: ignore[no-untyped-call]
        self.sql = ""
        self.sent = 0
        self.values: Binding = NOTHING
        self.trail: tuple[
            tuple[str, Binding], ...
        ] = ()  # the statements of this transaction so far
        self.in_transaction = False
        self._begun: Begun | None = None
        self._levels: dict[str, str] = {}  # what the server made of each level that was asked for
        self._read, self._write = os.pipe()
        self._orders: queue.SimpleQueue[Callable[[], Reply] | None] = queue.SimpleQueue()
        self._reply: Reply | None = None
        self._asks_end = False
        self._goes_on = False
        self._usual = {
            "transaction isolation level": usual_level,
            **dict.fromkeys(_LIMITS, str(limit_s)),
            "transaction": "read write",
        }
        #: What its last transaction has set for the session: to be set back for the next on it.
        self._changed: set[str] = set()
        self._worker = threading.Thread(target=self._work, name=f"catenum {name}", daemon=True)
        self._worker.start()

    @property
    def id(self) -> str:
        """The server's connection number."""
        return str(self.thread_id)

    def fileno(self) -> int:
        """The end of a pipe that becomes readable with the reply."""
        return self._read

    def begin(self, how: Beginning) -> None:
        """Begin a transaction and ask what the server made of it."""
        self._begun = None
        self.in_transaction = True
        self.trail = ()
        self._orders.put(lambda: self._begin(how))

    def _begin(self, how: Beginning) -> Reply:
        cursor = self.connection.cursor()
        self._set(cursor, how)
        if not how.autocommit:
            text = how.text or "start transaction"
            more = how.access if how.access and access_in(text) is None else ""
            comma = "," if more and "snapshot" in text.lower() else ""
            cursor.execute(f"{text}{comma} {more}".rstrip())
        level = self._level(cursor, how.isolation)
        self._begun = Begun(isolation=level, read_only=how.access == "read only")
        return Reply()

    def _set(self, cursor: Any, how: Beginning) -> None:
        """Set for the session what the transaction asks for, and back what the last one set."""
        asked: dict[str, str] = {}
        if how.isolation:
            asked["transaction isolation level"] = how.isolation
        if how.timeout_ms is not None:
            seconds = -(-how.timeout_ms // 1000)  # whole seconds are all it knows
            asked |= dict.fromkeys(_LIMITS, str(seconds))
        if how.autocommit and how.access == "read only":
            asked["transaction"] = "read only"
        if how.limits_itself:
            for what in (one for one in _LIMITS if one in asked.keys() - self._changed):
                cursor.execute(f"select @@session.{what.rstrip(' =')}")
                row = cursor.fetchone()
                self._usual[what] = str(row[0]) if row else self._usual[what]
        usual = {what: self._usual[what] for what in self._changed - asked.keys()}
        for what, value in {**usual, **asked}.items():
            cursor.execute(f"set session {what} {value}")
        self._changed = set(asked)
        no_autocommit = how.goes_on and not how.autocommit
        if no_autocommit is not self._goes_on:
            cursor.execute(f"set session autocommit = {0 if no_autocommit else 1}")
            self._goes_on = no_autocommit

    def _level(self, cursor: Any, asked: str | None) -> str:
        """The isolation level that the server reports, asked once for each that was set."""
        if asked in self._levels:
            return self._levels[asked]
        cursor.execute(f"select {self._level_variable}")
        row = cursor.fetchone()
        level = str(row[0]).replace("-", " ").lower() if row else "not reported"
        if asked:  # it has just been set, so the server would say the same again
            self._levels[asked] = level
        return level

    def begun(self) -> Begun:
        """What the server reported after ``begin``. Raises RuntimeError before its reply was
        polled.
        """
        if self._begun is None:
            raise RuntimeError("not begun")
        return self._begun

    def send(self, sql: str, patience: Patience | None = None, values: Binding = NOTHING) -> None:
        """Send one statement. Who becomes a victim cannot be steered here, so ``patience`` has no
        effect.
        """
        self.sql, self.values, self.sent = sql, values, self.sent + 1
        self.trail = (*self.trail, (sql, values))
        if sql in ("commit", "rollback"):
            self.in_transaction = False
        elif self._goes_on:
            self.in_transaction = True
        self._orders.put(lambda: self._execute(sql, values))

    def _execute(self, sql: str, values: Binding) -> Reply:
        cursor = self.connection.cursor(SSCursor)
        if values:
            cursor.execute(
                self._rules.sql.formatted(sql),
                [value.plain for value in self._rules.sql.values_by_place(sql, values)],
            )
        else:
            cursor.execute(sql)
        first = self._fetch(cursor)
        while (
            first.error is None and cursor.nextset()
        ):  # a procedure may return several results; the first is kept
            further = self._fetch(cursor)
            if further.error is not None:
                return further
        status: int = self.connection.server_status  # type: ignore[attr-defined] # the stubs lack it
        still = bool(status & SERVER_STATUS.SERVER_STATUS_IN_TRANS)
        return replace(first, in_transaction=still)

    def _fetch(self, cursor: Any) -> Reply:
        """The rows of a result, one after the other, until there are too many."""
        if cursor.description is None:
            return Reply(rows=cursor.rowcount)
        fetched, columns = Fetched(KEPT_ROWS), cursor.description
        for row in iter(cursor.fetchone, None):
            if not fetched.add(tuple(text_of(value) for value in row)):
                self._asks_end = (
                    True  # by whoever polls: the connection for that is not this thread's
                )
                os.write(self._write, b".")
                with contextlib.suppress(pymysql.Error):
                    cursor.close()  # what is on its way is read, and thrown away
                return Reply(error=too_large())
        reported = Result(
            columns=tuple(str(column[0]) for column in columns),
            rows=tuple(fetched.rows),
            kinds=_kinds(columns),
            cut=fetched.cut,
            digest=fetched.digest,
        )
        return Reply(rows=fetched.count, result=reported)

    def _work(self) -> None:
        while (order := self._orders.get()) is not None:
            try:
                reply = order()
            except (pymysql.Error, OSError, ValueError, AttributeError) as error:
                reply = Reply(
                    error=self._undone(
                        server_error(error, self._rules, timeout_undoes=self._timeout_undoes)
                    )
                )
            self._reply = reply
            with contextlib.suppress(OSError):
                os.write(self._write, b".")

    def _undone(self, error: ServerError) -> ServerError:
        """The error with what the server really undid: a victim among named locks stays in its
        transaction.
        """
        if error.kind == "deadlock" and self._rules.errors.asks_transaction:
            with contextlib.suppress(pymysql.Error, OSError):
                cursor = self.connection.cursor()
                cursor.execute(self._rules.errors.asks_transaction)
                if text_of((cursor.fetchone() or ("0",))[0]) == "1":
                    return replace(error, undone="statement")
        return error

    def read(self, sql: str) -> ServerError | None:
        """By preparing it; what cannot be prepared is not read (MariaDB documentation, "PREPARE
        Statement").
        """
        places = len(self._rules.sql.value_names(sql)) and len(
            parameters_in(sql, self._rules.sql.token_patterns)
        )
        text = self._rules.sql.formatted(sql) % (("?",) * places) if places else sql
        try:
            cursor = self.connection.cursor()
            cursor.execute("prepare catenum_read from %s", [text])
            cursor.execute("deallocate prepare catenum_read")
        except pymysql.Error as error:
            found = server_error(error, self._rules, timeout_undoes=self._timeout_undoes)
            if found.code == CANNOT_PREPARE:
                return None
            near = _NEAR.search(found.message)
            at = sql.find(near[1]) if near and near[1] else -1
            return replace(
                found,
                syntax=found.code == SYNTAX_ERROR,
                position=at + 1 if at >= 0 and sql.count(near[1] if near else "") == 1 else None,
            )
        return None

    def poll(self) -> Reply | None:
        if self._asks_end:
            self._asks_end = False
            os.read(self._read, 1)
            if self._reply is None:
                self._kill(self.thread_id, False)
        reply = self._reply
        if reply is None:
            return None
        os.read(self._read, 1)
        self._reply = None
        if (
            reply.error is not None
            and reply.error.kind in ("deadlock", "lost")
            and reply.error.undone == "transaction"
        ):
            self.in_transaction = False
        if not self.in_transaction:
            self.trail = ()
        return reply

    def cancel(self) -> None:
        """Ask the server to end the statement under way."""
        self._kill(self.thread_id, False)

    def kill(self) -> None:
        """End the session."""
        self._kill(self.thread_id, True)

    def close(self) -> None:
        """End the connection; the server rolls an open transaction back. Does nothing a second
        time.
        """
        if self._closed:
            return
        self._kill(self.thread_id, True)
        self._orders.put(None)
        self._worker.join(5)
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()
        self._closed = True
        os.close(self._read)
        os.close(self._write)


def _kinds(columns: Any) -> tuple[ValueKind, ...]:
    return tuple("number" if column[1] in _NUMBERS else "text" for column in columns)


def result_of(cursor: Any, most: int | None = None) -> Result:
    """The rows of an executed query as the server's text, at most so many of them."""
    rows = cursor.fetchall()
    cut = most is not None and len(rows) > most
    return Result(
        columns=tuple(str(column[0]) for column in cursor.description),
        rows=tuple(tuple(text_of(value) for value in row) for row in rows[:most]),
        kinds=_kinds(cursor.description),
        cut=cut,
        digest=digest_of(tuple(text_of(v) for v in row) for row in rows) if cut else None,
    )


def text_of(value: object) -> str | None:
    """A value as the server's text; bytes that are no text as hex."""
    if value is None:
        return None
    if isinstance(value, bytes):
        try:
            return value.decode("utf-8")
        except UnicodeDecodeError:
            return "0x" + value.hex()
    return str(value)
