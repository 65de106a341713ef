"""Other data for a candidate to be tried on: what holds for the rows as loaded may rest on them.

Each variation is a title and SQL to run behind the data. They are the cases that programs forget:
the row is not there, the table is empty, a value is NULL, a flag is the other way round, a number
stands at the border of a check, there is one row more, a column has an index.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from itertools import islice

from sqlglot import exp

from catenum.core.propose.candidate import Evidence
from catenum.core.propose.reading import Reading
from catenum.core.record.recording import TableRows

MOST_VARIATIONS = 14
#: By how much the key of one more row is larger than the largest.
FAR = 1000
_FLAGS = (frozenset("tf"), frozenset("t"), frozenset("f"), frozenset("01"))


@dataclass(frozen=True, slots=True)
class Variation:
    """``title`` goes on after *where*: "where berth is empty"."""

    title: str
    sql: tuple[str, ...]


def variations(evidence: Evidence) -> list[Variation]:
    """The variations of a scenario's data, those that most often matter first."""
    loaded = evidence.loaded
    found = (
        *_missing_rows(evidence),
        *_empty_tables(evidence, loaded),
        *_borders(evidence, loaded),
        *_nulls(evidence, loaded),
        *_flags(evidence, loaded),
        *_more_rows(evidence, loaded),
        *_indexes(evidence, loaded),
    )
    return list(islice({one.sql: one for one in found}.values(), MOST_VARIATIONS))


def _readings(evidence: Evidence) -> Iterator[tuple[str, int, Reading]]:
    for name, transaction in evidence.transactions.items():
        for number in range(1, len(transaction.statements) + 1):
            yield name, number, evidence.reading(evidence.resolved(name, number))


def _touched(evidence: Evidence, loaded: Mapping[str, TableRows]) -> list[str]:
    named = {
        a.table.lower()
        for n, k, _ in _readings(evidence)
        for a in evidence.footprint(n, k).accesses
    }
    return [table for table, rows in loaded.items() if table.lower() in named and rows.rows]


def _named(evidence: Evidence, name: str) -> str:
    return str(exp.to_identifier(name).sql(dialect=evidence.rules.sql.dialect))


