"""Names of tables in other databases of the same server: a table's number means something in its
own database only.

The lock table lists locks of all databases. A table of another one is read there, on a connection
that is closed again, once for each table; where the login may not connect, the table is unknown,
and is never guessed from a statement.
"""

from __future__ import annotations

import contextlib
from collections.abc import Collection, Iterable
from dataclasses import dataclass, field

import psycopg
from psycopg.conninfo import make_conninfo

from catenum.engines.clock import Clock

_NAMES = """
select c.oid, n.nspname, c.relname from pg_catalog.pg_class c
join pg_catalog.pg_namespace n on n.oid operator(pg_catalog.=) c.relnamespace
where c.oid operator(pg_catalog.=) any(%s::pg_catalog.oid[])
"""
#: A database that could not be asked is asked again after this time (ms).
AGAIN_MS = 10_000.0
#: Names that are remembered; beyond, all are read again.
MOST_NAMES = 10_000

Name = tuple[str, str]


@dataclass
class Elsewhere:
    """The tables of other databases, by the databases' names and the tables' numbers."""

    conninfo: str
    _names: dict[tuple[str, int], Name | None] = field(default_factory=dict)
    _closed: dict[str, float] = field(default_factory=dict)
    _clock: Clock = field(default_factory=Clock)

    def names(self, wanted: Iterable[tuple[str, int]]) -> dict[tuple[str, int], Name]:
        """Schema and table of each that could be read."""
        asked = set(wanted)
        if len(self._names) > MOST_NAMES:
            self._names.clear()
        for database in sorted({one for one, _ in asked}):
            fresh = [oid for one, oid in asked if one == database and (one, oid) not in self._names]
            if fresh and self._clock.now_ms() >= self._closed.get(database, 0.0):
                self._read(database, fresh)
        found = {one: self._names.get(one) for one in asked}
        return {one: name for one, name in found.items() if name is not None}

    def _read(self, database: str, oids: Collection[int]) -> None:
        try:
            with contextlib.closing(
                psycopg.connect(make_conninfo(self.conninfo, dbname=database), autocommit=True)
            ) as connection:
                connection.execute("set client_encoding = 'UTF8'")
                rows = connection.execute(_NAMES, [list(oids)]).fetchall()
        except (psycopg.Error, UnicodeDecodeError):
            self._closed[database] = self._clock.now_ms() + AGAIN_MS
            return
        self._names.update({(database, oid): None for oid in oids})
        self._names.update({(database, oid): (schema, table) for oid, schema, table in rows})
