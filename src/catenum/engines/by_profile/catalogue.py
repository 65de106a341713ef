"""What tables the scratch space has: by queries of the profile, or as a driver in Java tells it."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from catenum.core.record.recording import TableKeys
from catenum.core.servers.profile import Profile
from catenum.engines.by_profile.driver import is_true, text_of

_INTEGERS = re.compile(r"(?i)^(?:big|small|tiny|medium)?int(?:eger)?\d*\b(?!.*\.)")
Rows = list[tuple[Any, ...]]


@dataclass
class _Found:
    """One table, as it is put together."""

    columns: dict[str, str] = field(default_factory=dict)
    filled: list[str] = field(default_factory=list)
    made: list[str] = field(default_factory=list)
    keys: dict[str, list[str]] = field(default_factory=lambda: defaultdict(list))
    primary: str | None = None
    unique: set[str] = field(default_factory=set)
    references: list[str] = field(default_factory=list)
    triggers: bool = False


class Catalogue:
    """Reads the tables of one space."""

    def __init__(self, profile: Profile, query: Callable[[str], Rows], connection: Any) -> None:
        """``query`` and ``connection``: by the one that looks, which need not plan anew for each
        space.
        """
        self._profile, self._query, self._connection = profile, query, connection

    def tables(self, space: str) -> dict[str, TableKeys]:
        """The tables, in the order of their names, with their keys."""
        part = self._profile.catalogue
        found = self._by_jdbc(space) if part.by == "jdbc" else self._by_queries()
        if part.triggers is not None:
            for table, *_ in self._query(part.triggers):
                if self._name(table) in found:
                    found[self._name(table)].triggers = True
        opaque = self._profile.locking.independent == "nothing"
        return {name: _keys(found[name], opaque=opaque) for name in sorted(found)}

    def _name(self, raw: Any) -> str:
        return self._profile.sql.folded(text_of(raw) or "")

    def _by_queries(self) -> dict[str, _Found]:
        part, rows = self._profile.catalogue, self._query
        found = {self._name(row[0]): _Found() for row in rows(part.tables or "")}
        for table, column, kind, filled, made in rows(part.columns or ""):
            self._column(found, table, column, str(kind), is_true(filled), is_true(made))
        for table, key, column, primary, unique in rows(part.keys or ""):
            self._key(found, table, str(key), column, is_true(primary), is_true(unique))
        for table, to in rows(part.references or ""):
            if self._name(table) in found:
                found[self._name(table)].references.append(self._name(to))
        return found

    def _by_jdbc(self, space: str) -> dict[str, _Found]:
        """``java.sql.DatabaseMetaData``."""
        told = self._connection.connection.getMetaData()
        found: dict[str, _Found] = {}
        raw: dict[str, str] = {}
        for row in _each(told.getTables(None, space, None, ["TABLE"]), "TABLE_NAME"):
            raw[self._name(row[0])] = row[0]
            found[self._name(row[0])] = _Found()
        wanted = ("TABLE_NAME", "COLUMN_NAME", "TYPE_NAME", "IS_NULLABLE", "IS_AUTOINCREMENT")
        for table, column, kind, nullable, made in _each(
            told.getColumns(None, space, None, None), *wanted
        ):
            self._column(found, table, column, kind, nullable == "NO", made == "YES")
        for name, own in raw.items():
            one = found[name]
            for index, column, several, _ in sorted(
                _each(
                    told.getIndexInfo(None, space, own, False, True),
                    *("INDEX_NAME", "COLUMN_NAME", "NON_UNIQUE", "ORDINAL_POSITION"),
                ),
                key=lambda row: (row[0] or "", int(row[3])),
            ):
                if index and column:
                    unique = str(several).lower() in ("false", "0")
                    self._key(found, own, index, column, primary=False, unique=unique)
            primary = sorted(
                _each(told.getPrimaryKeys(None, space, own), "KEY_SEQ", "COLUMN_NAME"),
                key=lambda row: int(row[0]),
            )
            columns = [self._name(column) for _, column in primary]
            one.primary = next((key for key in one.unique if one.keys[key] == columns), one.primary)
            if columns and one.primary is None:
                one.primary, one.keys["primary key"] = "primary key", columns
            one.references = [
                self._name(row[0])
                for row in _each(told.getImportedKeys(None, space, own), "PKTABLE_NAME")
            ]
        return found

    def _column(
        self, found: dict[str, _Found], table: Any, column: Any, kind: str, filled: bool, made: bool
    ) -> None:
        one = found.get(self._name(table))
        if one is None:
            return
        name = self._name(column)
        one.columns[name] = kind
        if filled:
            one.filled.append(name)
        if made:
            one.made.append(name)

    def _key(
        self,
        found: dict[str, _Found],
        table: Any,
        key: str,
        column: Any,
        primary: bool,
        unique: bool,
    ) -> None:
        one = found.get(self._name(table))
        if one is None:
            return
        one.keys[key].append(self._name(column))
        if primary:
            one.primary = key
        if unique:
            one.unique.add(key)


def _keys(one: _Found, *, opaque: bool) -> TableKeys:
    primary = tuple(one.keys.get(one.primary or "", ()))
    unique = [tuple(one.keys[key]) for key in sorted(one.unique) if key != one.primary]
    kinds = {
        column: "integer" for column, kind in one.columns.items() if _INTEGERS.match(kind or "")
    }
    return TableKeys(
        primary=primary,
        unique=tuple(dict.fromkeys(unique)),
        references=tuple(dict.fromkeys(one.references)),
        indexes={key: tuple(columns) for key, columns in one.keys.items() if key != one.primary},
        triggers=one.triggers,
        opaque=opaque,
        checked=True,  # what a check may refuse is not known
        kinds=kinds,
        made=tuple(one.made),
        filled=tuple(one.filled),
    )


def _each(results: Any, *columns: str) -> list[tuple[Any, ...]]:
    found = []
    while results.next():
        values = (results.getString(name) for name in columns)
        found.append(tuple(None if one is None else str(one) for one in values))
    results.close()
    return found
