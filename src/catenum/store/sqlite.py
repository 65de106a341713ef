"""A store in a file, by SQLite: write-ahead logging, one writer (an advisory lock beside the file),
any number of readers.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import sqlite3
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import IO, Any

from catenum.core.errors import InputError
from catenum.engines.ports.database import DatabaseFault
from catenum.store.schema import VERSION, migrate


class SqliteDatabase:
    """One connection to a file."""

    shared = False
    types: Mapping[str, str] = {
        "id": "integer primary key",
        "int": "integer",
        "long": "integer",
        "real": "real",
        "bytes": "blob",
        "text": "text",
        "time": "text",
        "rowless": "without rowid",
    }

    def __init__(self, path: Path, lock: IO[str] | None = None) -> None:
        """Opens the file, and makes the tables where they are not there. Raises DatabaseFault;
        InputError for a version of another time.
        """
        self.path, self._lock = path, lock
        try:
            self.connection = _open(path)
        except sqlite3.DatabaseError as error:
            raise _fault(error) from error
        try:
            self._prepare()
        except BaseException:
            self.connection.close()
            raise

    @property
    def shown(self) -> str:
        return str(self.path)

    def _prepare(self) -> None:
        (version,) = self._one("pragma user_version")
        if version not in (0, *range(2, VERSION + 1)):
            raise InputError(
                f"the store {self.path} is of version {version}, this Catenum writes version"
                f" {VERSION}",
                advice="Move it away, or name another with --store.",
            )
        for setting in ("auto_vacuum = incremental", "journal_mode = wal", "synchronous = normal"):
            self._one(f"pragma {setting}")
        self._one("pragma foreign_keys = on")
        self._one("select count(*) from sqlite_master")
        if version != VERSION:
            with self.transaction():  # two that open a new store at once: the second finds it made
                self.execute("begin immediate")
                (version,) = self._one("pragma user_version")
                migrate(self, int(version))
                self.execute(f"pragma user_version = {VERSION}")

    def _one(self, sql: str) -> tuple[Any, ...]:
        try:
            return tuple(self.connection.execute(sql).fetchone() or ())
        except sqlite3.Error as error:
            raise _fault(error) from error

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All that is done in the block is written, or nothing where it raises."""
        try:
            with self.connection:
                yield
        except sqlite3.Error as error:
            raise _fault(error) from error

    def execute(self, sql: str, values: Sequence[object] = ()) -> int:
        """Gives how many rows were changed."""
        try:
            return self.connection.execute(sql, values).rowcount
        except sqlite3.Error as error:
            raise _fault(error) from error

    def many(self, sql: str, rows: Iterable[Sequence[object]]) -> None:
        """The same statement with one row of values after another."""
        try:
            self.connection.executemany(sql, rows)
        except sqlite3.Error as error:
            raise _fault(error) from error

    def insert(self, table: str, row: Mapping[str, object]) -> int:
        """Enter a row by its columns' names; gives its ``id``."""
        names = ", ".join(f'"{name}"' for name in row)
        sql = f"insert into {table} ({names}) values ({', '.join('?' * len(row))})"
        try:
            number = self.connection.execute(sql, tuple(row.values())).lastrowid
        except sqlite3.Error as error:
            raise _fault(error) from error
        return number or 0

    def rows(self, sql: str, values: Sequence[object] = ()) -> list[dict[str, Any]]:
        """What a query gives, by the names of its columns."""
        try:
            cursor = self.connection.execute(sql, values)
            names = [column[0] for column in cursor.description]
            return [dict(zip(names, row, strict=True)) for row in cursor]
        except sqlite3.Error as error:
            raise _fault(error) from error

    def check(self) -> None:
        """Have SQLite look through the file: pages that were damaged at rest are met only when they
        are read. Raises DatabaseFault.
        """
        (reported,) = self._one("pragma quick_check(1)")
        if reported != "ok":
            raise DatabaseFault(str(reported), damaged=True)

    def joined(self, what: str, by: str) -> str:
        """SQL for texts of several rows as one; their order is that of the rows."""
        return f"group_concat({what}, '; ')"

    def size(self) -> int:
        """Bytes of the pages that are in use."""
        pages, free, size = (
            int(self._one(f"pragma {what}")[0])
            for what in ("page_count", "freelist_count", "page_size")
        )
        return (pages - free) * size

    def tidy(self) -> None:
        """Give free pages back to the file system."""
        self.execute("pragma incremental_vacuum")

    def claim(self, name: str) -> bool:
        """The lock beside the file is for all names."""
        return True

    def close(self) -> None:
        """Close, and let another one write."""
        with contextlib.suppress(sqlite3.Error):
            self.connection.close()
        if self._lock is not None:
            self._lock.close()


def locked(path: Path) -> IO[str] | None:
    """The lock of the one who writes to a store; None where another has it. Raises OSError."""
    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    number = os.open(f"{path}.lock", os.O_CREAT | os.O_WRONLY, 0o600)
    lock = os.fdopen(number, "w", encoding="utf-8")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        lock.close()
        return None
    return lock


def _open(path: Path) -> sqlite3.Connection:
    """SQLite gives the files beside a store the rights of the store; it is for its owner alone."""
    with contextlib.suppress(OSError):  # then SQLite says what is wrong
        os.close(os.open(path, os.O_CREAT | os.O_RDWR, 0o600))
    return sqlite3.connect(path, timeout=5.0, isolation_level="IMMEDIATE", check_same_thread=False)


def _fault(error: sqlite3.Error) -> DatabaseFault:
    """``damaged`` where SQLite itself says so (its documentation, "Result and Error Codes")."""
    code = getattr(error, "sqlite_errorcode", None)
    damaged = isinstance(error, sqlite3.DatabaseError) and (
        code is None or code & 0xFF in (sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB)
    )
    return DatabaseFault(str(error), damaged=damaged)
