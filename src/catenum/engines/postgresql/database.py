"""A store in a PostgreSQL database: one schema, any number of watches that write and people who
read.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import psycopg
from psycopg.rows import dict_row

from catenum.engines.clock import Clock
from catenum.engines.ports.database import DatabaseFault

SCHEMA = "catenum_history"
#: How long (s) connecting may take; how long (ms) a statement may, of one who writes and of one who
#: reads.
CONNECT_S, WRITE_MS, READ_MS = 5, 5_000, 120_000
#: After a failure the server is left alone for so long (ms).
PAUSE_MS = 2_000.0
#: First part of the advisory locks that watches hold (the second is a hash of the server's name);
#: and of the one who changes the schema.
CLAIM, CHANGE = 0x63617465, 0x6E756D
#: Bytes that a row takes at about, with its indexes; recordings are counted as they are.
_ROWS = {
    "incident": 900,
    "head": 400,
    "wait_pair": 400,
    "log_wait": 400,
    "minute": 220,
    "rate": 250,
    "deadlock": 2_000,
    "gap": 150,
    "release": 500,
}
_OWN_SIZE = """
select coalesce(sum(octet_length(recording)), 0)::bigint as bytes from incident
"""
_COUNTS = """
select relname as name, greatest(n_live_tup, 0) as live from pg_stat_user_tables
where schemaname = 'catenum_history'
"""


class PostgresqlDatabase:
    """One connection, made when it is needed, and again where it was lost."""

    kind, shared = "postgresql", True

    def __init__(self, url: str, shown: str, *, writes: bool) -> None:
        self._url, self.shown, self._writes = url, shown, writes
        self._connection: psycopg.Connection[dict[str, Any]] | None = None
        self._claimed: set[str] = set()
        self._clock = Clock()
        self._again_ms = 0.0
        self._why = ""

    # -- the connection ----------------------------------------------------------------------------

    @property
    def connection(self) -> psycopg.Connection[dict[str, Any]]:
        """Raises DatabaseFault; soon after a failure without asking the server again."""
        if self._connection is not None and not self._connection.closed:
            return self._connection
        if self._clock.now_ms() < self._again_ms:
            raise DatabaseFault(self._why)
        try:
            self._connection = self._connect()
        except psycopg.Error as error:
            raise self._fault(error) from error
        return self._connection

    def _connect(self) -> psycopg.Connection[dict[str, Any]]:
        limit = WRITE_MS if self._writes else READ_MS
        settings = {
            "statement_timeout": limit,
            "lock_timeout": limit,
            "idle_in_transaction_session_timeout": 4 * limit,
            "search_path": SCHEMA,
            "timezone": "UTC",
        }
        connection = psycopg.connect(
            self._url,
            autocommit=True,
            row_factory=dict_row,
            connect_timeout=CONNECT_S,
            application_name="catenum history",
            options=" ".join(f"-c {name}={value}" for name, value in settings.items()),
            keepalives_idle=10,
            keepalives_interval=5,
            keepalives_count=3,
            tcp_user_timeout=WRITE_MS if self._writes else 0,
        )
        for name in self._claimed:  # they went with the connection
            self._take(connection, name)
        return connection

    def _fault(self, error: psycopg.Error) -> DatabaseFault:
        """After it the connection is made anew; not at once where the server cannot be had."""
        lost = self._connection is None or self._connection.closed or self._connection.broken
        cancelled = isinstance(error, psycopg.errors.QueryCanceled)
        text = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
        if lost or cancelled:
            self.close()
            self._again_ms, self._why = self._clock.now_ms() + PAUSE_MS, text
        refused = isinstance(
            error,
            psycopg.errors.InsufficientPrivilege
            | psycopg.errors.InvalidCatalogName
            | psycopg.errors.InvalidPassword
            | psycopg.ProgrammingError,
        )
        return DatabaseFault(text, refused=refused)

    def close(self) -> None:
        """Never raises."""
        connection, self._connection = self._connection, None
        if connection is not None:
            with contextlib.suppress(psycopg.Error):
                connection.close()

    def claim(self, name: str) -> bool:
        """Whether this is the only connection that writes under a name; until it is closed."""
        if name not in self._claimed:
            if not self._take(self.connection, name):
                return False
            self._claimed.add(name)
        return True

    def _take(self, connection: psycopg.Connection[dict[str, Any]], name: str) -> bool:
        query = "select pg_try_advisory_lock(%s, hashtext(%s)) as taken"
        try:
            row = connection.execute(query, (CLAIM, name)).fetchone()
        except psycopg.Error as error:
            raise self._fault(error) from error
        return bool(row and row["taken"])

    # -- statements --------------------------------------------------------------------------------

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All that is done in the block is written, or nothing where it raises."""
        connection = self.connection
        try:
            with connection.transaction():
                yield
        except psycopg.Error as error:
            raise self._fault(error) from error

    def execute(self, sql: str, values: Sequence[object] = ()) -> int:
        """Gives how many rows were changed."""
        try:
            return self.connection.execute(_theirs(sql), values or None).rowcount
        except psycopg.Error as error:
            raise self._fault(error) from error

    def many(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """The same statement with one row of values after another."""
        try:
            with self.connection.cursor() as cursor:
                cursor.executemany(_theirs(sql), rows)
        except psycopg.Error as error:
            raise self._fault(error) from error

    def insert(self, table: str, row: Mapping[str, object]) -> int:
        """Enter a row by its columns' names; gives its ``id``, where it has one."""
        names = ", ".join(f'"{name}"' for name in row)
        marks = ", ".join(["?"] * len(row))
        sql = f"insert into {table} ({names}) values ({marks}) returning *"
        found = self.rows(sql, tuple(row.values()))
        return int(found[0].get("id") or 0)

    def rows(self, sql: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
        """What a query gives, by the names of its columns."""
        try:
            return self.connection.execute(_theirs(sql), values or None).fetchall()
        except psycopg.Error as error:
            raise self._fault(error) from error

    def joined(self, what: str, by: str) -> str:
        """SQL for texts of several rows as one, in an order."""
        return f"string_agg({what}, '; ' order by {by})"

    def size(self) -> int:
        """Bytes of what is stored, at about: what deleted rows took stays with their tables."""
        (own,) = self.rows(_OWN_SIZE)
        counts = {row["name"]: row["live"] for row in self.rows(_COUNTS)}
        rows = sum(int(counts.get(name, 0)) * each for name, each in _ROWS.items())
        return int(own["bytes"]) + rows

    def tidy(self) -> None:
        """The server's own vacuum does it."""

    # -- the schema --------------------------------------------------------------------------------

    def version(self) -> int:
        """That of the store; 0 where there is none."""
        found = self.rows("select to_regclass('catenum_history.version') is not null as made")
        if not found[0]["made"]:
            return 0
        (row,) = self.rows("select number from version")
        return int(row["number"])

    @contextlib.contextmanager
    def changing(self) -> Iterator[int]:
        """Alone with the schema, which is made where it is not there; gives its version. What the
        block does is written with ``noted``, or nothing.
        """
        with self.transaction():
            self.execute("select pg_advisory_xact_lock(?)", (CLAIM << 32 | CHANGE,))
            version = self.version()
            if version == 0:
                self.execute(f"create schema if not exists {SCHEMA}")
                self.execute("create table version (number int not null)")
                self.execute("insert into version values (0)")
            yield version

    def noted(self, version: int) -> None:
        """Write down the version."""
        self.execute("update version set number = ?", (version,))
        if version:
            # packed already: its length is known without reading it
            self.execute("alter table incident alter column recording set storage external")


def _theirs(sql: str) -> str:
    return re.sub(r"\?", "%s", sql.replace("%", "%%")) if "?" in sql else sql
