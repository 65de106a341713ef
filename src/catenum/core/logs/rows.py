"""Rows that a restaged conflict needs: those that its statements name, and what these refer to.

A row exists where a statement reads, changes or deletes it, and must not exist where one inserts
it.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from catenum.core.logs.tables import Column, TableInfo, parents_first
from catenum.core.servers import Rules
from catenum.core.sql.named_values import named_values

#: Rows made up for one table at most.
MOST_ROWS = 400


@dataclass(slots=True)
class Rows:
    """Rows by table, each a mapping of columns to values as they are written in SQL."""

    tables: dict[str, list[dict[str, str]]] = field(default_factory=dict)

    def script(self, tables: Mapping[str, TableInfo], rules: Rules) -> str:
        """INSERT statements, tables that others refer to first; and what has the server's own
        numbers go on behind those of the rows.
        """
        lines, counted = [], []
        for info in (tables[name] for name in parents_first(tables)):
            own_rows = self.tables.get(info.name.lower(), ())
            given = {name for row in own_rows for name in row}
            for column in info.columns.values():
                numbered = column.made and column.name in info.primary and _is_number(column)
                if numbered and column.name in given:
                    names = quoted(info.name, rules), quoted(column.name, rules)
                    counted.append(rules.sql.counts_on(*names))
            for row in own_rows:
                listed = ", ".join(quoted(name, rules) for name in row)
                values = ", ".join(row.values())
                # "INSERT", OVERRIDING SYSTEM VALUE (PostgreSQL documentation)
                own = any(info.columns[name].always for name in row if name in info.columns)
                more = " overriding system value" if own else ""
                lines.append(
                    f"insert into {quoted(info.name, rules)} ({listed}){more} values ({values});"
                )
        return "\n".join([*lines, *(f"{sql};" for sql in counted if sql is not None)])


def quoted(name: str, rules: Rules) -> str:
    """A name as it can stand in a statement; plain ones as they are."""
    plain = name.replace("_", "").isalnum() and name.islower() and not name[:1].isdigit()
    if plain and name not in RESERVED:
        return name
    sign = rules.sql.name_quote
    return f"{sign}{name}{sign}"


#: Words that no server here takes for a name without quotes, or not all do (their manuals' lists of
#: reserved words).
_RESERVED_WORDS = """
    all alter analyze and any array as asc begin between both by call case cast change check collate
    column condition constraint convert create cross current_date current_time current_timestamp
    current_user cursor database databases default deferrable delete desc describe distinct div do
    drop else end except exists explain false fetch for foreign from full function generated grant
    group groups having if in index inner insert interval into is join key keys lateral leading left
    level like limit lock match natural not null of offset on only option or order outer over
    partition placing position primary procedure range rank read references rename replace require
    returning right rows row schema select session_user set show some sql table then to trailing
    trigger true union unique update usage use user using values variadic when where window with
    write
