"""Row locks, which PostgreSQL keeps in the rows themselves: whose they are, in which mode, and the
row's key.

``pgrowlocks`` reads them where it is installed; otherwise ``xmax`` with
``pg_get_multixact_members`` does (documentation, F.28 and 9.26.8). Apart from ``locks`` because
here tables are read, there only the server's lock table.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import psycopg
from psycopg import sql

from catenum.core.record.modes import Mode
from catenum.core.record.recording import LockEntry, TableKeys
from catenum.core.record.waits import Key, Resource, key_text
from catenum.core.servers.postgresql import ROW_MODE_ALIASES

#: The mode of a row lock that one transaction holds alone, where pgrowlocks is not there to read it
#: from the row's flags.
NOT_TOLD = Mode("other", "mode not reported")
_BIG_TABLE_PAGES = 2_000


class RowReader:
    """Reads rows of one scratch space over the control connection."""

    def __init__(
        self, connection: psycopg.Connection[Any], schema: str, rowlocks_schema: str | None
    ) -> None:
        self.connection, self.schema, self.rowlocks_schema = connection, schema, rowlocks_schema
        self.tables: dict[str, TableKeys] = {}
        self._keys: dict[tuple[str, int, int], Key] = {}

    def forget(self) -> None:
        """The data was loaded again: row addresses mean other rows now."""
        self._keys.clear()

    def primary(self, table: str) -> tuple[str, ...]:
        """The columns of the table's primary key."""
        return self.tables.get(table, TableKeys(primary=())).primary

    def at(
        self, table: str, page: int, slot: int, *, known: bool = True
    ) -> tuple[Resource, str | None]:
        """The row at an address, by its key, and its ``xmax``.

        ``known`` allows an answer from memory, without ``xmax``; a row version that has died is
        known from memory only.
        """
        place = (table, page, slot)
        if known and place in self._keys:
            return row_resource(table, self._keys[place]), None
        columns, xmax = self.primary(table), None
        if columns:
            query = sql.SQL("select xmax::text, {} from {} where ctid = %s::tid").format(
                _texts(columns), sql.Identifier(self.schema, table)
            )
            for found, *values in self._try(query, [f"({page},{slot})"]):
                xmax, self._keys[place] = found, key_of(columns, values)
        if place in self._keys:
            return row_resource(table, self._keys[place]), xmax
        return Resource(kind="row", text=f"{table}(row {slot} of page {page})", table=table), None

    def locked(self, table: str) -> Iterator[tuple[Resource, dict[str, Mode]]]:
        """The rows of ``table`` that somebody has locked or written, with the transactions' ids and
        modes.
        """
        columns = self.primary(table)
        if not columns or self.pages(table) > _BIG_TABLE_PAGES:
            return
        query = sql.SQL("select xmax::text, {} from {} where xmax <> '0'::xid").format(
            _texts(columns), sql.Identifier(self.schema, table)
        )
        for xmax, *values in self._try(query):
            yield (
                row_resource(table, key_of(columns, values)),
                {xmax: NOT_TOLD, **self.members(xmax)},
            )

    def members(self, xmax: str) -> dict[str, Mode]:
        """Transactions and their modes, where ``xmax`` stands for several; empty where it is one
        transaction's id.
        """
        rows = self._try(
            sql.SQL("select xid::text, mode from pg_get_multixact_members(%s::xid)"), [xmax]
        )
        return {xid: _row_mode(mode) for xid, mode in rows}

    def pages(self, table: str) -> int:
        """The table's size in pages."""
        query = sql.SQL("select pg_relation_size(%s) / current_setting('block_size')::int")
        rows = self._try(query, [f'"{self.schema}"."{table}"'])
        return int(rows[0][0]) if rows else 0

    def entries(
        self, table: str, owners: Mapping[str, str], everyone: Mapping[int, str]
    ) -> tuple[list[LockEntry], str | None]:
        """Every row lock on ``table`` that a session of the run has, and a note where they cannot
        be listed.

        ``owners`` maps transaction ids, ``everyone`` process numbers to names.
        """
        if not self.primary(table):
            return [], f"rows of {table} not listed: it has no primary key"
        pages = self.pages(table)
        if pages > _BIG_TABLE_PAGES:
            return [], f"rows of {table} not listed: {pages} pages would have to be read"
        if self.rowlocks_schema is not None:
            return self._from_pgrowlocks(table, everyone), None
        found = [
            LockEntry(transaction=owners[xid], resource=resource, mode=mode, granted=True)
            for resource, lockers in self.locked(table)
            for xid, mode in lockers.items()
            if xid in owners
        ]
        return found, None

    def _from_pgrowlocks(self, table: str, everyone: Mapping[int, str]) -> list[LockEntry]:
        columns = self.primary(table)
        query = sql.SQL(
            "select l.pids, l.modes, {} from {}(%s) l join {} t on t.ctid = l.locked_row"
        ).format(
            _texts(columns, "t"),
            sql.Identifier(self.rowlocks_schema or "", "pgrowlocks"),
            sql.Identifier(self.schema, table),
        )
        entries = []
        for pids, modes, *values in self._try(query, [f'"{self.schema}"."{table}"']):
            resource = row_resource(table, key_of(columns, values))
            for pid, mode in zip(pids, modes, strict=True):
                if pid in everyone:
                    name = _row_mode(mode)
                    entries.append(
                        LockEntry(
                            transaction=everyone[pid], resource=resource, mode=name, granted=True
                        )
                    )
        return entries

    def _try(self, query: sql.Composable, values: list[str] | None = None) -> list[tuple[Any, ...]]:
        """Rows, or none where looking would have to wait (it never queues behind anybody for long)
        or is not available.

        An ``xmax`` that is no multixact is asked about as if it were one, since only the row's
        flags would tell; the server then answers with an internal error.
        """
        try:
            rows: list[tuple[Any, ...]] = self.connection.execute(
                sql.Composed([query]), values, prepare=True
            ).fetchall()
            return rows
        except (
            psycopg.errors.LockNotAvailable,
            psycopg.DataError,
            psycopg.InternalError,
            psycopg.ProgrammingError,
        ):
            return []


def row_resource(table: str, key: Key) -> Resource:
    """A row as people read it: ``berth(id=7)``."""
    return Resource(kind="row", text=f"{table}({key_text(key)})", table=table, key=key)


def key_of(columns: Iterable[str], values: Iterable[str | None]) -> Key:
    """A row's key: its columns with their values."""
    return tuple(zip(columns, values, strict=True))


def _row_mode(word: str) -> Mode:
    return ROW_MODE_ALIASES.get(word.lower()) or Mode("row", word)


def _texts(columns: tuple[str, ...], alias: str | None = None) -> sql.Composed:
    """Columns as texts. A collation of the scenario's own is another one each time its data is
    loaded, and a statement that was prepared with the former ends in an error: so the texts have
    the server's.

    By the output functions, which are the server's own, and not by a cast, which a scenario may
    have made; as a cast would have it, ``true`` is written out, and ``char(n)`` is not padded.
    """
    prefix = [alias] if alias else []
    text = sql.SQL(
        "case pg_catalog.pg_typeof({0})::oid when 16 then case pg_catalog.concat({0}) when 't' then"
        " 'true' else 'false' end when 1042 then pg_catalog.rtrim(pg_catalog.concat({0}), ' ') else"
        ' pg_catalog.concat({0}) end collate "C"'
    )
    return sql.SQL(", ").join(text.format(sql.Identifier(*prefix, column)) for column in columns)
