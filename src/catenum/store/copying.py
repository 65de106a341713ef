"""A store moved to another place: a file to a server's database, or back."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from catenum.core.errors import InputError, SaveError
from catenum.core.text import listed
from catenum.engines.ports.database import Database, DatabaseFault
from catenum.store.schema import TABLES
from catenum.store.store import Store

#: Rows that are read and written at once.
AT_ONCE = 1_000
Progress = Callable[[int, int, str], None]


def copy(source: Store, target: Store, progress: Progress) -> dict[str, int]:
    """Copy all rows, in one transaction, and give how many of each table. Raises InputError where
    the target has rows of one of these servers already; SaveError.
    """
    names = [row["name"] for row in source.rows("select name from server order by name")]
    known = {row["name"] for row in target.rows("select name from server")}
    both = [name for name in names if name in known]
    if both:
        raise InputError(
            f"{target.shown} has something of {listed(both)} already",
            advice="Copy to a store of its own, so that nothing is there twice.",
        )
    try:
        with target.database.transaction():
            return _Copying(source.database, target.database, progress).run()
    except DatabaseFault as error:
        raise SaveError(f"cannot copy {source.shown} to {target.shown}: {error}") from error


class _Copying:
    """Copies with other numbers: those of the target may be in use."""

    def __init__(self, source: Database, target: Database, progress: Progress) -> None:
        self.source, self.target, self.progress = source, target, progress
        self.numbers: dict[str, dict[int, int]] = {"server": {}, "incident": {}}

    def run(self) -> dict[str, int]:
        done: dict[str, int] = {}
        sizes = {table: self._count(table) for table in TABLES}
        total, copied = sum(sizes.values()), 0
        for table in TABLES:
            for rows in self._rows(table, sizes[table]):
                self._write(table, rows)
                copied += len(rows)
                self.progress(copied, total, table)
            done[table] = sizes[table]
        return done

    def _count(self, table: str) -> int:
        (row,) = self.source.rows(f"select count(*) as n from {table}")
        return int(row["n"])

    def _rows(self, table: str, size: int) -> Iterator[list[dict[str, Any]]]:
        """All rows in parts, in the order of what is unique in them."""
        if table in ("head", "wait_pair", "log_wait"):
            every = sorted(self.numbers["incident"])
            for start in range(0, len(every), AT_ONCE):
                numbers = every[start : start + AT_ONCE]
                marks = ", ".join(["?"] * len(numbers))
                found = self.source.rows(
                    f"select * from {table} where incident in ({marks})", numbers
                )
                if found:
                    yield found
            return
        order = {
            "minute": "server, minute, shape",
            "hour": "server, hour",
            "rate": "server, shape, since",
            "watched": "server",
        }.get(table, "id")
        columns = order.split(", ")
        after: tuple[object, ...] = ()
        for _ in range(size // AT_ONCE + 1):
            where = f"where ({order}) > ({', '.join(['?'] * len(columns))})" if after else ""
            found = self.source.rows(
                f"select * from {table} {where} order by {order} limit {AT_ONCE}", after
            )
            if not found:
                return
            after = tuple(found[-1][name] for name in columns)
            yield found

    def _write(self, table: str, rows: list[dict[str, Any]]) -> None:
        for row in rows:
            number = row.pop("id", None)
            for name in ("server", "incident"):
                if name in row and name != table:
                    row[name] = self.numbers[name].get(row[name], row[name])
            if table in self.numbers and number is not None:
                self.numbers[table][number] = self.target.insert(table, row)
        if table not in self.numbers and rows:
            names = ", ".join(f'"{name}"' for name in rows[0])
            marks = ", ".join(["?"] * len(rows[0]))
            sql = f"insert into {table} ({names}) values ({marks})"
            self.target.many(sql, [tuple(row.values()) for row in rows])
