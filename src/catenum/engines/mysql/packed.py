"""Rows of many values as one text each: the driver takes longer over a value than the server over a row.

What may contain any sign, such as the text of a statement, must be the last of a row's values.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

Query = Callable[..., list[tuple[Any, ...]]]

#: Signs that stand in no name and no number of the server: between two values, and in place of NULL.
_BETWEEN, _NULL = "\x1f", "\x1e"


def select(columns: Sequence[str], rest: str) -> str:
    """A query that gives ``columns`` as one text."""
    values = ", ".join(f"coalesce({column}, _utf8mb4 0x1e)" for column in columns)
    return f"select concat_ws(_utf8mb4 0x1f, {values}) {rest}"


def rows(query: Query, sql: str, columns: Sequence[str]) -> Iterator[list[str | None]]:
    """The values of each row of such a query."""
    for (text,) in query(sql):
        yield [None if value == _NULL else value for value in str(text).split(_BETWEEN, len(columns) - 1)]