def _empty_tables(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    for table in _touched(evidence, loaded):
        yield Variation(f"{table} is empty", (f"delete from {_named(evidence, table)}",))


def _missing_rows(evidence: Evidence) -> Iterator[Variation]:
    for name, number, reading in _readings(evidence):
        turn = evidence.transactions[name].statements[number - 1].turn
        if turn is not None and turn.number > 1:
            continue  # a loop's first turn stands for the others
        condition = evidence.key_condition(reading)
        if condition is not None and ":" not in condition and reading.table is not None:
            title = f"{reading.table} has no row with {condition}"
            yield Variation(
                title, (f"delete from {_named(evidence, reading.table)} where {condition}",)
            )


def _columns(evidence: Evidence) -> Iterator[tuple[str, str]]:
    """The columns that a transaction reads for their values, or asks for, apart from keys; with
    their tables.
    """
    for name, number, reading in _readings(evidence):
        table = reading.table
        if table is None:
            continue
        kept = evidence.transactions[name].statements[number - 1].kept.values()
        asked = [
            c.name.lower() for one in reading.terms_beyond(()) for c in one.find_all(exp.Column)
        ]
        for column in dict.fromkeys([*(reading.columns.get(c.lower(), c) for c in kept), *asked]):
            if column not in {c.lower() for c in evidence.keys(table).columns}:
                yield table, column


def _known(loaded: Mapping[str, TableRows], table: str, column: str) -> list[str | None] | None:
    rows = next((rows for title, rows in loaded.items() if title.lower() == table.lower()), None)
    columns = [one.lower() for one in rows.columns] if rows is not None else []
    if rows is None or column.lower() not in columns:
        return None
    return [row[columns.index(column.lower())] for row in rows.rows]


def _nulls(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    for table, column in dict.fromkeys(_columns(evidence)):
        values = _known(loaded, table, column)
        if (
            values
            and column not in {c.lower() for c in evidence.keys(table).filled}
            and set(values) != {None}
        ):
            sql = f"update {_named(evidence, table)} set {_named(evidence, column)} = null"
            yield Variation(f"{table}.{column} is NULL", (sql,))


def _flags(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    for table, column in dict.fromkeys(_columns(evidence)):
        values = _known(loaded, table, column)
        if values and None not in values and frozenset("".join(map(str, values))) in _FLAGS:
            own = _named(evidence, column)
            other = f"1 - {own}" if set(values) <= {"0", "1"} else f"not {own}"
            title = f"{table}.{column} is the other way round"
            yield Variation(title, (f"update {_named(evidence, table)} set {own} = {other}",))


def _borders(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    """Numbers at the values that they are compared with, and one beyond."""
    for table, column, number in dict.fromkeys(_compared(evidence)):
        values = _known(loaded, table, column)
        for value in (number, number + 1) if values is not None else ():
            if values and set(values) != {str(value)}:
                sql = f"update {_named(evidence, table)} set {_named(evidence, column)} = {value}"
                yield Variation(f"{table}.{column} is {value}", (sql,))


def _compared(evidence: Evidence) -> Iterator[tuple[str, str, int]]:
    for name, transaction in evidence.transactions.items():
        kept: dict[str, tuple[str, str]] = {}
        for number, statement in enumerate(transaction.statements, 1):
            reading = evidence.reading(evidence.resolved(name, number))
            if statement.condition is not None:
                for one in statement.condition.comparisons:
                    place = kept.get(one.left.name or "")
                    text = (
                        str(one.right) if one.right is not None and one.right.name is None else ""
                    )
                    if place is not None and text.lstrip("-").isdigit():
                        yield (*place, int(text))
            for term in (
                reading.terms_beyond(evidence.keys(reading.table or "").primary)
                if reading.table
                else ()
            ):
                if isinstance(term, exp.Binary) and isinstance(term.this, exp.Column):
                    value = term.expression
                    if (
                        isinstance(value, exp.Literal)
                        and not value.is_string
                        and value.name.isdigit()
                    ):
                        yield reading.table or "", term.this.name.lower(), int(value.name)
            if reading.table is not None:
                pairs = statement.kept.items()
                kept |= {
                    v: (reading.table, reading.columns[c.lower()])
                    for v, c in pairs
                    if c.lower() in reading.columns
                }


def _more_rows(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    for table in _touched(evidence, loaded):
        rows, key = loaded[table], evidence.keys(table).primary
        if len(key) != 1 or key[0] not in rows.columns:
            continue
        place = rows.columns.index(key[0])
        keys = [row[place] or "" for row in rows.rows]
        if not all(text.lstrip("-").isdigit() for text in keys):
            continue
        row = list(rows.rows[0])
        row[place] = str(max(map(int, keys)) + FAR)
        values = ", ".join(
            "null" if value is None else exp.Literal.string(value).sql() for value in row
        )
        columns = ", ".join(_named(evidence, column) for column in rows.columns)
        sql = f"insert into {_named(evidence, table)} ({columns}) values ({values})"
        yield Variation(f"{table} has one row more", (sql,))


def _indexes(evidence: Evidence, loaded: Mapping[str, TableRows]) -> Iterator[Variation]:
    for number, (table, column) in enumerate(dict.fromkeys(_columns(evidence))):
        keys = evidence.keys(table)
        first = {columns[0].lower() for columns in keys.indexes.values() if columns}
        if column not in first and _known(loaded, table, column) is not None:
            sql = (
                f"create index catenum_variation_{number} on {_named(evidence, table)}"
                f" ({_named(evidence, column)})"
            )
            yield Variation(f"{table}.{column} has an index", (sql,))
