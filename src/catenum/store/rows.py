"""Rows changed by their columns' names; what queries give is typed in
``core.snapshot.history_rows``.
"""

from __future__ import annotations

from collections.abc import Mapping

from catenum.engines.ports.database import Database


def update(database: Database, table: str, number: int | None, row: Mapping[str, object]) -> None:
    """Change columns of a row. Raises DatabaseFault."""
    changed = ", ".join(f'"{name}" = ?' for name in row)
    database.execute(f"update {table} set {changed} where id = ?", (*row.values(), number))
