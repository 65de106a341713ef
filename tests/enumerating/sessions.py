"""Connections that run one statement at a time in a thread, and who of them waits for a lock."""

from __future__ import annotations

import functools
import json
import queue
import re
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

import psycopg
import pymysql

from conftest import over_socket

DEADLOCK_CHECK_MS = 5

Row = tuple[Any, ...]


class Failed(Exception):
    """A statement's error, by its kind: deadlock, refused, timeout, lost, rejected."""

    def __init__(self, kind: str, text: str, code: object = None) -> None:
        super().__init__(f"{kind}: {text}")
        self.kind, self.code = kind, code


#: The reply to a commit that the server answered with a rollback.
ROLLED_BACK = "rolled back"


class Hand:
    """One connection in a thread of its own."""

    def __init__(self, execute: Callable[[str], object], number: int) -> None:
        self.number = number
        self.reply: object | None = None
        self.replied: Callable[[], None] = lambda: None
        self._execute = execute
        self._orders: queue.SimpleQueue[Sequence[str] | None] = queue.SimpleQueue()
        self.busy = self.lost = False
        self._undoes = True
        self._thread = threading.Thread(target=self._work, daemon=True)
        self._thread.start()

    def send(self, *statements: str, undoes: bool = True) -> None:
        """Run these one after another; the reply is the last one's. ``undoes``: an error rolls the
        transaction back.
        """
        self.busy, self.reply, self._undoes = True, None, undoes
        self._orders.put(statements)

    def _work(self) -> None:
        while (statements := self._orders.get()) is not None:
            reply: object = None
            try:
                for sql in statements:
                    reply = self._execute(sql)
            except Failed as error:
                reply = error
                if error.kind != "lost" and self._undoes:
                    self._execute("rollback")
            self.reply, self.busy = reply, False
            self.replied()

    def stop(self) -> None:
        """End the thread."""
        self._orders.put(None)
        self._thread.join(10)


class Bench:
    """A server with one scratch space of its own. Subclasses say how it is spoken to.

    ``settles_s``: how long a wait has lasted before nothing more comes of it by itself, longer than
    the server's own check for deadlocks.
    """

    settles_s = 0.02

    def __init__(self, hands: int) -> None:
        self._bell = threading.Event()
        self.hands = [self._open(place) for place in range(hands)]
        for hand in self.hands:
            hand.replied = self._bell.set

    def _open(self, place: int) -> Hand:
        raise NotImplementedError

    def waiting(self) -> set[int]:
        """The numbers of connections that wait for a lock."""
        raise NotImplementedError

    def fresh(self, data: str) -> None:
        """Drop everything and load this."""
        raise NotImplementedError

    def begin(
        self, level: str | None, *, going_on: bool = False, autocommit: bool = False
    ) -> tuple[str, ...]:
        """The statements that begin a transaction, or statements that commit themselves."""
        raise NotImplementedError

    def _end(self, place: int) -> None:
        """End a connection from outside, and wait until the server has undone its work."""
        raise NotImplementedError

    def lose(self, place: int) -> None:
        """The same, once for each."""
        if not self.hands[place].lost:
            self._end(place)
            self.hands[place].lost = True

    def _open_lost(self) -> None:
        for place, hand in enumerate(self.hands):
            if hand.lost:
                hand.stop()
                self.hands[place] = self._open(place)
                self.hands[place].replied = self._bell.set

    def state(self, made: Mapping[str, int] = {}) -> object:
        """All rows of all tables, and the indexes; without the columns at these places of these
        tables.
        """
        raise NotImplementedError

    def true(self, sql: str) -> bool:
        """What a rule's query says."""
        raise NotImplementedError

    def settle(self, limit_s: float = 20.0, longer_s: float = 0.0) -> set[int]:
        """Wait until every statement was answered or waits for a lock, for good. Gives the places
        of those that wait.
        """
        began, since, before = time.monotonic(), 0.0, None
        pause = 0.001
        while any(hand.busy for hand in self.hands):
            if self._bell.wait(pause):
                self._bell.clear()
                continue
            pause = min(pause * 1.6, 0.005)
            busy = {place for place, hand in enumerate(self.hands) if hand.busy}
            numbers = self.waiting() if busy else set()
            waiting = {place for place in busy if self.hands[place].number in numbers}
            now = time.monotonic()
            if waiting != busy or waiting != before or any(not self.hands[p].busy for p in waiting):
                before, since = waiting, now
            elif now - since > max(self.settles_s, longer_s):
                return waiting
            if now - began > limit_s:
                raise TimeoutError(f"a statement neither waits nor ends: {busy - waiting}")
        return set()

    def close(self) -> None:
        """End every connection and drop the scratch space."""
        raise NotImplementedError


