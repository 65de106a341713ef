"""Tables made up from a conflict alone: what its statements name, what its records show, what its
locks imply.

Nothing here is known: a scenario that rests on it says so.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from catenum.core.logs.conflicts import Conflict
from catenum.core.logs.tables import Schema, inferred
from catenum.core.servers import Rules
from catenum.core.sql.named_values import NamedValue, named_columns, named_values


@dataclass(frozen=True, slots=True)
class Reference:
    """A foreign key that would explain a lock: rows of ``table`` name one of ``parent`` by
    ``column``.
    """

    table: str
    column: str
    parent: str
    key: str

    def __str__(self) -> str:
        return f"{self.table}.{self.column} references {self.parent} ({self.key})"


def tables_of_conflict(
    conflict: Conflict, texts: Mapping[str, Sequence[str]], rules: Rules, tables: Sequence[str]
) -> tuple[Schema, list[Reference]]:
    """Definitions of ``tables``, and the foreign keys among them that the conflict's locks speak
    for.
    """
    statements = [sql for sqls in texts.values() for sql in sqls]
    columns, keys = _named(statements, rules, tables)
    for table in tables:
        shown = _shown_key(conflict, table)
        if shown:
            keys[table] = _key_among(keys[table], statements, table, shown, rules)
    by_table = {
        table: own[0]
        for table in tables
        if len(own := keys[table] or list(columns[table])[:1]) == 1
    }
    references = list(dict.fromkeys(_references(conflict, rules, by_table, columns)))
    return inferred(
        columns, keys, [(r.table, r.column, r.parent, r.key) for r in references]
    ), references


def _shown_key(conflict: Conflict, table: str) -> tuple[str | None, ...]:
    """The key's values of a row of ``table``, as a report shows them; empty where none does."""
    for wait in conflict.waits:
        if (
            wait.index == "PRIMARY"
            and (wait.table or "").lower() == table.lower()
            and wait.key_fields
        ):
            return wait.record[: wait.key_fields]
    return ()


def _key_among(
    named: Sequence[str],
    statements: Sequence[str],
    table: str,
    shown: Sequence[str | None],
    rules: Rules,
) -> list[str]:
    """Of the columns by which rows are found those with the values of a key that was shown, in its
    order.
    """
    values = [
        value
        for sql in statements
        for value in named_values(sql, rules.sql.dialect)
        if value.table == table and value.use != "assigned"
    ]
    found = []
    for wanted in shown:
        own = (
            value.column for value in values if value.value == wanted and value.column not in found
        )
        column = next((column for column in own if column in named), None)
        if column is None:
            return list(named)[: len(shown)] if len(shown) < len(named) else list(named)
        found.append(column)
    return found


def _references(
    conflict: Conflict,
    rules: Rules,
    keys: Mapping[str, str],
    columns: Mapping[str, Mapping[str, bool]],
) -> Iterator[Reference]:
    """Where a member is waited for over a row of a table that none of its statements names, but one
    of them gives another table's row the value of that row's key, a foreign key took the lock.
    """
    by_name = {table.lower(): table for table in keys}
    for wait in conflict.waits:
        holder, waiter = conflict.member(wait.holder or ""), conflict.member(wait.waiter)
        parent = by_name.get((wait.table or "").lower())
        if holder is None or waiter is None or parent is None or not holder.history:
            continue
        before = [sql for sql in holder.history if sql != holder.statement]
        if any(
            name.lower() == parent.lower() for sql in before for name, _ in rules.sql.tables_of(sql)
        ):
            continue
        wanted = {
            value.value
            for value in named_values(waiter.statement or "", rules.sql.dialect)
            if value.table.lower() == parent.lower()
            and value.column == keys[parent]
            and value.use != "assigned"
        }
        given = (
            value
            for sql in before
            for value in named_values(sql, rules.sql.dialect)
            if value.use != "compared"
        )
        for value in given:
            column = _column(value, list(columns.get(value.table, ())))
            if value.value in wanted and column not in (None, keys.get(value.table)):
                yield Reference(value.table, str(column), parent, keys[parent])


def _column(value: NamedValue, names: Sequence[str]) -> str | None:
    """The column of a value; by its place where the statement does not name it."""
    if not value.column.startswith("#"):
        return value.column if value.column in names else None
    place = int(value.column[1:])
    return names[place] if place < len(names) else None


def _named(
    statements: Sequence[str], rules: Rules, tables: Sequence[str]
) -> tuple[dict[str, dict[str, bool]], dict[str, list[str]]]:
    """By table the columns that statements name, and whether their values are texts: those first by
    which they find rows, which are the keys; behind them those of an INSERT that names none, by
    their places.
    """
    by_name = {table.lower(): table for table in tables}
    columns: dict[str, dict[str, bool]] = {table: {} for table in tables}
    keys: dict[str, list[str]] = {table: [] for table in tables}
    places: dict[str, dict[int, bool]] = {table: {} for table in tables}
    values = [value for sql in statements for value in named_values(sql, rules.sql.dialect)]
    for value in sorted(values, key=lambda value: value.use != "compared"):
        table = by_name.get(value.table.lower())
        if table is None:
            continue
        if value.column.startswith("#"):
            place = int(value.column[1:])
            places[table][place] = places[table].get(place, False) or _is_text(value)
            continue
        columns[table][value.column] = columns[table].get(value.column, False) or _is_text(value)
        if value.use == "compared" and value.column not in keys[table]:
            keys[table].append(value.column)
    for sql in statements:
        for name, column in named_columns(sql, rules.sql.dialect):
            if name.lower() in by_name and column.isidentifier():
                columns[by_name[name.lower()]].setdefault(column, False)
    found = {table: _in_places(columns[table], keys[table], places[table]) for table in tables}
    return found, keys


def _in_places(
    columns: Mapping[str, bool], keys: Sequence[str], places: Mapping[int, bool]
) -> dict[str, bool]:
    """A table's columns: as many as an INSERT that names none has values for, if there is one."""
    named = [*keys, *(name for name in columns if name not in keys)] or ["id"]
    width = max(places, default=-1) + 1
    named = named[:width] if width else named
    named += [f"c{number}" for number in range(len(named) + 1, width + 1)]
    return {
        name: columns.get(name, False) or places.get(place, False)
        for place, name in enumerate(named)
    }


def _is_text(value: NamedValue) -> bool:
    """Whether a value can be of a text only: a log has the values of parameters in quotes, whatever
    their type.
    """
    return value.text and re.fullmatch(r"-?(?:0|[1-9]\d{0,17})", value.value) is None
