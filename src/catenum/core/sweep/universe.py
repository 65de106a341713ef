"""Values for the parameters of each domain, and rows that have them.

A value that is made up is a copy of the first one in everything: each row that has the first value
in a column of the domain is there once more with the new value. So what one value finds, another
finds as well, and only whether values coincide makes a difference. Columns of other domains in
which all rows of the data differ stay so: a vessel has one pilot in the rows made up, too.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from graphlib import CycleError, TopologicalSorter
from itertools import islice

from catenum.core.logs.tables import Column, Schema, TableInfo
from catenum.core.record.recording import TableRows
from catenum.core.scenario.model import Scalar
from catenum.core.sweep.domains import ColumnKey, Crossing, Domains, named

#: Rows that are made up for one table at the most.
MOST_ROWS = 5_000
_INTEGER = re.compile(
    r"(?i)\b(?:small|big|tiny|medium)?(?:int|integer|serial)\d*\b|\bnumeric|\bdecimal"
)
_TEXT = re.compile(r"(?i)\b(?:text|(?:var)?char(?:acter)?|citext)")

#: A row, by its columns in lower case, as the server writes its values.
Row = dict[str, str | None]


@dataclass(frozen=True, kw_only=True)
class Universe:
    """``there``: by domain, the values of which rows are there, in their order; ``missing``: those
    of which none is; ``beside``: of a crossed domain, by key the value in its column; ``script``:
    what makes the rows that are made up; ``notes``: what could not be made up, and why.
    """

    there: dict[ColumnKey, tuple[Scalar, ...]]
    missing: dict[ColumnKey, tuple[Scalar, ...]]
    script: str
    beside: dict[ColumnKey, dict[str, str]] = field(default_factory=dict)
    notes: tuple[str, ...] = ()


@dataclass
class _Maker:
    """Makes up rows, table by table."""

    domains: Domains
    rows: dict[str, list[Row]]
    differ: frozenset[ColumnKey] = frozenset()
    new: dict[str, list[Row]] = field(default_factory=dict)

    @property
    def schema(self) -> Schema:
        return self.domains.schema

    def copy(self, domain: ColumnKey, like: str, value: str) -> None:
        """Rows with ``value`` wherever there are rows with ``like``."""
        for table in self.order():
            columns = [c for name, c in self.domains.columns[domain] if name == table]
            info = self.schema.tables[table]
            for row in list(self.rows.get(table, ())):
                if not any(row.get(column) == like for column in columns):
                    continue
                changed = {c: value for c in columns if row.get(c) == like}
                self.add(table, info, {**row, **changed}, set(changed))

    def order(self) -> list[str]:
        """The tables, those that others refer to first."""
        graph = {
            name: {target.lower() for _, target, _ in info.references} - {name}
            for name, info in self.schema.tables.items()
        }
        try:
            found = list(TopologicalSorter(graph).static_order())
        except CycleError:
            found = list(graph)
        return [name for name in found if name in self.schema.tables]

    def add(self, table: str, info: TableInfo, row: Row, changed: set[str]) -> None:
        """A row, with other values in unique keys that would be there twice, and where all rows
        differ.
        """
        for column in sorted(self._swept(table) - changed - _leading(info)):
            if (table, column) in self.differ:
                self._another(table, info, row, column)
        for key in (info.primary, *info.unique):
            columns = [column.lower() for column in key]
            if not columns or any(row.get(c) is None for c in columns):
                continue
            while any(all(old.get(c) == row[c] for c in columns) for old in self.rows[table]):
                swept = self._swept(table)
                free = sorted(
                    set(columns) - changed - _leading(info), key=lambda c: (c in swept, c)
                )
                if not free or not self._another(table, info, row, free[0]):
                    return  # it is there already
        self.rows[table].append(row)
        self.new.setdefault(table, []).append(row)

    def _swept(self, table: str) -> set[str]:
        return {
            column
            for columns in self.domains.columns.values()
            for name, column in columns
            if name == table
        }

    def _another(self, table: str, info: TableInfo, row: Row, column: str) -> bool:
        """Give a column a value that no row has."""
        known = {old.get(column) for old in self.rows[table]}
        made = next(_values(column_of(info, column), known), None)
        row[column] = made
        return made is not None


def _leading(info: TableInfo) -> set[str]:
    """The columns of which the values must be there in another table."""
    return {column.lower() for columns, _, _ in info.references for column in columns}


def _all_differ(rows: Mapping[str, Sequence[Row]]) -> frozenset[ColumnKey]:
    """The columns in which no two rows of a table have the same value."""
    found = set()
    for table, own in rows.items():
        for column in own[0] if own else ():
            values = [row.get(column) for row in own]
            if None not in values and len(set(values)) == len(values):
                found.add((table, column))
    return frozenset(found)


def column_of(info: TableInfo | None, name: str) -> Column | None:
    """A column whatever the case of its name."""
    if info is None:
        return None
    return next((one for key, one in info.columns.items() if key.lower() == name), None)


def is_integer(column: Column | None) -> bool:
    """Whether a column holds whole numbers, of which any may be made up."""
    return column is not None and _INTEGER.search(column.type) is not None and not column.labels


def _values(column: Column | None, known: set[str | None]) -> Iterator[str]:
    """Values that a column takes, and nobody has."""
    if column is None:
        return
    if column.labels:
        yield from (label for label in column.labels if label not in known)
    elif _INTEGER.search(column.type):
        numbers = [int(v) for v in known if v is not None and re.fullmatch(r"-?\d+", v)]
        value = max([*numbers, int(column.least or 1) - 1]) + 1
        while column.most is None or value <= column.most:
            yield str(value)
            value += 1
    elif _TEXT.search(column.type):
        number = 1
        while True:
            if (text := f"made-{number}") not in known:
                yield text
            number += 1


def universe_of(
    domains: Domains,
    loaded: Mapping[str, TableRows],
    first: Mapping[ColumnKey, Sequence[Scalar]],
    counts: Mapping[ColumnKey, int],
    *,
    make: bool = True,
) -> Universe:
    """Values for each domain. ``loaded``: the rows of the scenario's data; ``first``: the values
    that its parameters have; ``counts``: how many different values there must be at once;
    ``make``: whether rows may be made up for them.
    """
    rows = _rows(loaded, domains.schema)
    maker = _Maker(domains, rows, _all_differ(rows))
    there: dict[ColumnKey, tuple[Scalar, ...]] = {}
    missing: dict[ColumnKey, tuple[Scalar, ...]] = {}
    notes: list[str] = []
    for domain, count in counts.items():
        column = column_of(domains.schema.tables.get(domain[0]), domain[1])
        plain = is_integer(column)
        known = _known(domain, domains, maker.rows)
        wanted = dict.fromkeys(str(value) for value in first.get(domain, ()) if value is not None)
        have = [value for value in wanted if value in known]
        have += [value for value in sorted(known, key=_rank) if value not in have]
        have = have[:count]
        absent = [value for value in wanted if value not in known]
        if make and have:
            fresh = _values(column, {*known, *wanted})
            notes += _made_up(maker, domain, have, count, fresh)
        there[domain] = tuple(_scalar(value, plain) for value in sorted(have, key=_rank))
        others = _values(column, {*known, *have, *absent})
        absent += islice(others, max(0, count - len(absent)))
        missing[domain] = tuple(_scalar(value, plain) for value in absent[:count])
    for domain, crossing in domains.crossed.items():
        if domain in there and crossing.by in there:
            there[domain] = _aligned(there[domain], there[crossing.by], crossing, maker.rows)
    beside = {
        domain: {str(key): str(value) for key, value in _by_key(one, maker.rows).items()}
        for domain, one in domains.crossed.items()
    }
    return Universe(
        there=there, missing=missing, script=_script(maker), beside=beside, notes=tuple(notes)
    )


def _made_up(
    maker: _Maker, domain: ColumnKey, have: list[str], count: int, fresh: Iterator[str]
) -> Iterator[str]:
    """Add values with rows like the first one's, until there are so many; what is to be said of
    those that cannot be made.
    """
    while len(have) < count:
        value = next(fresh, None)
        if value is None:
            yield f"no other value of {named(domain)} can be made up; it has {len(have)}"
            return
        maker.copy(domain, have[0], value)
        if sum(map(len, maker.new.values())) > MOST_ROWS:
            yield f"with more values of {named(domain)} the rows would be too many"
            return
        have.append(value)


def _aligned(
    values: Sequence[Scalar],
    keys: Sequence[Scalar],
    crossing: Crossing,
    rows: Mapping[str, Sequence[Row]],
) -> tuple[Scalar, ...]:
    """Values of a column, those of the rows with the first keys first."""
    by_key = _by_key(crossing, rows)
    place = {by_key.get(str(key)): at for at, key in reversed(list(enumerate(keys)))}
    return tuple(sorted(values, key=lambda value: place.get(str(value), len(keys))))


def _by_key(crossing: Crossing, rows: Mapping[str, Sequence[Row]]) -> dict[str | None, str | None]:
    return {row.get(crossing.key): row.get(crossing.column) for row in rows.get(crossing.table, ())}


def _rows(loaded: Mapping[str, TableRows], schema: Schema) -> dict[str, list[Row]]:
    found: dict[str, list[Row]] = {name: [] for name in schema.tables}
    for table, kept in loaded.items():
        if table.lower() in found:
            names = [column.lower() for column in kept.columns]
            found[table.lower()] = [dict(zip(names, row, strict=True)) for row in kept.rows]
    return found


def _known(domain: ColumnKey, domains: Domains, rows: Mapping[str, Sequence[Row]]) -> set[str]:
    """The values of which rows are there: of the column that the domain is called after, else of
    any of its columns.
    """
    own = {row.get(domain[1]) for row in rows.get(domain[0], ())}
    if domain[0] not in rows:
        columns = domains.columns[domain]
        own = {row.get(column) for table, column in columns for row in rows.get(table, ())}
    return {value for value in own if value is not None}


def _rank(value: str) -> tuple[int, int, str]:
    number = re.fullmatch(r"-?\d{1,18}", value)
    return (0, int(value), "") if number else (1, 0, value)


def _scalar(value: str, plain: bool) -> Scalar:
    return int(value) if plain and re.fullmatch(r"-?\d{1,18}", value) else value


def _script(maker: _Maker) -> str:
    lines = []
    for table in maker.order():
        info = maker.schema.tables[table]
        for row in maker.new.get(table, ()):
            names = {
                name: row[name.lower()]
                for name, column in info.columns.items()
                if name.lower() in row and not column.computed
            }
            listed = ", ".join(names)
            values = ", ".join(
                "null" if value is None else "'" + value.replace("'", "''") + "'"
                for value in names.values()
            )
            lines.append(f"insert into {info.name} ({listed}) values ({values});")
    return "\n".join(lines)