class PostgresqlBench(Bench):
    """Through psycopg; locks through ``pg_stat_activity``."""

    settles_s = 0.016

    def __init__(self, where: str, hands: int, schema: str = "enumerated") -> None:
        self.where, self.schema = where, schema
        self.control = psycopg.connect(where, autocommit=True)
        self.control.execute("set client_min_messages = error")
        self.connections: list[psycopg.Connection[Any]] = []
        super().__init__(hands)

    def _open(self, place: int) -> Hand:
        connection = psycopg.connect(self.where, autocommit=True)
        connection.prepare_threshold = None
        self.connections[place:] = [connection, *self.connections[place + 1 :]]

        def execute(sql: str) -> object:
            try:
                cursor = connection.execute(sql)
                if sql == "commit" and cursor.statusmessage == "ROLLBACK":
                    return ROLLED_BACK
                rows = sorted(map(repr, cursor.fetchall())) if cursor.description else None
                return (cursor.rowcount, rows)
            except psycopg.Error as error:
                if connection.closed or error.sqlstate == "57P01":
                    raise Failed("lost", str(error)) from error
                kinds = {
                    "40P01": "deadlock",
                    "40001": "refused",
                    "55P03": "timeout",
                    "57014": "timeout",
                }
                kind = kinds.get(error.sqlstate or "", "rejected")
                raise Failed(kind, str(error), error.sqlstate) from error

        return Hand(execute, connection.info.backend_pid)

    def _end(self, place: int) -> None:
        number = self.hands[place].number
        self.control.execute("select pg_terminate_backend(%s)", (number,))
        query = "select 1 from pg_stat_activity where pid = %s"
        while self.control.execute(query, (number,)).fetchone():
            time.sleep(0.001)

    def waiting(self) -> set[int]:
        numbers = [hand.number for hand in self.hands]
        query = "select pid from pg_stat_activity where pid = any(%s) and wait_event_type = 'Lock'"
        return {row[0] for row in self.control.execute(query, (numbers,))}

    def fresh(self, data: str) -> None:
        self._open_lost()
        for hand in self.hands:
            hand.send("rollback", "discard all", f"set search_path = {self.schema}", f"set deadlock_timeout = {DEADLOCK_CHECK_MS}")  # fmt: skip
        self.settle()
        s = self.schema
        self.control.execute(
            f"drop schema if exists {s} cascade; create schema {s}; set search_path = {s}; {data}"
        )

    def begin(
        self, level: str | None, *, going_on: bool = False, autocommit: bool = False
    ) -> tuple[str, ...]:
        if autocommit:
            return (f"set default_transaction_isolation = '{level or 'read committed'}'",)
        return (
            "reset default_transaction_isolation",
            f"begin isolation level {level}" if level else "begin",
        )

    def state(self, made: Mapping[str, int] = {}) -> object:
        query = (
            "select c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace "
            "where n.nspname = %s and c.relkind in ('r', 'm') order by 1"
        )
        names = [row[0] for row in self.control.execute(query, (self.schema,))]
        indexes = self.control.execute(
            "select indexdef from pg_indexes where schemaname = %s order by 1", (self.schema,)
        )
        rows = {
            n: _sorted(self.control.execute(f'select * from only "{n}"').fetchall(), made.get(n))
            for n in names
        }
        return (tuple(rows.items()), tuple(indexes.fetchall()))

    def true(self, sql: str) -> bool:
        row = self.control.execute(sql).fetchone()
        return bool(row and row[0])

    def close(self) -> None:
        self._open_lost()
        for hand, connection in zip(self.hands, self.connections, strict=True):
            connection.cancel()
            hand.stop()
            connection.close()
        self.control.execute(f"drop schema if exists {self.schema} cascade")
        self.control.close()


