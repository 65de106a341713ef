"""Rows entered by their columns' names; what queries give is typed in
``core.snapshot.history_rows``.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping


def insert(connection: sqlite3.Connection, table: str, row: Mapping[str, object]) -> int | None:
    """Enter a row by its columns' names; gives its number. Raises sqlite3.Error."""
    named = ", ".join(f":{name}" for name in row)
    return connection.execute(
        f"insert into {table} ({', '.join(row)}) values ({named})", row
    ).lastrowid


def update(
    connection: sqlite3.Connection, table: str, number: int | None, row: Mapping[str, object]
) -> None:
    """Change columns of a row. Raises sqlite3.Error."""
    changed = ", ".join(f"{name} = :{name}" for name in row)
    connection.execute(
        f"update {table} set {changed} where id = :number", {**row, "number": number}
    )