"""
RESERVED = frozenset(_RESERVED_WORDS.split())
_NUMBERS = ("int", "serial", "numeric", "decimal", "real", "double", "float", "money", "number")


def as_written(column: Column, value: str) -> str:
    """A value of a row as it is written in SQL: numbers as such, all else as text."""
    number = any(word in column.type for word in _NUMBERS) and re.fullmatch(
        r"-?\d+(?:\.\d+)?", value
    )
    return literal(value, text=not number)


def literal(value: str, text: bool) -> str:
    """A value as it is written in SQL."""
    return "'" + value.replace("'", "''") + "'" if text else value


def rows_for(
    tables: Mapping[str, TableInfo],
    statements: Iterable[Sequence[str]],
    rules: Rules,
    records: Mapping[str, Sequence[Mapping[str, str]]] | None = None,
) -> Rows:
    """Rows for statements, each list of them one transaction's. ``records``: rows that a report
    showed, by table.
    """
    rows = Rows()
    made: set[tuple[str, tuple[str, ...]]] = set()
    single = [sql for one in statements for sql in one]
    inserts = [found for sql in single for found in _rows_of(sql, tables, rules, "inserted")]
    inserted = {
        (table, key) for table, given in inserts if (key := _key(tables[table], given)) is not None
    }
    shown = [
        (table, dict(one))
        for table, known in (records or {}).items()
        if table in tables
        for one in known
    ]
    named = [found for sql in single for found in _rows_of(sql, tables, rules, "compared")]
    for table, given in (*shown[:MOST_ROWS], *named):
        if (table, _key(tables[table], given)) not in inserted:
            _add(rows, tables, table, given, made)
    assigned = [found for sql in single for found in _rows_of(sql, tables, rules, "assigned")]
    for table, given in (*inserts, *assigned):
        _parents(rows, tables, table, given, made)
    return rows


def _rows_of(
    sql: str, tables: Mapping[str, TableInfo], rules: Rules, use: str
) -> Iterator[tuple[str, dict[str, str]]]:
    """The rows that a statement names: of each table one for each value of a column, the others as
    they are named.
    """
    by_table: dict[str, dict[str, list[str]]] = {}
    for value in named_values(sql, rules.sql.dialect):
        table = value.table.lower()
        if table not in tables or value.use != use:
            continue
        names = list(tables[table].columns)
        column = value.column
        if column.startswith("#"):
            place = int(column[1:])
            column = names[place] if place < len(names) else ""
        else:
            column = next((name for name in names if name.lower() == column.lower()), "")
        if column:
            written = as_written(tables[table].columns[column], value.value)
            by_table.setdefault(table, {}).setdefault(column, []).append(written)
    for table, columns in by_table.items():
        most = max(len(values) for values in columns.values())
        for place in range(min(most, MOST_ROWS)):
            yield (
                table,
                {name: values[min(place, len(values) - 1)] for name, values in columns.items()},
            )


def _key(info: TableInfo, given: Mapping[str, str]) -> tuple[str, ...] | None:
    if not info.primary or any(name not in given for name in info.primary):
        return None
    return tuple(given[name] for name in info.primary)


def _add(
    rows: Rows,
    tables: Mapping[str, TableInfo],
    table: str,
    given: dict[str, str],
    made: set[tuple[str, tuple[str, ...]]],
) -> None:
    """One row, filled up with what it needs; where there is one of that key, it is given what it
    lacks.
    """
    info = tables[table]
    number = len(rows.tables.get(table, ())) + 1
    row = {}
    for column in info.columns.values():
        if column.computed:
            continue
        if column.name in given:
            row[column.name] = given[column.name]
        elif column.name in info.primary and (not column.made or _is_number(column)):
            # the server's own next number may be one that a statement names
            row[column.name] = _made_up(column, 1_000 + number)
        elif column.needed and not column.made:
            unique = any(column.name in key for key in info.unique)
            row[column.name] = _made_up(column, number if unique else 0)
    key = _key(info, row) or (f"#{number}",)
    if (table, key) in made:
        there = next((one for one in rows.tables.get(table, ()) if _key(info, one) == key), row)
        there |= {name: value for name, value in given.items() if name not in there}
        _parents(rows, tables, table, there, made)
    if (table, key) in made or number > MOST_ROWS:
        return
    made.add((table, key))
    _parents(rows, tables, table, row, made)
    rows.tables.setdefault(table, []).append(row)


def _parents(
    rows: Rows,
    tables: Mapping[str, TableInfo],
    table: str,
    row: Mapping[str, str],
    made: set[tuple[str, tuple[str, ...]]],
) -> None:
    for columns, parent, named in tables[table].references:
        other = tables.get(parent.lower())
        if other is None or any(column not in row or row[column] == "null" for column in columns):
            continue
        target = named or other.primary
        given = {name: row[column] for name, column in zip(target, columns, strict=False)}
        if parent.lower() != table or _key(other, given) != _key(tables[table], row):
            _add(rows, tables, parent.lower(), given, made)


def _made_up(column: Column, number: int) -> str:
    """A value of a column's type."""
    kind = column.type
    if column.labels:
        return literal(column.labels[0], text=True)
    if any(word in kind for word in ("char", "text", "clob", "citext")):
        return f"'{'x' if not number else f'x{number}'}'"
    if _is_number(column):
        return _within(column, number)
    for word, value in _BY_TYPE:
        if word in kind:
            return value
    return f"'{number}'" if kind else str(number)


def _is_number(column: Column) -> bool:
    return any(word in column.type for word in _NUMBERS)


def _within(column: Column, number: int) -> str:
    """A number that the column's checks let in: the same where they do."""
    low, high = column.least, column.most
    value = float(number)
    if low is not None and value < low:
        value = low + number if high is None or low + number <= high else low
    if high is not None and value > high:
        value = high - number if low is None or high - number >= low else high
    return f"{value:g}" if value != int(value) else str(int(value))


_BY_TYPE = (
    ("bool", "false"),
    ("uuid", "'00000000-0000-0000-0000-000000000000'"),
    ("timestamp", "'2026-01-01 00:00:00'"),
    ("datetime", "'2026-01-01 00:00:00'"),
    ("date", "'2026-01-01'"),
    ("time", "'00:00:00'"),
    ("json", "'{}'"),
    ("bytea", "''"),
    ("blob", "''"),
    ("binary", "''"),
    ("bit", "b'0'"),
    ("inet", "'127.0.0.1'"),
    ("year", "2026"),
    ("interval", "'0'"),
)


#: Rows of filler: enough for every server to prefer an index to a scan.
FILLER_ROWS = 3_000


def filler_of(info: TableInfo, rows: Rows) -> dict[str, object]:
    """Filler rows of a table as a scenario asks for them; nothing where its columns cannot be
    filled.
    """
    parents = {column: parent for columns, parent, _ in info.references for column in columns}
    keyed = {column for key in (info.primary, *info.unique) for column in key}
    columns: dict[str, object] = {}
    for column in info.columns.values():
        number = any(word in column.type for word in _NUMBERS)
        if column.computed or not (
            column.needed
            or column.name in keyed
            or any(column.name in k for k in info.indexes.values())
        ):
            continue
        if column.name in parents:
            known = [
                row[column.name]
                for row in rows.tables.get(info.name.lower(), ())
                if column.name in row
            ]
            if not known:
                return {}
            columns[column.name] = {
                "choice": [int(one) if one.isdigit() else one.strip("'") for one in known]
            }
        elif number:
            columns[column.name] = {"sequence": 1_000_000}
        elif "char" in column.type or "text" in column.type:
            columns[column.name] = {"text": 12}
        elif column.labels:
            columns[column.name] = {"choice": list(column.labels)}
        elif not column.made:
            return {}
    return {"rows": FILLER_ROWS, "columns": columns} if columns else {}