class MariadbBench(Bench):
    """Through PyMySQL; row locks through InnoDB's status, which is not cached, the others through
    the process list.
    """

    def __init__(self, socket: str, hands: int, schema: str = "enumerated") -> None:
        self.socket, self.schema = socket, schema
        self.control = self._connect()
        self.connections: list[Any] = []
        self._ask(f"create database if not exists {schema}")
        super().__init__(hands)

    def _connect(self) -> Any:
        flag = pymysql.constants.CLIENT.MULTI_STATEMENTS | pymysql.constants.CLIENT.FOUND_ROWS
        return over_socket(
            unix_socket=self.socket,
            user="root",
            autocommit=True,
            client_flag=flag,
            charset="utf8mb4",
            ssl_disabled=True,
        )

    def _ask(self, sql: str) -> list[Row]:
        cursor = self.control.cursor()
        cursor.execute(sql)
        rows = list(cursor.fetchall())
        while cursor.nextset():
            pass
        return rows

    def _open(self, place: int) -> Hand:
        connection = self._connect()
        self.connections[place:] = [connection, *self.connections[place + 1 :]]

        def execute(sql: str) -> object:
            try:
                cursor = connection.cursor()
                cursor.execute(sql)
                rows = sorted(map(repr, cursor.fetchall())) if cursor.description else None
                count = cursor.rowcount
                while cursor.nextset():
                    pass
                return (count, rows)
            except pymysql.Error as error:
                kinds = {
                    1213: "deadlock",
                    1205: "timeout",
                    3572: "timeout",
                    1969: "timeout",
                    1020: "refused",
                }
                if error.args[0] in (0, 1927, 2006, 2013, 4031):
                    raise Failed("lost", str(error)) from error
                kind = kinds.get(error.args[0], "rejected")
                raise Failed(kind, str(error), error.args[0]) from error

        return Hand(execute, connection.thread_id())

    def _end(self, place: int) -> None:
        number = self.hands[place].number
        self._ask(f"kill {number}")
        while self._ask(f"select 1 from information_schema.processlist where id = {number}"):
            time.sleep(0.001)

    def waiting(self) -> set[int]:
        busy = [str(hand.number) for hand in self.hands if hand.busy]
        if not busy:
            return set()
        found = set()
        for part in re.split(
            r"^---TRANSACTION",
            str(self._ask("show engine innodb status")[0][2]),
            flags=re.MULTILINE,
        ):
            number = re.search(r"^(?:MariaDB|MySQL) thread id (\d+)", part, re.MULTILINE)
            if number and re.search(r"^LOCK WAIT ", part, re.MULTILINE):
                found.add(int(number[1]))
        listed = f"select id from information_schema.processlist where id in ({', '.join(busy)}) and (state like 'Waiting for %lock%' or state = 'User lock')"  # fmt: skip
        return found | {int(row[0]) for row in self._ask(listed)}

    def fresh(self, data: str) -> None:
        self._open_lost()
        for hand in self.hands:
            hand.send("rollback", "set autocommit = 1")
        self.settle()
        self._ask(
            f"drop database {self.schema}; create database {self.schema}; use {self.schema}; {data}"
        )
        for hand in self.hands:
            hand.send(
                "select release_all_locks()",
                f"use {self.schema}",
                "set @a = null",
                "deallocate prepare p",
            )
        self.settle()

    def begin(
        self, level: str | None, *, going_on: bool = False, autocommit: bool = False
    ) -> tuple[str, ...]:
        return (
            f"set session transaction isolation level {level or 'repeatable read'}",
            f"set autocommit = {0 if going_on and not autocommit else 1}",
            *(() if autocommit else ("start transaction",)),
        )

    def state(self, made: Mapping[str, int] = {}) -> object:
        query = "select table_name from information_schema.tables where table_schema = '{}' and table_type = 'BASE TABLE' order by 1"  # fmt: skip
        names = [row[0] for row in self._ask(query.format(self.schema))]
        query = "select table_name, index_name, column_name from information_schema.statistics where table_schema = '{}' order by 1, 2, seq_in_index"  # fmt: skip
        indexes = tuple(self._ask(query.format(self.schema)))
        return (
            tuple((n, _sorted(self._ask(f"select * from `{n}`"), made.get(n))) for n in names),
            indexes,
        )

    def true(self, sql: str) -> bool:
        rows = self._ask(sql)
        return bool(rows and rows[0][0])

    def close(self) -> None:
        self._open_lost()
        for hand, connection in zip(self.hands, self.connections, strict=True):
            self._ask(f"kill {hand.number}")
            hand.stop()
            connection.close()
        self._ask(f"drop database if exists {self.schema}")
        self.control.close()


class MysqlBench(MariadbBench):
    """The same on MySQL: a thread of the server's own looks for deadlocks, a moment later, and
    InnoDB's status leaves out who has only read, even if he waits.
    """

    settles_s = 0.04

    def waiting(self) -> set[int]:
        busy = ", ".join(str(hand.number) for hand in self.hands if hand.busy)
        if not busy:
            return set()
        query = (
            f"select t.processlist_id from performance_schema.threads t where t.processlist_id in ({busy}) and "
            "(t.processlist_state like 'Waiting for %lock%' or t.processlist_state = 'User lock' or exists (select 1 from "
            "performance_schema.data_locks l join performance_schema.data_locks own on own.lock_type = 'TABLE' and "
            "own.engine_transaction_id = l.engine_transaction_id where own.thread_id = t.thread_id and l.lock_status = 'WAITING'))"
        )
        return {int(row[0]) for row in self._ask(query)}


def _sorted(rows: Iterable[Row], without: int | None) -> tuple[str, ...]:
    return tuple(
        sorted(repr([v for place, v in enumerate(row) if place != without]) for row in rows)
    )


def bench_on(server: str, sockets: str, hands: int, schema: str = "enumerated") -> Bench:
    """A bench on a private server, by its folder of sockets."""
    if server == "postgresql":
        return PostgresqlBench(f"host={sockets} user=catenum dbname=marrowgate", hands, schema)
    made = MysqlBench if server == "mysql" else MariadbBench
    return made(str(Path(sockets) / "server.sock"), hands, schema)


@functools.cache
def kept_sockets(server: str) -> str:
    """The folder of sockets of the private server that stays, which is started where it does not
    run.
    """
    command = [str(Path(sys.executable).with_name("catenum")), "local"]
    target = ("--target", f"local:{server}")
    subprocess.run([*command, "start", *target], check=False, capture_output=True)
    status = subprocess.run(
        [*command, "status", *target, "--json"], check=True, capture_output=True, text=True
    )
    (found,) = json.loads(status.stdout)["servers"]
    return found["sockets"]
