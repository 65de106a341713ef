"""What InnoDB's lock list says a lock is on: the index entry, by the index's own columns, or the
gap before it.

Read apart from the statement that waits: a scan without an index stops at a row that its condition
does not name.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from catenum.core.logs.innodb_fields import decode
from catenum.core.record.waits import Key, Resource, key_text

_TYPES = """
select column_name, concat(column_type, coalesce(concat(' character set ', character_set_name), ''))
from information_schema.columns where table_schema = %s and table_name = %s
"""
_PLAIN = re.compile(r"\w+", re.ASCII)
_VALUE = re.compile(r"\s*('(?:[^']|'')*'|[^,']+)\s*(?:,|$)")
#: The index of a table that has no key.
HIDDEN = "GEN_CLUST_INDEX"
SUPREMUM = "supremum pseudo-record"

Query = Callable[..., list[tuple[Any, ...]]]


@dataclass
class Records:
    """Remembers the columns of indexes that were met, for one connection."""

    query: Query
    #: Lists the columns of an index, in order; made complete by ``name``, ``pattern`` and
    #: ``index``.
    index_columns: str
    #: How a table is called: with its schema, wherever two could be meant.
    called: Callable[[str, str], str] = lambda schema, table: table
    _kinds: dict[tuple[str, str], dict[str, str]] = field(default_factory=dict)
    _known: dict[tuple[str, str], tuple[str, ...]] = field(default_factory=dict)

    def resource(self, table: str, index: str, data: str, mode: str) -> Resource:
        """Of a row of ``INNODB_LOCKS``: the table and its index, the record's values, the mode
        wanted.
        """
        schema, plain = table_name(table)
        name, via = (
            self.called(schema, plain),
            "" if index in ("PRIMARY", HIDDEN) else f" in index {index}",
        )
        gap = "GAP" in mode or "INSERT_INTENTION" in mode or data == SUPREMUM
        values = values_of(data) if data != SUPREMUM else ()
        columns = self._columns(schema, plain, index) if values else ()
        key: Key = tuple(zip(columns, values, strict=False))
        if data == SUPREMUM:
            text = f"{name}: the gap after the last entry{via}"
        elif not key and gap:
            text = f"{name}: a gap{via}"
        elif not key:
            text = f"{name}({'an entry' if index != HIDDEN else 'a row without a key'}{via})"
        elif gap:
            text = f"{name}: the gap before ({key_text(key)}){via}"
        else:
            text = f"{name}({key_text(key)}){via}"
        return Resource(
            kind="gap" if gap else "row",
            text=text,
            database=schema or None,
            table=plain,
            index=index,
            key=key or None,
        )

    def decoded(
        self, schema: str, table: str, index: str, fields: Sequence[str | None]
    ) -> tuple[str | None, ...]:
        """The values of a printed record, by the types of the index's columns; empty where these
        are not told.
        """
        columns = self._columns(schema, table, index)
        kinds = self._types(schema, table)
        if not columns or any(column not in kinds for column in columns):
            return ()
        return tuple(
            decode(value, kinds[column]) for column, value in zip(columns, fields, strict=False)
        )

    def columns(self, schema: str, table: str, index: str) -> list[tuple[str, str]]:
        """The columns of an index with their types, in order; empty where they are not told."""
        kinds = self._types(schema, table)
        return [(column, kinds.get(column, "")) for column in self._columns(schema, table, index)]

    def _types(self, schema: str, table: str) -> dict[str, str]:
        if (schema, table) not in self._kinds:
            rows = self.query(_TYPES, (schema, table))
            self._kinds[schema, table] = {str(column): str(kind) for column, kind in rows}
        return self._kinds[schema, table]

    def _columns(self, schema: str, table: str, index: str) -> tuple[str, ...]:
        if not all(_PLAIN.fullmatch(part) for part in (schema, table, index)):
            return ()
        place = (f"{schema}/{table}", index)
        if place not in self._known:
            pattern = place[0].replace("_", "\\_")
            rows = self.query(
                self.index_columns.format(name=place[0], pattern=pattern, index=index)
            )
            self._known[place] = tuple(str(row[0]) for row in rows)
        return self._known[place]


def table_name(reported: str) -> tuple[str, str]:
    """Schema and table of ``lock_table``: quoted names, and behind them the partition, where it has
    some.
    """
    parts = re.findall(
        r"`((?:[^`]|``)*)`|\"((?:[^\"]|\"\")*)\"", re.sub(r" /\*.*\*/$", "", reported)
    )
    names = [(one or other).replace("``", "`").replace('""', '"') for one, other in parts]
    return (names[0], names[1]) if len(names) > 1 else ("", names[0] if names else reported)


def values_of(data: str) -> tuple[str | None, ...]:
    """The values of ``lock_data``, as ``7`` or ``'a, ''b''', 3``; empty where they cannot be told
    apart.
    """
    found: list[str | None] = []
    place = 0
    while place < len(data):
        match = _VALUE.match(data, place)
        if match is None or match.end() == place:
            return ()
        text = match[1].strip()
        quoted = text.startswith("'")
        found.append(text[1:-1].replace("''", "'") if quoted else None if text == "NULL" else text)
        place = match.end()
    return tuple(found)
