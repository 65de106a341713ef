"""Rows of many values as one text each: the driver takes longer over a value than the server over a
row.

What may contain any sign, such as the text of a statement, must be the last of a row's values.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

Query = Callable[..., list[tuple[Any, ...]]]

#: Signs that stand in no name and no number of the server: between two values, in place of NULL, at
#: the end of a row.
_BETWEEN, _NULL, _ROW = "\x1f", "\x1e", "\x1d"
#: Without it the server cuts what it puts together after 1,024 bytes (MySQL Reference Manual,
#: "group_concat_max_len").
WHOLE = "group_concat_max_len = 1073741824"


def select(columns: Sequence[str], rest: str) -> str:
    """A query that gives ``columns`` as one text."""
    return f"select {_packed(columns)} {rest}"


def _packed(columns: Sequence[str]) -> str:
    values = ", ".join(f"coalesce({column}, _utf8mb4 0x1e)" for column in columns)
    return f"concat_ws(_utf8mb4 0x1f, {values})"


def rows(query: Query, sql: str, columns: Sequence[str]) -> Iterator[list[str | None]]:
    """The values of each row of such a query."""
    for (text,) in query(sql):
        yield _values(text, len(columns))


def together(query: Query, columns: Sequence[str], rest: str) -> list[list[str | None]]:
    """The same for rows that are not too many, sent as one text; row by row where that text is not
    what it should be: it was cut, or a value contains the sign that ends a row. The session should
    have ``WHOLE`` set.
    """
    whole = (  # each row ends so, if not cut
        f"group_concat(concat({_packed(columns)}, _utf8mb4 0x1d) separator '')"
    )
    number, text = query(f"select count(*), {whole} {rest}")[0]
    parts = str(text).split(_ROW) if text is not None else [""]
    if len(parts) == int(number) + 1 and not parts[-1]:
        return [_values(part, len(columns)) for part in parts[:-1]]
    return list(rows(query, select(columns, rest), columns))


def _values(text: str, number: int) -> list[str | None]:
    return [None if value == _NULL else value for value in str(text).split(_BETWEEN, number - 1)]
