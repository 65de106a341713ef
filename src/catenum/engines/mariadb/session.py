"""One transaction's connection.

PyMySQL blocks, so each session has a thread, hidden behind a pipe that tells of replies.
"""

from __future__ import annotations

import contextlib
import os
import queue
import threading
from collections.abc import Callable
from typing import Any, Literal

import pymysql

from catenum.core.recording import Result, digest_of
from catenum.engines.mariadb.errors import server_error
from catenum.engines.protocol import Beginning, Begun, Patience, Reply

KEPT_ROWS = 50


class MariadbSession:
    """A connection with one transaction of the scenario on it."""

    def __init__(
        self,
        name: str,
        connection: pymysql.Connection[Any],
        kill: Callable[[int, bool], None],
        *,
        timeout_undoes: Literal["transaction", "statement"],
        level_variable: str,
    ) -> None:
        self.name, self.connection, self._kill = name, connection, kill
        self._timeout_undoes, self._level_variable = timeout_undoes, level_variable
        self.thread_id = int(connection.thread_id())  # type: ignore[no-untyped-call]
        self.sql = ""
        self.sent = 0
        self.trail: tuple[str, ...] = ()  # the statements of this transaction so far
        self.in_transaction = False
        self._begun: Begun | None = None
        self._read, self._write = os.pipe()
        self._orders: queue.SimpleQueue[Callable[[], Reply] | None] = queue.SimpleQueue()
        self._reply: Reply | None = None
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
        if how.isolation:
            cursor.execute(f"set session transaction isolation level {how.isolation}")
        if how.timeout_ms is not None:
            seconds = -(-how.timeout_ms // 1000)  # whole seconds are all it knows
            cursor.execute(f"set session innodb_lock_wait_timeout = {seconds}, lock_wait_timeout = {seconds}")
        cursor.execute(f"start transaction {how.access or ''}")
        cursor.execute(f"select {self._level_variable}")
        row = cursor.fetchone()
        level = str(row[0]).replace("-", " ").lower() if row else "not told"
        self._begun = Begun(isolation=level, read_only=how.access == "read only")
        return Reply()

    def begun(self) -> Begun:
        """What the server reported after ``begin``. Raises RuntimeError before its reply was polled."""
        if self._begun is None:
            raise RuntimeError("not begun")
        return self._begun

    def send(self, sql: str, patience: Patience | None = None) -> None:
        """Send one statement. Who becomes a victim cannot be steered here, so ``patience`` has no effect."""
        self.sql, self.sent = sql, self.sent + 1
        self.trail = (*self.trail, sql)
        if sql in ("commit", "rollback"):
            self.in_transaction = False
        self._orders.put(lambda: self._execute(sql))

    def _execute(self, sql: str) -> Reply:
        cursor = self.connection.cursor()
        cursor.execute(sql)
        first = _reply(cursor)
        while cursor.nextset():  # a procedure may return several results; the first is kept
            pass
        return first

    def _work(self) -> None:
        while (order := self._orders.get()) is not None:
            try:
                reply = order()
            except (pymysql.Error, OSError, ValueError, AttributeError) as error:
                reply = Reply(error=server_error(error, timeout_undoes=self._timeout_undoes))
            self._reply = reply
            with contextlib.suppress(OSError):
                os.write(self._write, b".")

    def poll(self) -> Reply | None:
        """The reply, once."""
        reply = self._reply
        if reply is None:
            return None
        os.read(self._read, 1)
        self._reply = None
        if reply.error is not None and reply.error.kind in ("deadlock", "lost"):
            self.in_transaction = False
        if not self.in_transaction:
            self.trail = ()
        return reply

    def cancel(self) -> None:
        """Ask the server to end the statement under way."""
        self._kill(self.thread_id, False)

    def close(self) -> None:
        """End the connection; the server rolls an open transaction back."""
        self._kill(self.thread_id, True)
        self._orders.put(None)
        self._worker.join(5)
        with contextlib.suppress(pymysql.Error, OSError):
            self.connection.close()
        os.close(self._read)
        os.close(self._write)


def _reply(cursor: Any) -> Reply:
    if cursor.description is None:
        return Reply(rows=cursor.rowcount)
    rows = cursor.fetchall()
    result = Result(
        columns=tuple(str(column[0]) for column in cursor.description),
        rows=tuple(tuple(text_of(value) for value in row) for row in rows[:KEPT_ROWS]),
        cut=len(rows) > KEPT_ROWS,
        digest=digest_of(tuple(text_of(v) for v in row) for row in rows) if len(rows) > KEPT_ROWS else None,
    )
    return Reply(rows=len(rows), result=result)


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
