"""Which row was waited for, by what a server still has of it: read only, within the limits of the
connection.

A row's address holds until the row is updated. Then its old version stands there, unseen, until it
is cleaned up, and names the place of the next one (PostgreSQL documentation, 73.6 "Database Page
Layout"; F.25 "pageinspect"). Transactions are numbered in the order in which they first wrote,
modulo 2^32 (25.1.5).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import psycopg
from psycopg import sql

from catenum.core.logs.traces import Trace
from catenum.core.record.waits import key_text
from catenum.engines.postgresql import wal

_CIRCLE = 1 << 32
_KEY = """
select a.attname from pg_index i join pg_attribute a on a.attrelid = i.indrelid
  and a.attnum = any(i.indkey)
where i.indrelid = %s::regclass and i.indisprimary order by array_position(i.indkey::int2[],
  a.attnum)
"""
_INSPECTS = """
select n.nspname from pg_extension e join pg_namespace n on n.oid = e.extnamespace
  where e.extname = 'pageinspect'
"""
#: Rows of one transaction that are listed.
MOST_ROWS = 5


def traced(
    connection: psycopg.Connection,
    schema: str,
    table: str,
    address: str | None,
    numbers: Sequence[int],
) -> Trace:
    """Look for the row of ``table`` that stood at ``address`` when these transactions met, and for
    those that the first of them wrote.
    """
    found = Trace()
    name = sql.Identifier(schema, table)
    try:
        key = [
            str(row[0]) for row in connection.execute(_KEY, [name.as_string(connection)]).fetchall()
        ]
        if not key:
            found.tried.append(f"{table} has no primary key by which a row could be named")
            return found
        lookup = _Lookup(connection, table, name, key, numbers, found)
        if address is not None and numbers:
            found.tried += lookup.at(address)
        if found.row is None and numbers:
            found.tried.append(lookup.written())
    except psycopg.Error as error:
        found.tried.append(f"{table}: {str(error).strip().splitlines()[0]}")
    return found


@dataclass(frozen=True)
class _Lookup:
    """One row that is looked for: in which table, by which key, of which transactions; what is
    found goes to ``found``.
    """

    connection: psycopg.Connection
    table: str
    name: sql.Identifier
    key: Sequence[str]
    numbers: Sequence[int]
    found: Trace

    def written(self) -> str:
        """The rows that a transaction wrote and that still stand: what is waited for may be one of
        them, or another.
        """
        number = self.numbers[0]
        query = sql.SQL("select {} from {} where xmin::text = %s limit %s").format(
            _columns(self.key), self.name
        )
        rows = self.connection.execute(query, [str(number % _CIRCLE), MOST_ROWS]).fetchall()
        if not rows:
            return f"no row of {self.table} stands that transaction {number} wrote"
        listed = ", ".join(self._named(row) for row in rows)
        return f"of what transaction {number} wrote to {self.table} there stands {listed}"

    def at(self, address: str) -> Iterator[str]:
        """The row at an address, if it is the same version still; else, by the page, the version
        that replaced it.
        """
        row = self._row_at(address)
        if row is not None and _older(int(row[0]), self.numbers):
            self.found.row = self._named(row[1:])
            yield f"what stands at {address} of {self.table} is as old as that: {self.found.row}"
            return
        now = "no row is seen any more" if row is None else "a later row stands"
        yield f"at {address} of {self.table} {now}"
        yield from self._by_page(address)
        if self.found.row is None:
            yield from self._by_log(address)

    def _by_page(self, address: str) -> Iterator[str]:
        """By the page, which has the old version until it is cleaned up."""
        inspects = self.connection.execute(_INSPECTS).fetchall()
        if not inspects:
            yield (
                "the extension pageinspect, which would show the version that was replaced, is not"
                " installed"
            )
            return
        block, line = _place(address)
        items = self.connection.execute(
            sql.SQL(
                "select t_xmin::text, t_xmax::text, t_ctid::text from {}({}(%s, %s)) where lp = %s"
            ).format(
                sql.Identifier(str(inspects[0][0]), "heap_page_items"),
                sql.Identifier(str(inspects[0][0]), "get_raw_page"),
            ),
            [self.name.as_string(self.connection), block, line],
        ).fetchall()
        if not items or items[0][0] is None or not _older(int(items[0][0]), self.numbers):
            yield "the page has no version any more that is as old as that"
            return
        _, ended, following = items[0]
        row = self._row_at(following)
        ours = {number % _CIRCLE for number in self.numbers}
        if row is not None and ended == row[0] and int(ended) in ours:
            self.found.row = self._named(row[1:])
            yield (
                f"by the page, transaction {ended} replaced it with the row that is now"
                f" {self.found.row}"
            )
        else:
            yield "by the page it was replaced, and what came of it is gone as well"

    def _by_log(self, address: str) -> Iterator[str]:
        """By the write-ahead log, from one version to the next."""
        try:
            with self.connection.transaction():
                moved = wal.moves(self.connection, self.name.as_string(self.connection))
        except wal.NotRead as reason:
            yield str(reason)
            return
        except psycopg.Error as error:
            yield f"the write-ahead log cannot be read: {str(error).strip().splitlines()[0]}"
            return
        ours = {number % _CIRCLE for number in self.numbers}
        chain = wal.followed(moved, _place(address), ours)
        if not chain:
            yield "the write-ahead log that is there has no change of it"
            return
        last = chain[-1]
        if last.now is None:
            yield f"by the write-ahead log, transaction {last.by} deleted it"
            return
        row = self._row_at(f"({last.now[0]},{last.now[1]})")
        if row is not None and int(row[0]) == last.by:
            self.found.row = self._named(row[1:])
            yield (
                f"by the write-ahead log, transaction {chain[0].by} replaced it with the row that"
                f" is now {self.found.row}"
            )
        else:
            yield (
                f"by the write-ahead log, transaction {last.by} replaced it last, and that version"
                " is gone as well"
            )

    def _row_at(self, address: str) -> tuple[Any, ...] | None:
        """The number of the transaction that wrote what stands there, and its key."""
        query = sql.SQL("select xmin::text, {} from {} where ctid = %s::tid").format(
            _columns(self.key), self.name
        )
        return self.connection.execute(query, [address]).fetchone()

    def _named(self, values: Sequence[str | None]) -> str:
        return f"{self.table}({key_text(tuple(zip(self.key, values, strict=True)))})"


def _place(address: str) -> tuple[int, int]:
    """Block and line of a row's address."""
    block, line = (int(part) for part in re.findall(r"\d+", address))
    return block, line


def _older(number: int, numbers: Sequence[int]) -> bool:
    """Whether a transaction came before all of these, on a circle of numbers."""
    return all(
        (other - number) % _CIRCLE < _CIRCLE // 2 and other % _CIRCLE != number for other in numbers
    )


def _columns(key: Sequence[str]) -> sql.Composed:
    return sql.SQL(", ").join(sql.SQL("{}::text").format(sql.Identifier(column)) for column in key)
